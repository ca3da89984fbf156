-- +goose Up
-- Certificates that are kept, each time they were made or uploaded. The one that is shown is the
-- latest whose time has come.
CREATE TABLE certificate (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name      text NOT NULL,  -- in the configuration
    chain     text NOT NULL,  -- PEM
    key       bytea NOT NULL, -- PEM, encrypted
    made_at   timestamptz NOT NULL DEFAULT now(),
    who       text NOT NULL,
    info      jsonb NOT NULL, -- names, from, until, issuer, pin
    active_at timestamptz NOT NULL
);
CREATE INDEX certificate_active ON certificate (name, active_at DESC);

-- How asking for each went.
CREATE TABLE certificate_try (
    name     text PRIMARY KEY,
    tried_at timestamptz NOT NULL,
    next_at  timestamptz NOT NULL, -- not before that
    failures integer NOT NULL,     -- in a row
    fault    text NOT NULL
);

-- Our accounts at authorities.
CREATE TABLE authority_account (
    directory text PRIMARY KEY,
    key       bytea NOT NULL -- PEM, encrypted
);

-- Proofs that names are ours, while the authority looks: any node shows them.
CREATE TABLE certificate_proof (
    kind    text NOT NULL, -- http or tls
    name    text NOT NULL, -- token, or host
    value   text NOT NULL, -- response, or certificate
    key     text NOT NULL DEFAULT '', -- of that certificate, which lives for minutes
    made_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (kind, name)
);

-- +goose Down
DROP TABLE certificate, certificate_try, authority_account, certificate_proof;
