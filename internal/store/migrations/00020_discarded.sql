-- +goose Up
-- The draft that was discarded last, to be taken back.
CREATE TABLE config_draft_discarded (
	one  boolean PRIMARY KEY DEFAULT true CHECK (one),
	base integer NOT NULL,
	text text NOT NULL,
	who  text NOT NULL,
	at   timestamptz NOT NULL DEFAULT now()
);
