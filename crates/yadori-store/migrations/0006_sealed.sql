-- Traces of clips that were deleted so long ago that they are kept as traces no more, although a device that has been
-- away all the time has not passed them. Which clip it was cannot be told from a seal, only asked: it is a hash of the
-- clip's id with a key that lies outside of the database.
CREATE TABLE sealed (
    seal BINARY(16) NOT NULL PRIMARY KEY,
    device INT UNSIGNED NOT NULL,
    copied BIGINT UNSIGNED NOT NULL,
    restored BIGINT UNSIGNED NOT NULL,
    deleted BIGINT UNSIGNED NOT NULL,
    cleared BIGINT UNSIGNED,
    purged BIGINT UNSIGNED,
    pin_stamp BIGINT UNSIGNED,
    drawer_stamp BIGINT UNSIGNED
);
