-- +goose Up
-- What a commit adds to the counts is written with it, and so are the words of the messages
-- that it enters: nothing is read again to be counted. Rows of kinds without sums are
-- counted from the tables, as before.
ALTER TABLE count_log ADD sums bytea, ADD words text[];

-- Content once: a message in a mailbox refers to the content of the message. What lies in
-- a mailbox when a day's content is forgotten is kept here.
CREATE TABLE kept_content (
    message_id bigint NOT NULL,
    seq        int NOT NULL,
    data       bytea NOT NULL,
    PRIMARY KEY (message_id, seq)
);
INSERT INTO kept_content SELECT DISTINCT ON (id, seq) id, seq, data FROM mailbox_content b
    WHERE NOT EXISTS (SELECT FROM content c WHERE c.message_id = b.id);
DROP TABLE mailbox_content;
CREATE INDEX mailbox_message_id ON mailbox_message USING brin (id) WITH (pages_per_range = 16, autosummarize = on);

-- What is put into mailboxes, appended, so that nobody waits for another who puts
-- something into the same mailbox. It is gathered into mailbox_use.
CREATE TABLE mailbox_delta (
    mailbox  text NOT NULL,
    messages bigint NOT NULL,
    octets   bigint NOT NULL
);
