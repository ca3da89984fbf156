-- +goose Up
-- Changes of records at DNS servers that we made, so that each can be taken back.
CREATE TABLE dns_change (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at       timestamptz NOT NULL DEFAULT now(),
    who      text NOT NULL,
    domain   text NOT NULL, -- of ours, for which it was made
    why      text NOT NULL DEFAULT '',
    server   text NOT NULL,
    zone     text NOT NULL,
    change   jsonb NOT NULL, -- name, type, before, after
    ttl      integer NOT NULL,
    back_at  timestamptz,    -- when it was taken back
    back_who text NOT NULL DEFAULT ''
);

-- +goose Down
DROP TABLE dns_change;
