-- When a session must be in memory to act by itself, at the latest, in milliseconds since 1970 UTC.
ALTER TABLE sessions ADD COLUMN wakes bigint;
CREATE INDEX sessions_wakes ON sessions (wakes) WHERE wakes IS NOT NULL;

-- The processes that run, and when each said so last.
CREATE TABLE instances (
    owner uuid PRIMARY KEY,
    seen timestamptz NOT NULL DEFAULT now()
);

-- What other systems are to learn, written with what it is about. Rows come in the order of `ord`:
-- whoever writes some holds a lock until they are there for all.
CREATE TABLE announcements (
    ord bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    id uuid NOT NULL,
    session text COLLATE "C" NOT NULL,
    charter text NOT NULL,
    kind text NOT NULL,
    event text NOT NULL,
    made timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX announcements_session ON announcements (session, ord);
-- Ids are made in the order of time, so one small index finds both.
CREATE INDEX announcements_made ON announcements USING brin (made, id);

-- To whom announcements are sent. Of the older ones up to `after` nothing is sent.
CREATE TABLE webhooks (
    id uuid PRIMARY KEY,
    url text NOT NULL,
    types text[] NOT NULL,
    charters text[] NOT NULL,
    secret text NOT NULL,
    ordered boolean NOT NULL,
    after bigint NOT NULL,
    made timestamptz NOT NULL DEFAULT now()
);

-- What is to be sent, and what could not be.
CREATE TABLE deliveries (
    webhook uuid NOT NULL REFERENCES webhooks (id) ON DELETE CASCADE,
    announcement bigint NOT NULL REFERENCES announcements (ord) ON DELETE CASCADE,
    session text NOT NULL,
    status text NOT NULL DEFAULT 'waiting',
    attempts integer NOT NULL DEFAULT 0,
    began timestamptz NOT NULL DEFAULT now(),
    due timestamptz NOT NULL DEFAULT now(),
    why text,
    PRIMARY KEY (webhook, announcement)
);
CREATE INDEX deliveries_due ON deliveries (due) WHERE status = 'waiting';
CREATE INDEX deliveries_order ON deliveries (webhook, session, announcement) WHERE status = 'waiting';
