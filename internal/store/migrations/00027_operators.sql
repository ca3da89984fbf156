-- +goose Up
-- People who administer: four roles, since when, and what they did last.
ALTER TABLE account DROP CONSTRAINT account_role_check,
    ADD CONSTRAINT account_role_check CHECK (role IN ('administrator', 'operator', 'auditor', 'viewer')),
    ADD about text NOT NULL DEFAULT '',
    ADD off boolean NOT NULL DEFAULT false,
    ADD must_change boolean NOT NULL DEFAULT false,
    ADD made_at timestamptz NOT NULL DEFAULT now(),
    ADD made_by text NOT NULL DEFAULT 'gull serve --setup',
    ADD password_at timestamptz NOT NULL DEFAULT now(),
    ADD last_at timestamptz,
    ADD last_from text NOT NULL DEFAULT '';

ALTER TABLE token DROP CONSTRAINT token_role_check,
    ADD CONSTRAINT token_role_check CHECK (role IN ('administrator', 'operator', 'auditor', 'viewer')),
    ADD id bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    ADD about text NOT NULL DEFAULT '',
    ADD made_by text NOT NULL DEFAULT 'gull serve --setup',
    ADD ends_at timestamptz,
    ADD last_at timestamptz,
    ADD last_from text NOT NULL DEFAULT '';

ALTER TABLE sign_in
    ADD id bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    ADD made_at timestamptz NOT NULL DEFAULT now(),
    ADD last_at timestamptz NOT NULL DEFAULT now(),
    ADD client text NOT NULL DEFAULT '',
    ADD program text NOT NULL DEFAULT '';
CREATE INDEX sign_in_account ON sign_in (account, made_at);

-- Who did what. link is the hash of the entry and of the link before it: what is changed or
-- taken out in the middle is noticed.
CREATE TABLE audit (
    id     bigint PRIMARY KEY,
    at     timestamptz NOT NULL,
    who    text NOT NULL,
    role   text NOT NULL,
    client text NOT NULL,
    action text NOT NULL,
    target text NOT NULL,
    status int NOT NULL,
    why    text NOT NULL,
    detail text NOT NULL, -- JSON, as it was hashed
    before bytea NOT NULL,
    link   bytea NOT NULL
);
CREATE INDEX audit_at ON audit (at);
CREATE INDEX audit_who ON audit (who, id);
CREATE INDEX audit_action ON audit (action, id);

-- +goose Down
DROP TABLE audit;
DROP INDEX sign_in_account;
ALTER TABLE sign_in DROP id, DROP made_at, DROP last_at, DROP client, DROP program;
DELETE FROM token WHERE role NOT IN ('administrator', 'viewer');
ALTER TABLE token DROP id, DROP about, DROP made_by, DROP ends_at, DROP last_at, DROP last_from,
    DROP CONSTRAINT token_role_check, ADD CONSTRAINT token_role_check CHECK (role IN ('administrator', 'viewer'));
DELETE FROM account WHERE role NOT IN ('administrator', 'viewer');
ALTER TABLE account DROP about, DROP off, DROP must_change, DROP made_at, DROP made_by, DROP password_at,
    DROP last_at, DROP last_from, DROP CONSTRAINT account_role_check,
    ADD CONSTRAINT account_role_check CHECK (role IN ('administrator', 'viewer'));
