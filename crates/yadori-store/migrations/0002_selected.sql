-- The text was merely selected (the primary selection), and never copied.
ALTER TABLE clips ADD COLUMN selected BOOLEAN NOT NULL DEFAULT FALSE AFTER page;
