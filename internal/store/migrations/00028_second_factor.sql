-- +goose Up
-- A second factor of people who administer (RFC 6238): its secret encrypted under the key file,
-- whether it was confirmed, the last time step that was used, and hashes of recovery codes.
ALTER TABLE account ADD second bytea, ADD second_on boolean NOT NULL DEFAULT false,
    ADD second_step bigint NOT NULL DEFAULT 0, ADD recovery bytea[] NOT NULL DEFAULT '{}';

-- The link by which the first administrator is made, as a hash.
CREATE TABLE first_link (
    one     boolean PRIMARY KEY DEFAULT true CHECK (one),
    hash    bytea NOT NULL,
    ends_at timestamptz NOT NULL
);

-- +goose Down
DROP TABLE first_link;
ALTER TABLE account DROP second, DROP second_on, DROP second_step, DROP recovery;
