-- Where two devices meet that know nothing of each other but a secret, of which only a hash is kept. A mailbox has one at a time.
CREATE TABLE IF NOT EXISTS meetings (
    mailbox BINARY(16) NOT NULL PRIMARY KEY,
    id BINARY(32) NOT NULL,
    expires_at BIGINT UNSIGNED NOT NULL,
    UNIQUE KEY by_id (id),
    KEY by_expiry (expires_at)
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
-- What the two say, on one line after the other: each is for one try.
CREATE TABLE IF NOT EXISTS meeting_messages (
    meeting BINARY(32) NOT NULL,
    line TINYINT UNSIGNED NOT NULL,
    side TINYINT UNSIGNED NOT NULL,
    number INT UNSIGNED NOT NULL,
    message BLOB NOT NULL,
    PRIMARY KEY (meeting, line, side, number)
) ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
