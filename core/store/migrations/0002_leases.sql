-- +goose Up
CREATE TABLE trusting (
	name        TEXT PRIMARY KEY,
	instance    TEXT NOT NULL,
	site        TEXT NOT NULL,
	tags        TEXT NOT NULL,
	networks    TEXT NOT NULL,
	plain       BIGINT NOT NULL,
	host_key    TEXT NOT NULL,
	signers     TEXT NOT NULL,
	stops       BIGINT NOT NULL DEFAULT 0,
	enrolled_at BIGINT NOT NULL,
	enrolled_by TEXT NOT NULL
);
CREATE TABLE lease (
	serial     BIGINT PRIMARY KEY,
	asking     TEXT NOT NULL UNIQUE,
	person     TEXT NOT NULL,
	machine    TEXT NOT NULL,
	login      TEXT NOT NULL,
	key        TEXT NOT NULL,
	rule       TEXT NOT NULL,
	reason     TEXT NOT NULL,
	agreed_by  TEXT NOT NULL,
	granted_at BIGINT NOT NULL,
	ends_at    BIGINT NOT NULL,
	stopped_at BIGINT NOT NULL DEFAULT 0,
	used_at    BIGINT NOT NULL DEFAULT 0
);
CREATE INDEX lease_ends ON lease (ends_at);
CREATE TABLE asking (
	id         TEXT PRIMARY KEY,
	person     TEXT NOT NULL,
	machine    TEXT NOT NULL,
	login      TEXT NOT NULL,
	reason     TEXT NOT NULL,
	rule       TEXT NOT NULL,
	origin     TEXT NOT NULL,
	asked_at   BIGINT NOT NULL,
	expires_at BIGINT NOT NULL,
	state      TEXT NOT NULL,
	answerer   TEXT NOT NULL DEFAULT ''
);
CREATE TABLE stop (
	number     BIGINT PRIMARY KEY,
	kind       TEXT NOT NULL,
	name       TEXT NOT NULL,
	stopped_at BIGINT NOT NULL,
	lifted_at  BIGINT NOT NULL DEFAULT 0
);

-- +goose Down
DROP TABLE stop;
DROP TABLE asking;
DROP TABLE lease;
DROP TABLE trusting;
