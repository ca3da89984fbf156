-- +goose Up

-- Part of PostgreSQL's own distribution; the owner of a database may add it.
CREATE EXTENSION IF NOT EXISTS pg_trgm;

-- Who handed a message over: in from the world, out from our people and
-- machines, own made here (a notice, an automatic reply, a report).
ALTER TABLE message ADD direction text NOT NULL DEFAULT 'in';
UPDATE message SET direction = 'own' WHERE protocol IN ('notice', 'reply');

-- What people search by, each newest first.
CREATE INDEX message_client ON message ((nullif(client_address, '')::inet), id) WHERE client_address <> '';
CREATE INDEX message_sender_domain ON message (split_part(lower(sender), '@', -1), id);
CREATE INDEX message_header ON message USING hash (message_id);
CREATE INDEX delivery_done_domain ON delivery_done (split_part(lower(recipient), '@', -1), message_id);
CREATE INDEX delivery_done_meant ON delivery_done (split_part(lower(original), '@', -1), message_id) WHERE lower(original) <> lower(recipient);
CREATE INDEX delivery_done_cause ON delivery_done (cause, message_id) WHERE cause <> '';
CREATE INDEX event_deferred ON event (at) WHERE kind = 'deferred';

-- Words of letters and refusals for a search by a part of them. Written behind
-- the mail, with the counts: what is still to be counted is looked at itself.
CREATE TABLE find_text (
    id    bigint PRIMARY KEY,
    words text NOT NULL
) PARTITION BY RANGE (id);
CREATE INDEX find_text_words ON find_text USING gin (words gin_trgm_ops);

-- One SMTP or LMTP session, in or out. Written when it has ended.
CREATE TABLE session (
    id         bigint PRIMARY KEY,
    node       text NOT NULL,
    direction  text NOT NULL, -- in, out
    protocol   text NOT NULL, -- SMTP, LMTP
    place      text NOT NULL, -- listener or route
    address    text NOT NULL,
    port       int NOT NULL,
    name       text NOT NULL, -- what the client called itself; the host we went to
    account    text NOT NULL,
    tls        text NOT NULL,
    started_at timestamptz NOT NULL,
    ended_at   timestamptz NOT NULL,
    messages   int NOT NULL,
    recipients int NOT NULL,
    refused    int NOT NULL,
    bytes_in   bigint NOT NULL,
    bytes_out  bigint NOT NULL,
    outcome    text NOT NULL,
    ended      text NOT NULL, -- why, in words
    letters    bigint[] NOT NULL, -- the first of its messages
    dialogue   boolean NOT NULL
) PARTITION BY RANGE (id);
CREATE INDEX session_address ON session ((nullif(address, '')::inet), id) WHERE address <> '';
CREATE INDEX session_place ON session (direction, place, id);
CREATE INDEX session_name ON session (lower(name), id);
CREATE INDEX session_trouble ON session (outcome, id) WHERE outcome NOT IN ('passed', 'idle');

-- The dialogue of a session (internal/core/dialogue), compressed.
CREATE TABLE transcript (
    session_id bigint PRIMARY KEY,
    data       bytea NOT NULL
) PARTITION BY RANGE (session_id);

-- What was refused before it had a message of its own: one row a recipient, or a
-- row for what never got that far.
CREATE TABLE refusal (
    id             bigint PRIMARY KEY,
    at             timestamptz NOT NULL,
    session_id     bigint NOT NULL,
    node           text NOT NULL,
    listener       text NOT NULL,
    client_address text NOT NULL,
    helo           text NOT NULL,
    account        text NOT NULL,
    sender         text NOT NULL,
    recipient      text NOT NULL,
    stage          text NOT NULL,
    code           int NOT NULL,
    enhanced       text NOT NULL,
    text           text NOT NULL,
    cause          text NOT NULL,
    rule           text NOT NULL,
    revision       int NOT NULL,
    size           bigint NOT NULL,
    subject        text NOT NULL,
    header_from    text NOT NULL,
    message_id     text NOT NULL
) PARTITION BY RANGE (id);
CREATE INDEX refusal_client ON refusal ((nullif(client_address, '')::inet), id) WHERE client_address <> '';
CREATE INDEX refusal_sender ON refusal (lower(sender), id);
CREATE INDEX refusal_recipient ON refusal (lower(recipient), id);
CREATE INDEX refusal_sender_domain ON refusal (split_part(lower(sender), '@', -1), id);
CREATE INDEX refusal_domain ON refusal (split_part(lower(recipient), '@', -1), id);
CREATE INDEX refusal_cause ON refusal (cause, id);

