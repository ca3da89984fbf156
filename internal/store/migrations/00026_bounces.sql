-- +goose Up
-- Of what a holder sent, under whatever rule (rule is empty): how many recipients' deliveries
-- ended in an hour, and how many of them bounced.
ALTER TABLE sent_hour ADD ended bigint NOT NULL DEFAULT 0, ADD bounced bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE sent_hour DROP ended, DROP bounced;
