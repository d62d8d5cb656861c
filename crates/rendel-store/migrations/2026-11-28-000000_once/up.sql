-- Calls of the backend that may be made again: each counts once, and is answered as at first. What
-- is stored holds no secret.
CREATE TABLE calls (
    key text PRIMARY KEY,
    fingerprint text NOT NULL,
    answer text NOT NULL,
    at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX calls_at ON calls (at);

-- Where the database stood before: one that was restored or promoted is told apart by its marks, and
-- epochs from then on are above all that were given out before.
CREATE TABLE timelines (
    ord bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    marks text NOT NULL,
    floor bigint NOT NULL,
    since timestamptz NOT NULL DEFAULT now()
);
