-- Private drawers: the key of each, how it stands (0 closed, 1 being opened, 2 open, 3 being closed), and how many clips are sealed.
CREATE TABLE private_drawers (
    drawer INT UNSIGNED NOT NULL PRIMARY KEY,
    secret_key TEXT NOT NULL,
    state TINYINT UNSIGNED NOT NULL,
    clips INT UNSIGNED NOT NULL DEFAULT 0,
    CONSTRAINT private_drawer FOREIGN KEY (drawer) REFERENCES drawers (no)
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
-- What lies in them, sealed, in pieces. Standing: 0 kept, 1 its clip is out, 2 not to be relied upon yet.
CREATE TABLE sealed_items (
    drawer INT UNSIGNED NOT NULL,
    item BIGINT UNSIGNED NOT NULL,
    piece INT UNSIGNED NOT NULL,
    standing TINYINT UNSIGNED NOT NULL,
    sealed MEDIUMBLOB NOT NULL,
    PRIMARY KEY (drawer, item, piece),
    CONSTRAINT sealed_in FOREIGN KEY (drawer) REFERENCES private_drawers (drawer) ON DELETE CASCADE
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
