-- Who introduced a device here; none if it was paired with this one, or was known before this was noted.
ALTER TABLE devices ADD COLUMN introduced_by BINARY(16);
-- What a person may know of a browser that was let in, and shut it out by.
ALTER TABLE console_sessions
    ADD COLUMN created_at BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN used_at BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN browser VARCHAR(200) NOT NULL DEFAULT '',
    ADD COLUMN path_hash BINARY(32);
-- Sessions from before had a cookie that any page on this host could use: they are shut out.
DELETE FROM console_sessions;
-- Texts that a person has said are no secrets, by a keyed hash.
CREATE TABLE not_secret (
    hash BINARY(32) NOT NULL PRIMARY KEY
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
-- It named none, and would have been whatever an outside server takes by default.
ALTER TABLE sealed ENGINE = InnoDB;
ALTER TABLE sealed CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
DROP TABLE IF EXISTS filling;
-- Names that programs give to their own formats may describe them at length.
ALTER TABLE formats MODIFY COLUMN mime VARCHAR(500) NOT NULL;
