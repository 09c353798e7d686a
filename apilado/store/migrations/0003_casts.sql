-- A cast is a state of a stack that was kept to be heard against others: it has its own copy of the document, so that
-- no edit, no undo and no gesture that replaces a revision can reach it.
CREATE TABLE casts (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    stack INTEGER NOT NULL REFERENCES stacks (id) ON DELETE CASCADE,
    name TEXT NOT NULL,
    judgement TEXT NOT NULL DEFAULT '',
    document TEXT NOT NULL,
    revision INTEGER NOT NULL,
    removed_at TEXT,
    at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);

CREATE INDEX casts_by_stack ON casts (stack);
