CREATE TABLE stacks (
    id INTEGER PRIMARY KEY,
    head INTEGER REFERENCES revisions (id) DEFERRABLE INITIALLY DEFERRED,
    deleted_at TEXT,
    created_at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);

-- A revision is a whole document. Undo moves a stack's head to the parent, redo to the newest child.
CREATE TABLE revisions (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    stack INTEGER NOT NULL REFERENCES stacks (id) ON DELETE CASCADE,
    parent INTEGER REFERENCES revisions (id),
    title TEXT NOT NULL,
    gesture TEXT,
    document TEXT NOT NULL,
    at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);

CREATE INDEX revisions_by_parent ON revisions (parent);
CREATE INDEX revisions_by_stack ON revisions (stack);

CREATE TABLE assets (
    sha256 TEXT PRIMARY KEY CHECK (length(sha256) = 64),
    extension TEXT NOT NULL,
    file_name TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);

-- What the soundings said of a revision, so that the shelf need not measure it again.
CREATE TABLE checks (
    revision INTEGER PRIMARY KEY REFERENCES revisions (id) ON DELETE CASCADE,
    engine TEXT NOT NULL,
    faults INTEGER NOT NULL,
    looks INTEGER NOT NULL,
    widths TEXT NOT NULL
);
