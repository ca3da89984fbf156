-- +goose Up
-- What senders ask of everybody who passes a message on: REQUIRETLS, MT-PRIORITY, DELIVERBY.
ALTER TABLE message ADD COLUMN asked text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE message DROP COLUMN asked;
