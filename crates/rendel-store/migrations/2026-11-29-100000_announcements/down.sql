DROP TABLE deliveries;
DROP TABLE webhooks;
DROP TABLE announcements;
DROP TABLE instances;
ALTER TABLE sessions DROP COLUMN wakes;
