-- +goose Up
-- Domains to which somebody who administers is bounded; none is no bound.
ALTER TABLE account ADD domains text[] NOT NULL DEFAULT '{}';
ALTER TABLE token ADD domains text[] NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE account DROP domains;
ALTER TABLE token DROP domains;
