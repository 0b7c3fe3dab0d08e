-- No query looks for the clips of a device by its number, and no device's row is ever removed.
ALTER TABLE clips DROP FOREIGN KEY clips_ibfk_1;
ALTER TABLE clips DROP KEY device;
