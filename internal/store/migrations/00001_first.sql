-- +goose Up

-- A running service. Its id is what leases carry; a restart is a new row.
CREATE TABLE node (
    id         int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL,
    started_at timestamptz NOT NULL DEFAULT now(),
    seen_at    timestamptz NOT NULL DEFAULT now(),
    gone       boolean NOT NULL DEFAULT false
);

CREATE TABLE lane (
    id       bigint PRIMARY KEY,
    route    text NOT NULL,
    next_hop text NOT NULL
);

-- Ids grow with time, so a range of ids is a day (internal/core/ident).
CREATE TABLE message (
    id             bigint PRIMARY KEY,
    received_at    timestamptz NOT NULL,
    sender         text NOT NULL,
    header_from    text NOT NULL,
    subject        text NOT NULL,
    message_id     text NOT NULL,
    size           bigint NOT NULL,
    listener       text NOT NULL,
    client_address text NOT NULL,
    helo           text NOT NULL,
    account        text NOT NULL,
    session_id     bigint NOT NULL,
    revision       int NOT NULL,
    protocol       text NOT NULL,
    hops           int NOT NULL,
    utf8           boolean NOT NULL,
    eight_bit      boolean NOT NULL,
    ret            text NOT NULL,
    env_id         text NOT NULL,
    notice_of      bigint NOT NULL
) PARTITION BY RANGE (id);
CREATE INDEX message_sender ON message (lower(sender), id);
CREATE INDEX message_notice ON message (notice_of) WHERE notice_of <> 0;

-- Content in pieces, so that it can be streamed in both directions. Rows of
-- usual letters stay in the page: no detour through a side table.
CREATE TABLE content (
    message_id bigint NOT NULL,
    seq        int NOT NULL,
    data       bytea NOT NULL,
    PRIMARY KEY (message_id, seq)
) PARTITION BY RANGE (message_id);

-- The queue: only what is not finished. lease is the node that works on the
-- row; a row without a lease is due at due_at.
CREATE TABLE delivery (
    message_id   bigint NOT NULL,
    n            smallint NOT NULL,
    recipient    text NOT NULL,
    original     text NOT NULL,
    via          text NOT NULL, -- one alias a line
    orcpt        text NOT NULL,
    notify       smallint NOT NULL,
    state        text NOT NULL,
    lane         bigint NOT NULL,
    rule         text NOT NULL,
    route_why    text NOT NULL,
    revision     int NOT NULL,
    attempts     int NOT NULL DEFAULT 0,
    first_try_at timestamptz,
    last_try_at  timestamptz,
    due_at       timestamptz NOT NULL,
    expires_at   timestamptz NOT NULL,
    lease        int,
    size         bigint NOT NULL,
    reply        jsonb,
    cause        text NOT NULL DEFAULT '',
    PRIMARY KEY (message_id, n)
) WITH (fillfactor = 80, autovacuum_vacuum_scale_factor = 0.05, autovacuum_vacuum_threshold = 2000);
-- lease is in no index, so that leasing a row rewrites no index entry.
CREATE INDEX delivery_due ON delivery (lane, due_at);
CREATE INDEX delivery_recipient ON delivery (lower(recipient), message_id);
CREATE INDEX delivery_original ON delivery (lower(original), message_id) WHERE lower(original) <> lower(recipient);

-- Finished deliveries.
CREATE TABLE delivery_done (
    message_id   bigint NOT NULL,
    n            smallint NOT NULL,
    recipient    text NOT NULL,
    original     text NOT NULL,
    via          text NOT NULL, -- one alias a line
    orcpt        text NOT NULL,
    notify       smallint NOT NULL,
    state        text NOT NULL,
    lane         bigint NOT NULL,
    rule         text NOT NULL,
    route_why    text NOT NULL,
    revision     int NOT NULL,
    attempts     int NOT NULL,
    first_try_at timestamptz,
    last_try_at  timestamptz,
    expires_at   timestamptz NOT NULL,
    finished_at  timestamptz NOT NULL,
    reply        jsonb,
    cause        text NOT NULL,
    PRIMARY KEY (message_id, n)
) PARTITION BY RANGE (message_id);
CREATE INDEX delivery_done_recipient ON delivery_done (lower(recipient), message_id);
CREATE INDEX delivery_done_original ON delivery_done (lower(original), message_id) WHERE lower(original) <> lower(recipient);
CREATE INDEX delivery_done_state ON delivery_done (state, message_id) WHERE state <> 'delivered';

-- What happened to a message beyond what its rows above tell.
CREATE TABLE event (
    message_id bigint NOT NULL,
    n          smallint NOT NULL,
    at         timestamptz NOT NULL,
    kind       text NOT NULL,
    node       text NOT NULL,
    text       text NOT NULL,
    detail     jsonb
) PARTITION BY RANGE (message_id);
CREATE INDEX event_message ON event (message_id, at);

CREATE TABLE mailbox_message (
    mailbox     text NOT NULL,
    id          bigint NOT NULL,
    sender      text NOT NULL,
    subject     text NOT NULL,
    received_at timestamptz NOT NULL,
    size        bigint NOT NULL,
    head        bytea NOT NULL,
    PRIMARY KEY (mailbox, id)
);
CREATE TABLE mailbox_content (
    mailbox text NOT NULL,
    id      bigint NOT NULL,
    seq     int NOT NULL,
    data    bytea NOT NULL,
    PRIMARY KEY (mailbox, id, seq)
);

CREATE TABLE account (
    name     text PRIMARY KEY,
    role     text NOT NULL CHECK (role IN ('administrator', 'viewer')),
    password text NOT NULL
);
CREATE TABLE token (
    hash       bytea PRIMARY KEY,
    name       text NOT NULL,
    role       text NOT NULL CHECK (role IN ('administrator', 'viewer')),
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE sign_in (
    hash       bytea PRIMARY KEY,
    account    text NOT NULL REFERENCES account ON DELETE CASCADE,
    expires_at timestamptz NOT NULL
);

CREATE TABLE config_revision (
    number     int PRIMARY KEY,
    applied_at timestamptz NOT NULL DEFAULT now(),
    who        text NOT NULL,
    text       text NOT NULL
);

CREATE TABLE count_hour (
    hour  timestamptz NOT NULL,
    kind  text NOT NULL,
    n     bigint NOT NULL,
    bytes bigint NOT NULL,
    PRIMARY KEY (hour, kind)
);

-- +goose Down
DROP TABLE node, lane, message, content, delivery, delivery_done, event, mailbox_message, mailbox_content,
    account, token, sign_in, config_revision, count_hour CASCADE;
