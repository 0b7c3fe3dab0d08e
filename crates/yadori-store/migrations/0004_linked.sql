-- One history on several devices.
--
-- Every row that others are told of has the number of its latest change. `cursor_feed` and `cursor_upto` say how
-- far a device's feed is on record here; `acked` how far it has this one's.
ALTER TABLE devices
    ADD COLUMN pin BINARY(32),
    ADD COLUMN seq BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN name_stamp BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN addresses TEXT NOT NULL DEFAULT '',
    ADD COLUMN addresses_stamp BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN linked BOOLEAN NOT NULL DEFAULT FALSE,
    ADD COLUMN linked_stamp BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN cursor_feed BINARY(8),
    ADD COLUMN cursor_upto BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN acked BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN seen_at BIGINT UNSIGNED;

-- Another one whenever the records are set up anew.
ALTER TABLE feed ADD COLUMN id BINARY(8);
UPDATE feed SET id = UNHEX(LEFT(REPLACE(UUID(), '-', ''), 16)), last = last + 1;

ALTER TABLE drawers ADD COLUMN seq BIGINT UNSIGNED NOT NULL DEFAULT 0;
ALTER TABLE headings ADD COLUMN seq BIGINT UNSIGNED NOT NULL DEFAULT 0;
UPDATE drawers SET seq = (SELECT last FROM feed);
UPDATE headings SET seq = (SELECT last FROM feed);

-- How much of a blob is here; the rest is on another device.
ALTER TABLE blobs ADD COLUMN have BIGINT UNSIGNED NOT NULL DEFAULT 0;
UPDATE blobs SET have = size;

ALTER TABLE clips
    -- When it was forgotten for good on all devices, as a stamp.
    ADD COLUMN purged BIGINT UNSIGNED,
    -- Other devices know it.
    ADD COLUMN shared BOOLEAN NOT NULL DEFAULT FALSE,
    -- Some of its content is on another device only.
    ADD COLUMN elsewhere BOOLEAN NOT NULL DEFAULT FALSE,
    DROP KEY by_gone,
    ADD KEY by_gone (shredded, gone);
