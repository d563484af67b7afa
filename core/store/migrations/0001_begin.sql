-- +goose Up
CREATE TABLE machine (
	name        TEXT PRIMARY KEY,
	key         TEXT NOT NULL UNIQUE,
	tags        TEXT NOT NULL,
	instance    TEXT NOT NULL,
	enrolled_at BIGINT NOT NULL,
	revoked_at  BIGINT NOT NULL DEFAULT 0,
	offers      TEXT NOT NULL DEFAULT '',
	gateway     TEXT NOT NULL DEFAULT '',
	connection  TEXT NOT NULL DEFAULT '',
	joined_from TEXT NOT NULL DEFAULT '',
	joined_at   BIGINT NOT NULL DEFAULT 0
);
CREATE TABLE token (
	digest     TEXT PRIMARY KEY,
	machine    TEXT NOT NULL,
	tags       TEXT NOT NULL,
	instance   TEXT NOT NULL,
	made_at    BIGINT NOT NULL,
	expires_at BIGINT NOT NULL,
	used_at    BIGINT NOT NULL DEFAULT 0
);
CREATE TABLE gateway (
	id      TEXT PRIMARY KEY,
	address TEXT NOT NULL,
	key     TEXT NOT NULL,
	seen_at BIGINT NOT NULL
);
CREATE TABLE entry (
	number BIGINT PRIMARY KEY,
	body   TEXT NOT NULL,
	digest TEXT NOT NULL
);
CREATE TABLE moved (
	who   TEXT NOT NULL,
	day   TEXT NOT NULL,
	bytes BIGINT NOT NULL,
	PRIMARY KEY (who, day)
);

-- +goose Down
DROP TABLE moved;
DROP TABLE entry;
DROP TABLE gateway;
DROP TABLE token;
DROP TABLE machine;
