-- +goose Up
-- Sessions of people on the page of their own mailbox.
CREATE TABLE box_sign_in (
    hash       bytea PRIMARY KEY,
    mailbox    text NOT NULL, -- key
    expires_at timestamptz NOT NULL
);
CREATE INDEX box_sign_in_mailbox ON box_sign_in (mailbox);

-- +goose Down
DROP TABLE box_sign_in;
