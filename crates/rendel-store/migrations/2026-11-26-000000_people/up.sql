-- The roles that go on in a frozen session, as a JSON array.
ALTER TABLE sessions ADD COLUMN frozen_except text NOT NULL DEFAULT '[]';

-- Keys beside the service's own that sign participants' tokens.
CREATE TABLE keys (
    kid text PRIMARY KEY,
    algorithm text NOT NULL,
    material text NOT NULL,
    added timestamptz NOT NULL DEFAULT now(),
    retired timestamptz
);

-- Tokens that are not good any more: one by its id, or all of a participant that were issued until then.
CREATE TABLE revocations (
    ord bigserial PRIMARY KEY,
    session text NOT NULL,
    sub text,
    jti text,
    issued_until double precision NOT NULL,
    kept_until timestamptz NOT NULL
);

-- Participants who were removed and may not come back before `until`.
CREATE TABLE removals (
    session bigint NOT NULL REFERENCES sessions (ord) ON DELETE CASCADE,
    sub text NOT NULL,
    until timestamptz NOT NULL,
    PRIMARY KEY (session, sub)
);

-- Invitations: what is stored is the digest of the code, so that who reads the table cannot come in by it.
CREATE TABLE invitations (
    id uuid PRIMARY KEY,
    code text NOT NULL UNIQUE,
    session text NOT NULL,
    role text NOT NULL,
    uses integer NOT NULL,
    used integer NOT NULL DEFAULT 0,
    until timestamptz NOT NULL,
    made timestamptz NOT NULL DEFAULT now(),
    withdrawn boolean NOT NULL DEFAULT false
);
CREATE INDEX invitations_session ON invitations (session, made);

-- Who did what among powers, tokens and charters.
CREATE TABLE audit (
    ord bigserial PRIMARY KEY,
    at timestamptz NOT NULL DEFAULT now(),
    session text,
    by text NOT NULL,
    what text NOT NULL,
    detail text NOT NULL
);
CREATE INDEX audit_session ON audit (session, ord);
