-- +goose Up
-- What got through of late, by place: with it, one can tell whose a trouble is.
CREATE TABLE success (
	at timestamptz NOT NULL, -- the beginning of its five minutes
	next_hop text NOT NULL,
	route text NOT NULL,
	ipv6 boolean NOT NULL,
	messages bigint NOT NULL,
	PRIMARY KEY (at, next_hop, route, ipv6)
) WITH (autovacuum_vacuum_scale_factor = 0.2, fillfactor = 80);
