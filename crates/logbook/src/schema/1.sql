-- A broadcast. Times of day are milliseconds since 1970 (UTC) and the offset from UTC, in seconds, that held there; all other times
-- are those of its own clock, which began at began_ms.
CREATE TABLE broadcast (
    nr INTEGER PRIMARY KEY AUTOINCREMENT,
    began_ms INTEGER NOT NULL,
    offset_s INTEGER NOT NULL,
    -- Where it begins on its clock: the moth may have waited for the broadcaster.
    first_second INTEGER NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('broadcast', 'rehearsal', 'recording')),
    made_up INTEGER NOT NULL,
    setup TEXT NOT NULL,
    service TEXT NOT NULL,
    title TEXT NOT NULL DEFAULT '',
    note TEXT NOT NULL DEFAULT '',
    -- It was ended; else it goes on, or the moth was killed.
    ended INTEGER NOT NULL DEFAULT 0,
    -- How far it is thinned: 0 not at all.
    thinned INTEGER NOT NULL DEFAULT 0,
    -- What it takes, in bytes: the sum would have to be read in every list.
    bytes INTEGER NOT NULL DEFAULT 0,
    -- What the list shows of it, as JSON.
    digest TEXT NOT NULL,
    -- What does not come second by second, as JSON.
    whole TEXT NOT NULL
) STRICT;

CREATE INDEX broadcast_began ON broadcast (began_ms);

-- Seconds: columns of so many values, deflated.
CREATE TABLE second (
    broadcast INTEGER NOT NULL REFERENCES broadcast (nr) ON DELETE CASCADE,
    first INTEGER NOT NULL,
    seconds INTEGER NOT NULL,
    columns BLOB NOT NULL,
    PRIMARY KEY (broadcast, first)
) STRICT, WITHOUT ROWID;

-- How everything stood: stretches of one deflated stream a page.
CREATE TABLE moment (
    broadcast INTEGER NOT NULL REFERENCES broadcast (nr) ON DELETE CASCADE,
    page_us INTEGER NOT NULL,
    at_us INTEGER NOT NULL,
    chunk BLOB NOT NULL,
    PRIMARY KEY (broadcast, at_us)
) STRICT, WITHOUT ROWID;

-- Verdicts, marks, trials and tests, as JSON, in their order.
CREATE TABLE entry (
    broadcast INTEGER NOT NULL REFERENCES broadcast (nr) ON DELETE CASCADE,
    kind TEXT NOT NULL CHECK (kind IN ('verdict', 'mark', 'trial', 'test')),
    place INTEGER NOT NULL,
    body TEXT NOT NULL,
    PRIMARY KEY (broadcast, kind, place)
) STRICT, WITHOUT ROWID;

-- Readings, where they were kept: a compressed readings file in stretches.
CREATE TABLE readings (
    broadcast INTEGER NOT NULL REFERENCES broadcast (nr) ON DELETE CASCADE,
    place INTEGER NOT NULL,
    stretch BLOB NOT NULL,
    PRIMARY KEY (broadcast, place)
) STRICT, WITHOUT ROWID;
