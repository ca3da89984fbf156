-- +goose Up
-- Expand: how much of a place was used at a moment, by which is foretold when it is full.
CREATE TABLE room_seen (
    what text NOT NULL,                 -- the database, or a node and a directory
    at   timestamptz NOT NULL,          -- by the hour
    used bigint NOT NULL,
    free bigint NOT NULL,               -- 0 where it is not known
    PRIMARY KEY (what, at)
);

-- +goose Down
DROP TABLE room_seen;
