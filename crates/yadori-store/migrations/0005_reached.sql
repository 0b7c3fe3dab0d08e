-- Where a device was last reached from here, which may be another address than it tells of itself.
ALTER TABLE devices ADD COLUMN reached VARCHAR(300);
