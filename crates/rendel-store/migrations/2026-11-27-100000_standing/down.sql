DROP TABLE participants;
ALTER TABLE sessions DROP COLUMN delete_at;
