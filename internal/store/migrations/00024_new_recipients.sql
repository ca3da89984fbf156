-- +goose Up
-- Of what a holder sent in an hour: to how many with whom it had not exchanged mail before.
ALTER TABLE sent_hour ADD fresh bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE sent_hour DROP fresh;
