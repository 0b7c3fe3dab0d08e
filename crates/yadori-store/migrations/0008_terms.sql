-- The terms of the field for what was called otherwise: a row without content that says that a clip is gone is a tombstone, and an
-- old one is known by a hash only.
ALTER TABLE clips RENAME COLUMN shredded TO tombstone;
ALTER TABLE sealed RENAME COLUMN seal TO hash;
ALTER TABLE sealed RENAME TO hashed_tombstones;