-- What is to be counted: the keys of rows, written in the transaction that wrote
-- or moved the rows, and counted from the rows themselves a moment later. So a
-- count is neither lost nor made twice.
CREATE TABLE count_log (
    seq  bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind smallint NOT NULL, -- 1 received, 2 ended, 3 deferred, 4 refused
    ids  bigint[] NOT NULL,
    ns   smallint[],
    ats  timestamptz[]
);

-- Counts by hour, day and week (UTC), of everything a report is asked by.
CREATE TABLE count_sum (
    tier      text COLLATE "C" NOT NULL, -- hour, day, week
    at        timestamptz NOT NULL,
    dim       text COLLATE "C" NOT NULL,
    value     text COLLATE "C" NOT NULL,
    kind      text COLLATE "C" NOT NULL,
    n         bigint NOT NULL,
    bytes     bigint NOT NULL,
    delay     bigint NOT NULL, -- sum, in milliseconds
    delay_max bigint NOT NULL,
    PRIMARY KEY (dim, tier, at, kind, value)
) WITH (fillfactor = 80);
CREATE INDEX count_sum_value ON count_sum (dim, value, at) WHERE tier = 'hour';
INSERT INTO count_sum SELECT 'hour', hour, 'total', '', kind, n, bytes, 0, 0 FROM count_hour;
INSERT INTO count_sum SELECT 'day', date_trunc('day', at, 'UTC'), dim, value, kind, sum(n), sum(bytes), 0, 0 FROM count_sum GROUP BY 2, 3, 4, 5;
INSERT INTO count_sum SELECT 'week', date_trunc('week', at, 'UTC'), dim, value, kind, sum(n), sum(bytes), 0, 0 FROM count_sum WHERE tier = 'hour' GROUP BY 2, 3, 4, 5;
DROP TABLE count_hour;

-- Whose sessions are recorded in full for a while, whatever the settings say.
CREATE TABLE watch (
    kind  text NOT NULL, -- client, domain
    what  text NOT NULL,
    who   text NOT NULL,
    until timestamptz NOT NULL,
    PRIMARY KEY (kind, what)
);

-- Daily reports that were sent: one node sends each.
CREATE TABLE report_sent (
    day date PRIMARY KEY,
    at  timestamptz NOT NULL DEFAULT now(),
    id  bigint NOT NULL DEFAULT 0
);

-- Opened log archives. Blocks hold the lines as they came, compressed anew.
CREATE TABLE archive (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hash      bytea NOT NULL,
    name      text NOT NULL,
    who       text NOT NULL,
    opened_at timestamptz NOT NULL DEFAULT now(),
    used_at   timestamptz NOT NULL DEFAULT now(),
    ready     boolean NOT NULL DEFAULT false,
    octets    bigint NOT NULL DEFAULT 0, -- uncompressed
    lines     bigint NOT NULL DEFAULT 0,
    damaged   bigint NOT NULL DEFAULT 0,
    faults    jsonb NOT NULL DEFAULT '[]',
    about     jsonb NOT NULL DEFAULT '{}'
);
CREATE UNIQUE INDEX archive_hash ON archive (hash) WHERE ready;
CREATE TABLE archive_block (
    archive  bigint NOT NULL REFERENCES archive ON DELETE CASCADE,
    seq      int NOT NULL,
    kind     text NOT NULL, -- letters, refusals, sessions
    first_id bigint NOT NULL,
    last_id  bigint NOT NULL,
    data     bytea NOT NULL,
    PRIMARY KEY (archive, kind, seq)
);
-- Counts of a day, by dimension; a day may have several.
CREATE TABLE archive_sums (
    archive bigint NOT NULL REFERENCES archive ON DELETE CASCADE,
    dim     text NOT NULL,
    day     date NOT NULL,
    data    bytea NOT NULL
);
CREATE INDEX archive_sums_dim ON archive_sums (archive, dim, day);

-- +goose Down
DROP TABLE find_text, session, transcript, refusal, count_log, count_sum, watch, report_sent, archive, archive_block, archive_sums CASCADE;
