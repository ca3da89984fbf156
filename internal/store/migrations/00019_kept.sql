-- +goose Up
-- What people keep of how they look at things: saved views, the columns of tables, choices.
-- An owner of '' is everybody: a view that is shared.
CREATE TABLE kept (
	owner      text        NOT NULL,
	kind       text        NOT NULL,
	name       text        NOT NULL,
	value      jsonb       NOT NULL,
	who        text        NOT NULL,
	changed_at timestamptz NOT NULL DEFAULT now(),
	PRIMARY KEY (owner, kind, name)
);
