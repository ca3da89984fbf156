-- +goose Up

ALTER TABLE delivery
    ADD domain    text NOT NULL DEFAULT '',      -- of the recipient
    ADD bulk      boolean NOT NULL DEFAULT false, -- one of very many of its sender: others go first
    ADD warned_at timestamptz,                   -- when the sender was told of the delay
    ADD action    bigint NOT NULL DEFAULT 0,     -- the last thing that a person did with it
    ADD actions   bigint[] NOT NULL DEFAULT '{}', -- all of them
    ADD detour    text NOT NULL DEFAULT '',      -- once or kept: its lane was chosen by a person
    ADD own_end   boolean NOT NULL DEFAULT false; -- a person chose when it is given up
UPDATE delivery SET domain = substring(lower(recipient) from '[^@]*$');
ALTER TABLE delivery_done
    ADD action bigint NOT NULL DEFAULT 0,
    ADD actions bigint[] NOT NULL DEFAULT '{}';
ALTER TABLE node
    ADD released boolean NOT NULL DEFAULT false; -- gone, and what it held is due again

-- What is due, lane by lane: letters of bulk senders behind the others. What a
-- person holds is in neither, so that a look at what is due does not pass over it.
DROP INDEX delivery_due;
CREATE INDEX delivery_front ON delivery (lane, due_at) WHERE state <> 'held' AND NOT bulk;
CREATE INDEX delivery_back ON delivery (lane, due_at) WHERE state <> 'held' AND bulk;
-- Lists, oldest first.
CREATE INDEX delivery_lane ON delivery (lane, message_id, n);
CREATE INDEX delivery_domain ON delivery (domain, message_id, n);
-- What a person did something with, and what has an end that its age does not tell.
CREATE INDEX delivery_action ON delivery (action, message_id, n) WHERE action <> 0;
CREATE INDEX delivery_own_end ON delivery (expires_at) WHERE own_end;
CREATE INDEX delivery_done_action ON delivery_done (action, message_id, n) WHERE action <> 0;

-- Counts by lane, kept with every change in the same transaction: changes are
-- added to lane_delta, which nobody waits for, and gathered into lane_count. due is
-- a time before which nothing of the lane that nobody works on is due; it may be
-- too early, never too late.
CREATE TABLE lane_count (
    lane     bigint PRIMARY KEY,
    waiting  bigint NOT NULL,
    deferred bigint NOT NULL,
    held     bigint NOT NULL,
    octets   bigint NOT NULL,
    due      timestamptz NOT NULL DEFAULT 'infinity'
) WITH (fillfactor = 50);
CREATE TABLE lane_delta (
    lane     bigint NOT NULL,
    waiting  int NOT NULL,
    deferred int NOT NULL,
    held     int NOT NULL,
    octets   bigint NOT NULL,
    due      timestamptz NOT NULL
);

-- +goose StatementBegin
CREATE FUNCTION count_entered() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO lane_delta
    SELECT lane, count(*) FILTER (WHERE state = 'waiting'), count(*) FILTER (WHERE state = 'deferred'), count(*) FILTER (WHERE state = 'held'), sum(size),
        coalesce(min(due_at) FILTER (WHERE lease IS NULL AND state <> 'held'), 'infinity')
    FROM fresh GROUP BY lane;
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION count_gone() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO lane_delta
    SELECT lane, -count(*) FILTER (WHERE state = 'waiting'), -count(*) FILTER (WHERE state = 'deferred'), -count(*) FILTER (WHERE state = 'held'), -sum(size), 'infinity'
    FROM stale GROUP BY lane;
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION count_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO lane_delta
    SELECT lane, sum(w), sum(d), sum(h), sum(o), min(due) FROM (
        SELECT lane, (state = 'waiting')::int AS w, (state = 'deferred')::int AS d, (state = 'held')::int AS h, size AS o,
            CASE WHEN lease IS NULL AND state <> 'held' THEN due_at ELSE 'infinity' END AS due FROM fresh
        UNION ALL
        SELECT lane, -(state = 'waiting')::int, -(state = 'deferred')::int, -(state = 'held')::int, -size, 'infinity' FROM stale) c
    GROUP BY lane HAVING sum(w) <> 0 OR sum(d) <> 0 OR sum(h) <> 0 OR sum(o) <> 0 OR min(due) <> 'infinity';
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER entered AFTER INSERT ON delivery REFERENCING NEW TABLE AS fresh FOR EACH STATEMENT EXECUTE FUNCTION count_entered();
CREATE TRIGGER gone AFTER DELETE ON delivery REFERENCING OLD TABLE AS stale FOR EACH STATEMENT EXECUTE FUNCTION count_gone();
-- Taking leases changes neither counts nor makes anything due sooner.
CREATE TRIGGER changed AFTER UPDATE ON delivery REFERENCING OLD TABLE AS stale NEW TABLE AS fresh FOR EACH STATEMENT
    WHEN (current_setting('gull.leasing', true) IS DISTINCT FROM 'yes') EXECUTE FUNCTION count_changed();
