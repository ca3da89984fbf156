-- +goose Up
-- Mailboxes that were taken out, as they were, while their mail is set aside.
CREATE TABLE mailbox_gone (
    name text PRIMARY KEY, -- under which its mail is set aside
    row  jsonb NOT NULL,   -- of mailbox
    who  text NOT NULL,
    at   timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE mailbox_gone;
