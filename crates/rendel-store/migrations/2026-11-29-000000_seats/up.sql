-- By what sessions are found: labels as "name=value", and how many seats are free. Of those that a
-- search for a seat has opened, which search, and the how manieth: two services never open the same.
ALTER TABLE sessions
    ADD COLUMN labels text[] NOT NULL DEFAULT '{}',
    ADD COLUMN free_seats integer,
    ADD COLUMN sought text,
    ADD COLUMN sought_no bigint,
    ADD CONSTRAINT sessions_sought UNIQUE (sought, sought_no);
CREATE INDEX sessions_labels ON sessions USING gin (labels);
CREATE INDEX sessions_charter ON sessions (charter, id);
