-- +goose Up
-- Passkeys of people who administer (WebAuthn): what is public of them.
CREATE TABLE passkey (
    id         bytea PRIMARY KEY, -- the authenticator's
    account    text NOT NULL REFERENCES account (name) ON DELETE CASCADE,
    name       text NOT NULL,
    credential jsonb NOT NULL,
    made_at    timestamptz NOT NULL DEFAULT now(),
    last_at    timestamptz
);
CREATE INDEX passkey_account ON passkey (account);

-- Who somebody is at the provider of single sign-on; his passkeys know him by handle.
ALTER TABLE account ADD issuer text NOT NULL DEFAULT '', ADD subject text NOT NULL DEFAULT '',
    ADD handle bytea NOT NULL DEFAULT uuid_send(gen_random_uuid()) || uuid_send(gen_random_uuid());
CREATE UNIQUE INDEX account_subject ON account (issuer, subject) WHERE subject <> '';

-- How a session began: password, passkey, single sign-on.
ALTER TABLE sign_in ADD way text NOT NULL DEFAULT 'password';

-- What opens something once and was used, until it would have ended anyway.
CREATE TABLE spent (
    hash    bytea PRIMARY KEY,
    ends_at timestamptz NOT NULL
);

-- +goose Down
DROP TABLE spent;
ALTER TABLE sign_in DROP way;
DROP INDEX account_subject;
ALTER TABLE account DROP handle, DROP issuer, DROP subject;
DROP TABLE passkey;
