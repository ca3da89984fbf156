-- +goose Up
-- What somebody did about a trouble last: it is being checked until it ends or is met again.
ALTER TABLE snag ADD fix text NOT NULL DEFAULT '', ADD fixed_at timestamptz NOT NULL DEFAULT '0001-01-01';
