-- +goose Up
-- The gates that a message met, those that only watched among them, and the worst severity
-- of those that did not. Most messages meet none.
ALTER TABLE message
	ADD gates    text[],
	ADD severity smallint NOT NULL DEFAULT 0;
CREATE INDEX message_gates ON message USING gin (gates) WHERE gates IS NOT NULL;
CREATE INDEX message_severity ON message (severity, id) WHERE severity > 0;
ALTER TABLE refusal
	ADD gate     text NOT NULL DEFAULT '',
	ADD severity smallint NOT NULL DEFAULT 0;
CREATE INDEX refusal_gate ON refusal (gate, id) WHERE gate <> '';
CREATE INDEX refusal_severity ON refusal (severity, id) WHERE severity > 0;

-- The last good copy of what lists read from their sources.
CREATE TABLE list_copy (
	list       text PRIMARY KEY,
	source     text        NOT NULL,
	entries    text[]      NOT NULL,
	read_at    timestamptz NOT NULL, -- when this copy was read
	looked_at  timestamptz NOT NULL, -- when it was looked at last
	hash       text        NOT NULL, -- of the text
	skipped    int         NOT NULL, -- lines that are no entries
	trouble    text        NOT NULL, -- why the last look brought nothing; '' if it did
	trouble_at timestamptz           -- since when
);

-- +goose Down
DROP TABLE list_copy;
DROP INDEX refusal_gate, refusal_severity, message_gates, message_severity;
ALTER TABLE refusal DROP gate, DROP severity;
ALTER TABLE message DROP gates, DROP severity;
