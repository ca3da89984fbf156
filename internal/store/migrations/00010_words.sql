-- +goose Up
-- The trade's words in place of our own.

ALTER TABLE mailbox_use RENAME COLUMN letters TO messages;
ALTER TABLE session RENAME COLUMN messages TO message_count;
ALTER TABLE session RENAME COLUMN letters TO messages;
ALTER TABLE session RENAME COLUMN dialogue TO transcript_kept;
ALTER TABLE secret RENAME COLUMN sealed TO encrypted;
ALTER TABLE dkim_key RENAME COLUMN sealed TO encrypted;
ALTER TABLE snag RENAME COLUMN held TO waiting;
ALTER TABLE snag RENAME COLUMN lost TO failed;
ALTER TABLE delivery RENAME COLUMN first_try_at TO first_attempt_at;
ALTER TABLE delivery RENAME COLUMN last_try_at TO last_attempt_at;
ALTER TABLE delivery_done RENAME COLUMN first_try_at TO first_attempt_at;
ALTER TABLE delivery_done RENAME COLUMN last_try_at TO last_attempt_at;
ALTER TABLE lane_minute RENAME COLUMN came TO received;
ALTER TABLE lane_minute RENAME COLUMN gone TO finished;
ALTER TABLE lane_rest RENAME TO lane_back_off;
