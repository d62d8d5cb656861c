-- From which place on the state can be told: a snapshot stands there, or it is the opening state.
ALTER TABLE sessions ADD COLUMN kept_from bigint NOT NULL DEFAULT 0;

-- Whether an update's verdicts are more than `applied`, so that those can be found without reading the rest.
ALTER TABLE journal ADD COLUMN met boolean NOT NULL DEFAULT false;
UPDATE journal SET met = true WHERE body LIKE '%"verdicts":[{%';
CREATE INDEX journal_met ON journal (session, seq) WHERE met;
