ALTER TABLE {prefix}loans ADD COLUMN returned DATE;
