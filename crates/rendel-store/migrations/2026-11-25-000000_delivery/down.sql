DROP INDEX journal_met;
ALTER TABLE journal DROP COLUMN met;
ALTER TABLE sessions DROP COLUMN kept_from;
