-- Everything is compared byte by byte: ids and texts are never folded.
ALTER DATABASE CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

-- The change feed: every write takes the next number in its own transaction.
CREATE TABLE feed (
    one TINYINT UNSIGNED NOT NULL PRIMARY KEY,
    last BIGINT UNSIGNED NOT NULL
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
INSERT INTO feed (one, last) VALUES (1, 0);

CREATE TABLE devices (
    no INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    id BINARY(16) NOT NULL UNIQUE,
    name VARCHAR(255) NOT NULL,
    own BOOLEAN NOT NULL
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

-- `copied`, `restored` and `deleted` are stamps (48 bits of milliseconds, 16 bits of counter); a clip
-- is live while the later of the first two is above the third. Columns ending in _at are milliseconds.
CREATE TABLE clips (
    no BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    id BINARY(16) NOT NULL UNIQUE,
    seq BIGINT UNSIGNED NOT NULL UNIQUE,
    kind TINYINT UNSIGNED NOT NULL,
    secret TINYINT UNSIGNED NOT NULL,
    device INT UNSIGNED NOT NULL,
    copied BIGINT UNSIGNED NOT NULL,
    restored BIGINT UNSIGNED NOT NULL DEFAULT 0,
    deleted BIGINT UNSIGNED NOT NULL DEFAULT 0,
    -- The content is gone for good; what is left tells other devices so.
    shredded BOOLEAN NOT NULL DEFAULT FALSE,
    expires_at BIGINT UNSIGNED,
    recalled_at BIGINT UNSIGNED,
    copies INT UNSIGNED NOT NULL,
    recalls INT UNSIGNED NOT NULL DEFAULT 0,
    size BIGINT UNSIGNED NOT NULL,
    width INT UNSIGNED,
    height INT UNSIGNED,
    text_lines BIGINT UNSIGNED,
    text_chars BIGINT UNSIGNED,
    -- The words, up to 64 KiB. When that is all of them, this is the plain-text format itself.
    text MEDIUMTEXT,
    title VARCHAR(1000),
    caption VARCHAR(1000),
    application VARCHAR(255),
    window_title VARCHAR(1000),
    page TEXT,
    KEY by_expiry (expires_at),
    KEY by_deletion (deleted),
    FOREIGN KEY (device) REFERENCES devices (no)
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

-- Content-addressed, in pieces of 1 MiB.
CREATE TABLE blobs (
    no BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    hash BINARY(32) NOT NULL UNIQUE,
    size BIGINT UNSIGNED NOT NULL
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE blob_chunks (
    blob_no BIGINT UNSIGNED NOT NULL,
    place INT UNSIGNED NOT NULL,
    content MEDIUMBLOB NOT NULL,
    PRIMARY KEY (blob_no, place),
    FOREIGN KEY (blob_no) REFERENCES blobs (no) ON DELETE CASCADE
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

-- The formats of a clip in the order in which they were offered. The bytes are `content`, or the blob,
-- or, where both are null, the clip's `text`.
CREATE TABLE formats (
    clip_no BIGINT UNSIGNED NOT NULL,
    place TINYINT UNSIGNED NOT NULL,
    mime VARCHAR(127) NOT NULL,
    size BIGINT UNSIGNED NOT NULL,
    content BLOB,
    blob_no BIGINT UNSIGNED,
    PRIMARY KEY (clip_no, place),
    FOREIGN KEY (clip_no) REFERENCES clips (no) ON DELETE CASCADE,
    FOREIGN KEY (blob_no) REFERENCES blobs (no)
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE thumbnails (
    clip_no BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    mime VARCHAR(127) NOT NULL,
    content MEDIUMBLOB NOT NULL,
    FOREIGN KEY (clip_no) REFERENCES clips (no) ON DELETE CASCADE
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

-- What can be undone.
CREATE TABLE steps (
    no BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    at BIGINT UNSIGNED NOT NULL,
    undone BOOLEAN NOT NULL DEFAULT FALSE
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE step_clips (
    step_no BIGINT UNSIGNED NOT NULL,
    clip_no BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (step_no, clip_no),
    FOREIGN KEY (step_no) REFERENCES steps (no) ON DELETE CASCADE,
    FOREIGN KEY (clip_no) REFERENCES clips (no) ON DELETE CASCADE
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE settings (
    name VARCHAR(64) NOT NULL PRIMARY KEY,
    value TEXT NOT NULL
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

-- Browsers that were let in by a one-time link; only a hash of each one's key is kept.
CREATE TABLE console_sessions (
    hash BINARY(32) NOT NULL PRIMARY KEY,
    expires_at BIGINT UNSIGNED NOT NULL
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
