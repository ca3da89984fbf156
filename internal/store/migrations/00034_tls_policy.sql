-- +goose Up
-- What domains say of mail to them (MTA-STS, RFC 8461), as it was fetched last, and how asking for
-- it went.
CREATE TABLE tls_policy (
    domain     text PRIMARY KEY,
    policy     jsonb,       -- null: none was ever had
    fetched_at timestamptz,
    ends_at    timestamptz, -- max_age behind that
    asked_at   timestamptz NOT NULL DEFAULT now(),
    fault      text NOT NULL DEFAULT '' -- of the last time
);

-- +goose Down
DROP TABLE tls_policy;
