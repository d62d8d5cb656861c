-- What the backend says of participants, over what their tokens say: a role, a name, claims as a JSON object.
CREATE TABLE participants (
    session bigint NOT NULL REFERENCES sessions (ord) ON DELETE CASCADE,
    sub text NOT NULL,
    role text,
    name text,
    claims text,
    PRIMARY KEY (session, sub)
);

-- When a session that has ended is deleted with all its data, where its charter says so.
ALTER TABLE sessions ADD COLUMN delete_at timestamptz;
CREATE INDEX sessions_delete_at ON sessions (delete_at) WHERE delete_at IS NOT NULL;