INSERT INTO lane_count
    SELECT lane, count(*) FILTER (WHERE state = 'waiting'), count(*) FILTER (WHERE state = 'deferred'), count(*) FILTER (WHERE state = 'held'), sum(size), min(due_at)
    FROM delivery GROUP BY lane;

-- The last answer that kept a lane's letters waiting.
CREATE TABLE lane_last (
    lane  bigint PRIMARY KEY,
    at    timestamptz NOT NULL,
    reply jsonb NOT NULL,
    cause text NOT NULL
) WITH (fillfactor = 50);

-- Lanes that rest after trouble with their host, and the node that tries them.
CREATE TABLE lane_rest (
    lane     bigint PRIMARY KEY,
    node     int NOT NULL,
    since    timestamptz NOT NULL,
    until    timestamptz NOT NULL,
    failures int NOT NULL
);

-- What came into a lane and left it, by minute.
CREATE TABLE lane_minute (
    lane    bigint NOT NULL,
    minute  timestamptz NOT NULL,
    came    int NOT NULL,
    gone    int NOT NULL,
    failed  int NOT NULL,
    PRIMARY KEY (lane, minute)
);
CREATE INDEX lane_minute_at ON lane_minute (minute);

-- What a person stopped: kind is lane, route, listener, node or delivery.
CREATE TABLE pause (
    kind  text NOT NULL,
    name  text NOT NULL,
    who   text NOT NULL,
    why   text NOT NULL,
    since timestamptz NOT NULL DEFAULT now(),
    until timestamptz, -- ends by itself
    PRIMARY KEY (kind, name)
);

-- What people did with letters, lanes and nodes.
CREATE TABLE action (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at       timestamptz NOT NULL DEFAULT now(),
    who      text NOT NULL,
    verb     text NOT NULL,
    on_what  text NOT NULL,          -- in words
    told     text NOT NULL DEFAULT '', -- in the story of each letter
    node     text NOT NULL DEFAULT '',
    filter   jsonb,
    detail   jsonb,
    why      text NOT NULL,
    touched  bigint NOT NULL DEFAULT 0,
    sending  bigint NOT NULL DEFAULT 0, -- left alone: being sent at that moment
    done_at  timestamptz,
    undoes   bigint NOT NULL DEFAULT 0,
    undone_by bigint NOT NULL DEFAULT 0
);

-- +goose Down
DROP TABLE lane_count, lane_delta, lane_last, lane_rest, lane_minute, pause, action CASCADE;
DROP TRIGGER entered ON delivery;
DROP TRIGGER gone ON delivery;
DROP TRIGGER changed ON delivery;
DROP FUNCTION count_entered, count_gone, count_changed;
DROP INDEX delivery_front, delivery_back;
CREATE INDEX delivery_due ON delivery (lane, due_at);
ALTER TABLE delivery DROP domain, DROP bulk, DROP warned_at, DROP action, DROP detour, DROP actions, DROP own_end;
ALTER TABLE delivery_done DROP action, DROP actions;
ALTER TABLE node DROP released;
