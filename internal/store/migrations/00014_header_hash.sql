-- +goose Up
-- A hash index keeps what has the same value in a chain of pages, which each new entry walks
-- to its end: a sender who gives all messages one Message-ID makes each slower than the one
-- before. A tree of hashes goes by the message's own id as well.
DROP INDEX message_header;
CREATE INDEX message_header ON message (hashtextextended(message_id, 0), id);
