-- +goose Up
-- What is held is looked through on its own, newest first.
CREATE INDEX delivery_held ON delivery (message_id DESC, n) WHERE state = 'held';

-- +goose Down
DROP INDEX delivery_held;
