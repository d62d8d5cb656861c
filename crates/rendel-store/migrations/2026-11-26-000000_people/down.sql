DROP TABLE audit, invitations, removals, revocations, keys;
ALTER TABLE sessions DROP COLUMN frozen_except;
