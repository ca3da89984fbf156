-- +goose Up
-- When people were told by mail what is held for them: one node does it.
CREATE TABLE digest_sent (
	slot timestamptz PRIMARY KEY,
	at   timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE digest_sent;
