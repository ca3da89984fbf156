-- +goose Up

-- The directory: who has mail here. key is the address as it is looked up.
CREATE TABLE mailbox (
    key         text PRIMARY KEY,
    address     text NOT NULL,
    name        text NOT NULL,
    addresses   text[] NOT NULL,
    generated   text[] NOT NULL,
    quota       bigint NOT NULL,
    forward_to  text[] NOT NULL,
    keep_copy   boolean NOT NULL,
    may_submit  boolean NOT NULL,
    send_as     text[] NOT NULL,
    reply       jsonb,
    password    text NOT NULL DEFAULT '', -- argon2id
    scram       text NOT NULL DEFAULT ''  -- salt, rounds and keys of SCRAM-SHA-256
);
CREATE TABLE alias (
    key      text PRIMARY KEY,
    address  text NOT NULL,
    targets  text[] NOT NULL,
    about    text NOT NULL
);
-- How full mailboxes are, kept as letters come.
CREATE TABLE mailbox_use (
    mailbox text PRIMARY KEY,
    letters bigint NOT NULL,
    octets  bigint NOT NULL
);
INSERT INTO mailbox_use SELECT mailbox, count(*), sum(size) FROM mailbox_message GROUP BY mailbox;

-- To whom a mailbox answered by itself, and when last.
CREATE TABLE replied (
    mailbox text NOT NULL,
    sender  text NOT NULL,
    at      timestamptz NOT NULL,
    PRIMARY KEY (mailbox, sender)
);
CREATE INDEX replied_at ON replied (at);

-- Everything an administrator changed beyond the configuration's revisions.
CREATE TABLE change (
    id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at     timestamptz NOT NULL DEFAULT now(),
    who    text NOT NULL,
    what   text NOT NULL,
    name   text NOT NULL,
    before jsonb,
    after  jsonb
);
CREATE INDEX change_name ON change (what, name, id);

-- The one draft. version grows with every change.
CREATE TABLE config_draft (
    one        boolean PRIMARY KEY DEFAULT true CHECK (one),
    base       int NOT NULL,
    text       text NOT NULL,
    version    bigint NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE config_draft_change (
    id   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at   timestamptz NOT NULL DEFAULT now(),
    who  text NOT NULL,
    text text NOT NULL
);

ALTER TABLE config_revision
    ADD why text NOT NULL DEFAULT '',
    ADD forced boolean NOT NULL DEFAULT false,
    ADD reverts int NOT NULL DEFAULT 0, -- the revision it went back to
    ADD confirm_by timestamptz;         -- goes back by itself unless confirmed before

-- Passwords for others' servers, encrypted under the key file.
CREATE TABLE secret (
    name       text PRIMARY KEY,
    sealed     bytea NOT NULL,
    who        text NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now()
);

-- What accounts and clients sent under rules with limits, by hour.
CREATE TABLE sent_hour (
    rule       text NOT NULL,
    holder     text NOT NULL,
    hour       timestamptz NOT NULL,
    messages   bigint NOT NULL,
    recipients bigint NOT NULL,
    PRIMARY KEY (rule, holder, hour)
);
CREATE INDEX sent_hour_at ON sent_hour (hour);

-- +goose Down
DROP TABLE mailbox, alias, mailbox_use, replied, change, config_draft, config_draft_change, secret, sent_hour;
ALTER TABLE config_revision DROP why, DROP forced, DROP reverts, DROP confirm_by;
