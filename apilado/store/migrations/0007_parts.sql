-- Parts of stacks that were kept: layers, chains, EQs, ducks, movements.
CREATE TABLE parts (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    kind TEXT NOT NULL,
    name TEXT NOT NULL,
    part TEXT NOT NULL,
    removed_at TEXT,
    at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);

-- What a part plays stays as long as the part is kept.
CREATE TABLE part_sounds (
    part INTEGER NOT NULL REFERENCES parts (id) ON DELETE CASCADE,
    sound INTEGER NOT NULL REFERENCES sounds (id),
    PRIMARY KEY (part, sound)
) WITHOUT ROWID;

CREATE INDEX parts_by_sound ON part_sounds (sound);
