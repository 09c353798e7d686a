-- What takes its time: bounces, deliveries. What was not done when the program ended is told, and can be begun again.
CREATE TABLE jobs (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    kind TEXT NOT NULL,
    stack INTEGER REFERENCES stacks (id) ON DELETE CASCADE,
    revision INTEGER NOT NULL,
    title TEXT NOT NULL,
    wanted TEXT NOT NULL,
    document TEXT NOT NULL,
    state TEXT NOT NULL DEFAULT 'running' CHECK (state IN ('running', 'done', 'failed', 'stopped', 'broken off')),
    said TEXT NOT NULL DEFAULT '',
    made TEXT NOT NULL DEFAULT '{}',
    dismissed INTEGER NOT NULL DEFAULT 0,
    at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
    ended_at TEXT
);

CREATE INDEX jobs_by_stack ON jobs (stack);

-- Choices of a delivery that were kept by a name.
CREATE TABLE presets (
    name TEXT PRIMARY KEY,
    options TEXT NOT NULL,
    at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);
