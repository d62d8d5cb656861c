CREATE TABLE charters (
    name      text        NOT NULL,
    version   integer     NOT NULL CHECK (version > 0),
    title     text        NOT NULL,
    source    text        NOT NULL,
    published timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (name, version)
);

CREATE TABLE sessions (
    ord     bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    id      text        NOT NULL UNIQUE,
    charter text        NOT NULL,
    version integer     NOT NULL,
    status  text        NOT NULL DEFAULT 'open',
    opening text,
    epoch   bigint      NOT NULL DEFAULT 0,
    opened  timestamptz NOT NULL DEFAULT now(),
    FOREIGN KEY (charter, version) REFERENCES charters (name, version)
);

CREATE TABLE epochs (
    session bigint NOT NULL REFERENCES sessions (ord) ON DELETE CASCADE,
    epoch   bigint NOT NULL,
    begins  bigint NOT NULL,
    PRIMARY KEY (session, epoch)
);

-- One row per settled update. The primary key is what keeps two writers of one session from ever writing the same place.
-- No foreign key: a session's rows are written by whoever loaded it, and the check would cost a lookup per row.
CREATE TABLE journal (
    session bigint NOT NULL,
    seq     bigint NOT NULL,
    body    text   NOT NULL,
    PRIMARY KEY (session, seq)
);

-- Refusals since the newest snapshot, so that a proposal that is sent again after a restart gets its first outcome.
CREATE TABLE refusals (
    session bigint NOT NULL,
    client  uuid   NOT NULL,
    n       bigint NOT NULL,
    at_seq  bigint NOT NULL,
    problem text   NOT NULL,
    PRIMARY KEY (session, client, n)
);

CREATE TABLE snapshots (
    session bigint NOT NULL,
    seq     bigint NOT NULL,
    body    text   NOT NULL,
    PRIMARY KEY (session, seq)
);
