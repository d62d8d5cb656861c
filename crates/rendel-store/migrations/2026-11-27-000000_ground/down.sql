DROP INDEX refusals_order;
ALTER TABLE refusals DROP COLUMN ord;
ALTER TABLE sessions DROP COLUMN secret;
ALTER TABLE sessions DROP COLUMN owner;
