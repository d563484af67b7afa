-- +goose Up
ALTER TABLE trusting ADD COLUMN host_names TEXT NOT NULL DEFAULT '';
CREATE TABLE host_certificate (
	serial     BIGINT PRIMARY KEY,
	machine    TEXT NOT NULL,
	key        TEXT NOT NULL,
	ends_at    BIGINT NOT NULL,
	revoked_at BIGINT NOT NULL DEFAULT 0
);
CREATE TABLE probe (
	id BIGINT PRIMARY KEY,
	at BIGINT NOT NULL
);
INSERT INTO probe (id, at) VALUES (1, 0);

-- +goose Down
DROP TABLE probe;
DROP TABLE host_certificate;
ALTER TABLE trusting DROP COLUMN host_names;
