-- +goose Up
-- Who came and was asked to come again (RFC 6647), and who has passed. Shared by all nodes.
CREATE TABLE greylist (
	network   text        NOT NULL,
	sender    text        NOT NULL,
	recipient text        NOT NULL,
	first_at  timestamptz NOT NULL DEFAULT now(),
	last_at   timestamptz NOT NULL DEFAULT now(),
	tries     int         NOT NULL DEFAULT 1,
	passed    boolean     NOT NULL DEFAULT false,
	PRIMARY KEY (network, sender, recipient)
);
CREATE INDEX greylist_last ON greylist (last_at);

-- Who people spare or refuse, for a time or for good, besides the configuration.
CREATE TABLE standing (
	kind  text        NOT NULL, -- network, sender or recipient
	value text        NOT NULL,
	says  text        NOT NULL, -- allow or deny
	until timestamptz,          -- NULL is for good
	who   text        NOT NULL,
	why   text        NOT NULL,
	since timestamptz NOT NULL DEFAULT now(),
	PRIMARY KEY (kind, value)
);

-- What was made of a stranger's message; NULL where nobody was weighed.
ALTER TABLE message ADD score smallint;
CREATE INDEX message_score ON message (score, id) WHERE score > 0;

-- +goose Down
DROP INDEX message_score;
ALTER TABLE message DROP score;
DROP TABLE standing, greylist;
