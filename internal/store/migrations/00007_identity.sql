-- +goose Up
-- What was found of who a letter is from; null where nobody asked.
ALTER TABLE message ADD COLUMN identity jsonb;
-- Keys that sign letters.
CREATE TABLE dkim_key (
    domain     text NOT NULL,
    selector   text NOT NULL,
    algorithm  text NOT NULL,
    record     text NOT NULL, -- that publishes it
    sealed     bytea NOT NULL,
    state      text NOT NULL DEFAULT 'made', -- made, published, signing, retired
    takes_over boolean NOT NULL DEFAULT false, -- signs by itself once it was published for overlap
    overlap    interval NOT NULL DEFAULT '1 hour',
    fault      text NOT NULL DEFAULT '', -- what DNS shows in its place
    who        text NOT NULL,
    made_at    timestamptz NOT NULL DEFAULT now(),
    checked_at timestamptz,
    seen_at    timestamptz, -- in DNS, without a break since
    signing_at timestamptz,
    retired_at timestamptz,
    PRIMARY KEY (domain, selector)
);
-- How ready our domains are: the last look, and what changed.
CREATE TABLE readiness (
    domain text PRIMARY KEY,
    at     timestamptz NOT NULL,
    report jsonb NOT NULL,
    passed text[] NOT NULL DEFAULT '{}' -- points that were right at some time
);
CREATE TABLE readiness_change (
    id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    domain text NOT NULL,
    at     timestamptz NOT NULL,
    change jsonb NOT NULL
);
CREATE INDEX readiness_change_domain ON readiness_change (domain, id DESC);
-- Weaknesses that somebody decided to live with.
CREATE TABLE accepted (
    key     text PRIMARY KEY,
    who     text NOT NULL,
    at      timestamptz NOT NULL DEFAULT now(),
    because text NOT NULL
);

-- +goose Down
DROP TABLE accepted;
DROP TABLE readiness, readiness_change;
DROP TABLE dkim_key;
ALTER TABLE message DROP COLUMN identity;
