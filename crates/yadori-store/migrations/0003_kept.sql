-- What a person keeps, and how they arranged it. Each particular has the stamp of its latest change, so
-- that two devices can agree on it; no stamp means that it was never set.
--
-- `pin` and `place` say where a clip lies among the pinned ones and in its drawer: they are compared as bytes.
CREATE TABLE drawers (
    no INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    id BINARY(16) NOT NULL UNIQUE,
    name VARCHAR(100) NOT NULL,
    place VARBINARY(255) NOT NULL,
    changed BIGINT UNSIGNED NOT NULL,
    removed BOOLEAN NOT NULL DEFAULT FALSE
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE headings (
    no INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    id BINARY(16) NOT NULL UNIQUE,
    drawer INT UNSIGNED NOT NULL,
    place VARBINARY(255) NOT NULL,
    words VARCHAR(200) NOT NULL,
    changed BIGINT UNSIGNED NOT NULL,
    removed BOOLEAN NOT NULL DEFAULT FALSE,
    KEY in_drawer (drawer, place),
    FOREIGN KEY (drawer) REFERENCES drawers (no)
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

ALTER TABLE clips
    DROP KEY by_expiry,
    DROP KEY by_deletion,
    DROP COLUMN expires_at,
    ADD COLUMN cleared BIGINT UNSIGNED,
    ADD COLUMN swept BIGINT UNSIGNED,
    ADD COLUMN pin VARBINARY(255),
    ADD COLUMN pin_stamp BIGINT UNSIGNED,
    ADD COLUMN drawer INT UNSIGNED,
    ADD COLUMN place VARBINARY(255),
    ADD COLUMN drawer_stamp BIGINT UNSIGNED,
    ADD COLUMN title_stamp BIGINT UNSIGNED,
    ADD COLUMN mark TINYINT UNSIGNED,
    ADD COLUMN mark_stamp BIGINT UNSIGNED,
    ADD COLUMN alias VARCHAR(64),
    ADD COLUMN alias_stamp BIGINT UNSIGNED,
    ADD COLUMN fills BOOLEAN NOT NULL DEFAULT FALSE,
    ADD COLUMN fills_stamp BIGINT UNSIGNED,
    -- When the clip left the history, as a stamp; none while it is there. The rule is that of
    -- `yadori_core::clip::Life`.
    ADD COLUMN gone BIGINT UNSIGNED AS (
        IF(deleted >= GREATEST(copied, restored, COALESCE(pin_stamp, 0), COALESCE(drawer_stamp, 0)),
            deleted,
            IF(pin IS NULL AND drawer IS NULL AND GREATEST(COALESCE(cleared, 0), COALESCE(swept, 0))
                    >= GREATEST(copied, restored, COALESCE(pin_stamp, 0), COALESCE(drawer_stamp, 0)),
                GREATEST(COALESCE(cleared, 0), COALESCE(swept, 0)),
                NULL))) PERSISTENT,
    ADD KEY by_gone (gone),
    ADD KEY by_pin (pin),
    ADD KEY by_drawer (drawer, place),
    ADD UNIQUE KEY by_alias (alias),
    ADD CONSTRAINT clip_in_drawer FOREIGN KEY (drawer) REFERENCES drawers (no);

-- What was done in one go, and can be undone: the numbers of its clips, how many of them it has been done
-- to by now, and what it replaced.
ALTER TABLE steps
    ADD COLUMN how TINYINT UNSIGNED NOT NULL DEFAULT 1 AFTER at,
    ADD COLUMN stamp BIGINT UNSIGNED NOT NULL DEFAULT 0 AFTER how,
    ADD COLUMN clips LONGTEXT NOT NULL DEFAULT '[]',
    ADD COLUMN total INT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN done INT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN before_it LONGTEXT;
UPDATE steps SET
    clips = (SELECT CONCAT('[', COALESCE(GROUP_CONCAT(clip_no), ''), ']') FROM step_clips WHERE step_no = steps.no),
    total = (SELECT COUNT(*) FROM step_clips WHERE step_no = steps.no),
    done = total;
DROP TABLE step_clips;

-- What happened on a day, for the figures.
CREATE TABLE days (
    day INT UNSIGNED NOT NULL PRIMARY KEY,
    captured INT UNSIGNED NOT NULL DEFAULT 0,
    recalled INT UNSIGNED NOT NULL DEFAULT 0,
    swept INT UNSIGNED NOT NULL DEFAULT 0,
    cleared INT UNSIGNED NOT NULL DEFAULT 0
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

ALTER TABLE settings MODIFY COLUMN value MEDIUMTEXT NOT NULL;
