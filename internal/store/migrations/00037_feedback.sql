-- +goose Up
-- What other servers report of us, each report once.
CREATE TABLE feedback_report (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind        text NOT NULL,          -- dmarc or tls
    reporter    text NOT NULL,
    report      text NOT NULL,          -- its id there
    domain      text NOT NULL,
    from_at     timestamptz NOT NULL,
    until_at    timestamptz NOT NULL,
    received_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (kind, reporter, report, domain)
);
CREATE INDEX feedback_report_domain ON feedback_report (domain, from_at);

-- Messages in our name, by the address from which they came (DMARC).
CREATE TABLE feedback_sender (
    report      bigint NOT NULL REFERENCES feedback_report ON DELETE CASCADE,
    domain      text NOT NULL,
    at          timestamptz NOT NULL,   -- begin of the report
    source      inet NOT NULL,
    messages    bigint NOT NULL,
    disposition text NOT NULL,
    dkim        boolean NOT NULL,       -- of the domain itself
    spf         boolean NOT NULL,
    proofs      jsonb NOT NULL          -- what signatures and SPF said, of whom
);
CREATE INDEX feedback_sender_domain ON feedback_sender (domain, at);

-- Connections to our hosts (TLS).
CREATE TABLE feedback_tls (
    report  bigint NOT NULL REFERENCES feedback_report ON DELETE CASCADE,
    domain  text NOT NULL,
    at      timestamptz NOT NULL,
    policy  text NOT NULL,              -- sts, tlsa, no-policy-found
    result  text NOT NULL,              -- '' for those that did well
    host    text NOT NULL,
    more    text NOT NULL,
    sessions bigint NOT NULL
);
CREATE INDEX feedback_tls_domain ON feedback_tls (domain, at);

-- How far the mailbox was read, and what in it was no report.
CREATE TABLE feedback_read (
    mailbox text PRIMARY KEY,
    upto    bigint NOT NULL
);
CREATE TABLE feedback_unread (
    message bigint PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT now(),
    sender  text NOT NULL,
    fault   text NOT NULL
);

-- Senders in our name that somebody named: they are known.
CREATE TABLE feedback_source (
    network cidr PRIMARY KEY,
    name    text NOT NULL,
    who     text NOT NULL,
    at      timestamptz NOT NULL DEFAULT now()
);

-- What we saw, until it is reported.
CREATE TABLE feedback_seen (
    kind   text NOT NULL,  -- dmarc or tls
    day    date NOT NULL,
    domain text NOT NULL,  -- whom it concerns
    what   jsonb NOT NULL,
    hash   bytea NOT NULL, -- of what
    n      bigint NOT NULL,
    PRIMARY KEY (kind, day, domain, hash)
);
CREATE TABLE feedback_sent (
    kind   text NOT NULL,
    day    date NOT NULL,
    domain text NOT NULL,
    at     timestamptz NOT NULL DEFAULT now(),
    result text NOT NULL,
    PRIMARY KEY (kind, day, domain)
);

-- +goose Down
DROP TABLE feedback_sender, feedback_tls, feedback_report, feedback_read, feedback_unread,
    feedback_source, feedback_seen, feedback_sent;
