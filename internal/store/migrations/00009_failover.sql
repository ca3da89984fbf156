-- +goose Up
-- Each start of a service is a run of its node. A run that is over never comes back: its
-- leases are due again, and it can make no new ones. The key tells two runs apart that
-- got the same number on the two sides of a failover.
ALTER TABLE node
    ADD key      bigint NOT NULL DEFAULT 0,
    ADD replaced boolean NOT NULL DEFAULT false; -- another service runs under its name
-- Messages whose clients were told no while it was not known what became of their commit.
-- Should one come to light it is deleted, and nobody delivers it.
CREATE TABLE withdrawn (
    message_id bigint PRIMARY KEY,
    at         timestamptz NOT NULL DEFAULT clock_timestamp()
);

-- alive ends a transaction that would make leases for a run that is over. Until the
-- transaction ends, nobody frees what the run holds: see store.release.
-- +goose StatementBegin
CREATE FUNCTION alive(run int, run_key bigint) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_advisory_xact_lock_shared(1735748716, run);
    IF NOT EXISTS (SELECT FROM node WHERE id = run AND key = run_key AND NOT gone) THEN
        RAISE EXCEPTION 'run % is over', run USING ERRCODE = 'GR001';
    END IF;
END $$;
-- +goose StatementEnd
-- whole ends a transaction that would enter a message without its content.
-- +goose StatementBegin
CREATE FUNCTION whole(message bigint, octets bigint) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    there bigint := (SELECT coalesce(sum(octet_length(data)), 0) FROM content WHERE message_id = message);
BEGIN
    IF there <> octets THEN
        RAISE EXCEPTION 'message % has % octets of content, not %', message, there, octets USING ERRCODE = 'GR002';
    END IF;
END $$;
-- +goose StatementEnd

-- +goose Down
DROP FUNCTION alive, whole;
DROP TABLE withdrawn;
ALTER TABLE node DROP key, DROP replaced;
