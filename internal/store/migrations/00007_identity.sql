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

-- +goose Down
DROP TABLE dkim_key;
ALTER TABLE message DROP COLUMN identity;
