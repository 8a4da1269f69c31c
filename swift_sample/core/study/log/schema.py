"""Tables of results.db. What happened is only ever added to: `events` is the log, and a row of
`runs` or `measurements` holds the body of the event with its number. `identities` has the record
behind every name.
"""

SCHEMA = 5
"""The version of these tables. Those before it were never released, and are refused."""

TABLES = """
CREATE TABLE events (
    number INTEGER PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL, text TEXT NOT NULL, body
    TEXT NOT NULL);
CREATE TABLE identities (name TEXT PRIMARY KEY, kind TEXT NOT NULL, record TEXT NOT NULL);
CREATE TABLE runs (
    number INTEGER PRIMARY KEY REFERENCES events(number), renderer TEXT NOT NULL, scene TEXT NOT
    NULL, trial TEXT NOT NULL,
    appearance TEXT NOT NULL, machine TEXT NOT NULL, seed INTEGER NOT NULL, block INTEGER NOT
    NULL, control INTEGER NOT NULL,
    picture TEXT NOT NULL, reason TEXT NOT NULL, software TEXT NOT NULL, load REAL, textures
    REAL, build REAL,
    first_picture REAL, sampling REAL, denoise REAL, write REAL, total REAL, cpu_seconds REAL,
    peak_memory_bytes INTEGER,
    picture_bytes INTEGER, ready_seconds REAL, load_of_others REAL, samples_mean REAL,
    digest TEXT NOT NULL DEFAULT '', by_machine INTEGER NOT NULL DEFAULT 0, host TEXT NOT NULL
    DEFAULT '');
CREATE TABLE records (number INTEGER PRIMARY KEY REFERENCES runs(number), record BLOB NOT NULL);
CREATE TABLE measurements (
    event INTEGER NOT NULL REFERENCES events(number), name TEXT NOT NULL, renderer TEXT NOT
    NULL, scene TEXT NOT NULL,
    appearance TEXT NOT NULL, exposure REAL NOT NULL, curve TEXT NOT NULL, x INTEGER NOT NULL, y
    INTEGER NOT NULL,
    width INTEGER NOT NULL, height INTEGER NOT NULL, reference TEXT NOT NULL, recipe TEXT NOT
    NULL, pictures TEXT NOT NULL,
    reference_samples INTEGER NOT NULL, seconds REAL NOT NULL, figures TEXT NOT NULL);
CREATE INDEX measurements_by_event ON measurements(event);
"""
