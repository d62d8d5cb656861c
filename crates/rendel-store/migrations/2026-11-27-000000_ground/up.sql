-- Which process owns a session: the one that raised its epoch last.
ALTER TABLE sessions ADD COLUMN owner uuid;

-- What the client ids behind Idempotency-Keys are made with, so that nobody can compute them.
ALTER TABLE sessions ADD COLUMN secret uuid NOT NULL DEFAULT gen_random_uuid();

-- Refusals in the order in which they came: the oldest are forgotten first. The client is known by its participant, too,
-- which rows of before do not say, so nobody can be answered with them.
DELETE FROM refusals;
ALTER TABLE refusals ADD COLUMN ord bigint GENERATED ALWAYS AS IDENTITY;
CREATE INDEX refusals_order ON refusals (session, ord);
