-- A text that was copied as plain text only is its own format, and needs no row beside its own. Such is most of a history.
ALTER TABLE clips
    ADD COLUMN plain BOOLEAN NOT NULL DEFAULT FALSE AFTER text,
    -- Pins are found by the same key: the first of its columns says where they lie, in a drawer or in none.
    ADD KEY by_drawer_and_pin (drawer, pin),
    DROP KEY by_drawer,
    DROP KEY by_pin;
-- (A semicolon would end the statement.)
UPDATE clips c JOIN formats f ON f.clip_no = c.no
    SET c.plain = TRUE
    WHERE f.mime LIKE 'text/plain_charset=utf-8' AND f.content IS NULL AND f.blob_no IS NULL AND f.size = c.size
        AND c.text IS NOT NULL AND c.tombstone = FALSE
        AND NOT EXISTS (SELECT 1 FROM formats g WHERE g.clip_no = c.no AND g.place <> f.place);
DELETE f FROM formats f JOIN clips c ON c.no = f.clip_no WHERE c.plain = TRUE;
-- What they took is given back.
ALTER TABLE formats FORCE;
