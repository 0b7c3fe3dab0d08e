-- By a token one opens mailboxes. Of a token only a hash is kept.
CREATE TABLE IF NOT EXISTS tokens (
    hash BINARY(32) NOT NULL PRIMARY KEY,
    note VARCHAR(200) NOT NULL,
    made_at BIGINT UNSIGNED NOT NULL,
    mailboxes_left INT UNSIGNED NOT NULL,
    quota_bytes BIGINT UNSIGNED NOT NULL,
    days INT UNSIGNED NOT NULL
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
-- A group of devices. `access` is a hash of the key that lets it in; `latest` the number of the last arrival, which all the other
-- nodes see by `changed`, a time of the database's own clock in milliseconds.
CREATE TABLE IF NOT EXISTS mailboxes (
    id BINARY(16) NOT NULL PRIMARY KEY,
    access BINARY(32) NOT NULL,
    token BINARY(32) NOT NULL,
    made_at BIGINT UNSIGNED NOT NULL,
    used_at BIGINT UNSIGNED NOT NULL,
    latest BIGINT UNSIGNED NOT NULL DEFAULT 0,
    changed BIGINT UNSIGNED NOT NULL DEFAULT 0,
    bytes BIGINT UNSIGNED NOT NULL DEFAULT 0,
    quota_bytes BIGINT UNSIGNED NOT NULL,
    days INT UNSIGNED NOT NULL,
    KEY by_change (changed)
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
-- How far a device has numbered its envelopes; it stays when they are gone.
CREATE TABLE IF NOT EXISTS outboxes (
    mailbox BINARY(16) NOT NULL,
    outbox BINARY(16) NOT NULL,
    number BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (mailbox, outbox)
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
CREATE TABLE IF NOT EXISTS envelopes (
    mailbox BINARY(16) NOT NULL,
    arrival BIGINT UNSIGNED NOT NULL,
    outbox BINARY(16) NOT NULL,
    number BIGINT UNSIGNED NOT NULL,
    expires_at BIGINT UNSIGNED NOT NULL,
    sealed MEDIUMBLOB NOT NULL,
    PRIMARY KEY (mailbox, arrival),
    UNIQUE KEY by_number (mailbox, outbox, number),
    KEY by_expiry (expires_at)
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
CREATE TABLE IF NOT EXISTS contents (
    mailbox BINARY(16) NOT NULL,
    name BINARY(32) NOT NULL,
    piece INT UNSIGNED NOT NULL,
    expires_at BIGINT UNSIGNED NOT NULL,
    sealed MEDIUMBLOB NOT NULL,
    PRIMARY KEY (mailbox, name, piece),
    KEY by_expiry (expires_at)
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
