-- +goose Up
-- Troubles: the same cause at the same place. At most one is open at a time.
CREATE TABLE snag (
    id          bigint PRIMARY KEY,
    cause       text NOT NULL,
    place_kind  text NOT NULL,
    place       text NOT NULL,
    closed      boolean NOT NULL DEFAULT false,
    since       timestamptz NOT NULL,
    last_at     timestamptz NOT NULL,
    closed_at   timestamptz,
    ended       text NOT NULL DEFAULT '',
    severity    smallint NOT NULL DEFAULT 1,
    held        bigint NOT NULL DEFAULT 0,
    lost        bigint NOT NULL DEFAULT 0,
    attempts    bigint NOT NULL DEFAULT 0,
    weight      bigint NOT NULL DEFAULT 0, -- held and lost
    holds_all   boolean NOT NULL,          -- of its lanes
    by_delivery boolean NOT NULL,          -- a letter that gets through ends it
    quiet       interval NOT NULL,         -- nothing seen for so long ends it
    senders     text[] NOT NULL DEFAULT '{}',
    domains     text[] NOT NULL DEFAULT '{}',
    lanes       bigint[] NOT NULL DEFAULT '{}',
    evidence    jsonb NOT NULL,
    part_of     bigint NOT NULL DEFAULT 0,
    parts       int NOT NULL DEFAULT 0,
    note        text NOT NULL DEFAULT '',
    note_by     text NOT NULL DEFAULT '',
    mine        text NOT NULL DEFAULT '',
    muted_until timestamptz NOT NULL DEFAULT 'epoch',
    alerted     smallint NOT NULL DEFAULT 0, -- severity that people were told of
    alerted_at  timestamptz NOT NULL DEFAULT 'epoch'
) WITH (fillfactor = 70);
CREATE UNIQUE INDEX snag_open ON snag (cause, place_kind, place) WHERE NOT closed;
CREATE INDEX snag_worst ON snag (severity DESC, weight DESC, id DESC) WHERE NOT closed;
CREATE INDEX snag_place ON snag (place_kind, place) WHERE NOT closed;
CREATE INDEX snag_closed ON snag (closed_at DESC, id DESC) WHERE closed;
CREATE INDEX snag_again ON snag (cause, place_kind, place, closed_at) WHERE closed;
CREATE INDEX snag_parts ON snag (part_of) WHERE part_of <> 0;
CREATE INDEX snag_all_clear ON snag (id) WHERE closed AND alerted > 0;
-- What people are still to be told.
CREATE TABLE alert (
    id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind   text NOT NULL, -- opened, worse, reminder, over
    target text NOT NULL, -- an address, or webhook
    at     timestamptz NOT NULL,
    due_at timestamptz NOT NULL,
    tries  int NOT NULL DEFAULT 0,
    snag   jsonb NOT NULL
);
CREATE INDEX alert_due ON alert (due_at);
CREATE TABLE snag_hour (
    snag bigint NOT NULL REFERENCES snag ON DELETE CASCADE,
    at   timestamptz NOT NULL,
    n    bigint NOT NULL,
    PRIMARY KEY (snag, at)
);

-- +goose Down
DROP TABLE alert, snag_hour, snag;
