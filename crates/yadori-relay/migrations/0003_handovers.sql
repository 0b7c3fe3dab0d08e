-- What was left for devices that have only the key that a mailbox had before: `access` is the hash of that key.
CREATE TABLE IF NOT EXISTS handovers (
    mailbox BINARY(16) NOT NULL,
    access BINARY(32) NOT NULL,
    outbox BINARY(16) NOT NULL,
    expires_at BIGINT UNSIGNED NOT NULL,
    sealed MEDIUMBLOB NOT NULL,
    PRIMARY KEY (mailbox, access, outbox),
    KEY by_expiry (expires_at)
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
