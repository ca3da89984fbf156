-- +goose Up
-- When a lane last got mail: what nobody uses and no history names is forgotten.
ALTER TABLE lane ADD COLUMN seen_on date NOT NULL DEFAULT current_date;
CREATE INDEX lane_seen ON lane (seen_on);
-- Which accounts signed in from which addresses: others' guesses don't keep them out.
CREATE TABLE signin_proof (
    account text NOT NULL, -- a mailbox, or "operator " and a name
    client  text NOT NULL,
    seen_on date NOT NULL DEFAULT current_date,
    PRIMARY KEY (account, client)
);
CREATE INDEX signin_proof_seen ON signin_proof (seen_on);
-- Values that all nodes share and that outlive them.
CREATE TABLE shared_value (
    name  text PRIMARY KEY,
    value bytea NOT NULL
);
-- What a revision changed in the directory, to go back from it.
CREATE TABLE directory_undo (
    revision int NOT NULL,
    kind     text NOT NULL, -- mailbox or alias
    key      text NOT NULL,
    before   jsonb, -- null if it was not there
    after    jsonb,
    PRIMARY KEY (revision, kind, key)
);

-- +goose Down
DROP TABLE directory_undo;
DROP TABLE signin_proof, shared_value;
DROP INDEX lane_seen;
ALTER TABLE lane DROP COLUMN seen_on;
