-- +goose Up

-- What people read. A mailbox has folders; a message that has just come lies in none and
-- belongs to the inbox: it gets its folder and number when somebody looks, in the order of
-- commits. So delivery writes what it always wrote, and waits for no reader.
CREATE TABLE folder (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, -- its UIDVALIDITY too: never used again
    mailbox    text NOT NULL,
    name       text NOT NULL, -- levels with a slash between
    use        text NOT NULL DEFAULT '', -- RFC 6154: sent, drafts, trash, junk, archive
    subscribed boolean NOT NULL DEFAULT true,
    uid_next   bigint NOT NULL DEFAULT 1,
    mod_seq    bigint NOT NULL DEFAULT 1,
    -- Kept with each change, under the row's lock:
    messages   bigint NOT NULL DEFAULT 0,
    octets     bigint NOT NULL DEFAULT 0,
    unseen     bigint NOT NULL DEFAULT 0,
    deleted    bigint NOT NULL DEFAULT 0,
    opened     boolean NOT NULL DEFAULT false, -- by a program that may search it
    words_to   bigint NOT NULL DEFAULT 0, -- messages up to this number can be searched by their text
    UNIQUE (mailbox, name)
);

ALTER TABLE mailbox_message
    ADD folder   bigint,  -- null: it has just come
    ADD uid      bigint,
    ADD mod_seq  bigint,
    ADD flags    int NOT NULL DEFAULT 0, -- bits, see core/folder
    ADD keywords text[] NOT NULL DEFAULT '{}',
    ADD content  bigint,  -- the message whose content it has; null: its own
    ADD plain    boolean NOT NULL DEFAULT false, -- put there by its reader: no Return-Path before it
    ADD filed_at timestamptz; -- when it came into its folder; null: when it came
CREATE INDEX mailbox_message_fresh ON mailbox_message (mailbox) WHERE folder IS NULL;
CREATE UNIQUE INDEX mailbox_message_uid ON mailbox_message (folder, uid) WHERE folder IS NOT NULL;
CREATE INDEX mailbox_message_changed ON mailbox_message (folder, mod_seq) WHERE folder IS NOT NULL;
CREATE INDEX mailbox_message_copies ON mailbox_message (content) WHERE content IS NOT NULL;

-- What left folders, for those who have them open.
CREATE TABLE folder_gone (
    folder  bigint NOT NULL,
    mod_seq bigint NOT NULL,
    uid     bigint NOT NULL,
    at      timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (folder, mod_seq, uid)
);
CREATE INDEX folder_gone_at ON folder_gone (at);

-- Content that a mailbox refers to no more: looked at, and dropped if nothing else does.
CREATE TABLE content_loose (
    message_id bigint NOT NULL,
    at         timestamptz NOT NULL DEFAULT now()
);

-- The text of messages in mailboxes that are searched, in lower case.
CREATE TABLE content_text (
    content  bigint PRIMARY KEY,
    from_    text NOT NULL,
    to_      text NOT NULL,
    cc       text NOT NULL,
    header   text NOT NULL, -- each field in one line: "name:value"
    body     text NOT NULL,
    sent_on  date,
    cut      boolean NOT NULL -- there is more than is kept here
);

-- When people last signed in to read or send, by protocol.
CREATE TABLE mailbox_used (
    mailbox  text NOT NULL, -- key
    protocol text NOT NULL,
    at       timestamptz NOT NULL,
    client   text NOT NULL,
    PRIMARY KEY (mailbox, protocol)
);

-- Passwords for one program each; only their hash is kept.
CREATE TABLE app_password (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    mailbox    text NOT NULL, -- key
    name       text NOT NULL,
    hash       bytea NOT NULL UNIQUE,
    who        text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    used_at    timestamptz,
    used_by    text NOT NULL DEFAULT '', -- protocol
    client     text NOT NULL DEFAULT '',
    UNIQUE (mailbox, name)
);

ALTER TABLE mailbox ADD reading jsonb;

-- +goose Down
ALTER TABLE mailbox DROP reading;
DROP TABLE folder, folder_gone, content_loose, content_text, mailbox_used, app_password;
ALTER TABLE mailbox_message DROP folder, DROP uid, DROP mod_seq, DROP flags, DROP keywords, DROP content,
    DROP plain, DROP filed_at;
