-- +goose Up
-- The trade's words in place of our own.

ALTER TABLE mailbox_use RENAME COLUMN letters TO messages;
ALTER TABLE session RENAME COLUMN messages TO message_count;
ALTER TABLE session RENAME COLUMN letters TO messages;
