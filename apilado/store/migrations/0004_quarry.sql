-- The quarry: an entry for every sound that was brought or bounced. One content is one entry.
CREATE TABLE sounds (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    asset TEXT NOT NULL UNIQUE REFERENCES assets (sha256),
    name TEXT NOT NULL,
    tags TEXT NOT NULL DEFAULT '',
    origin TEXT NOT NULL DEFAULT 'imported' CHECK (origin IN ('imported', 'bounced', 'frozen')),
    made_of TEXT NOT NULL DEFAULT '',
    stack INTEGER,
    revision INTEGER,
    tempo_bpm REAL,
    beats REAL,
    key TEXT NOT NULL DEFAULT '',
    -- What is measured once it is there; until then there is no spectrum.
    seconds REAL,
    channels INTEGER,
    frequency_hz REAL,
    loudness_lkfs REAL,
    spectrum BLOB,
    pinned INTEGER NOT NULL DEFAULT 0,
    removed_at TEXT,
    at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);

CREATE INDEX sounds_in_the_list ON sounds (removed_at, id);

CREATE VIRTUAL TABLE sounds_words USING fts5 (
    name, tags, made_of, content = 'sounds', content_rowid = 'id', tokenize = 'unicode61 remove_diacritics 2'
);

CREATE TRIGGER sounds_entered AFTER INSERT ON sounds BEGIN
    INSERT INTO sounds_words (rowid, name, tags, made_of) VALUES (new.id, new.name, new.tags, new.made_of);
END;

CREATE TRIGGER sounds_gone AFTER DELETE ON sounds BEGIN
    INSERT INTO sounds_words (sounds_words, rowid, name, tags, made_of)
    VALUES ('delete', old.id, old.name, old.tags, old.made_of);
END;

CREATE TRIGGER sounds_changed AFTER UPDATE OF name, tags, made_of ON sounds BEGIN
    INSERT INTO sounds_words (sounds_words, rowid, name, tags, made_of)
    VALUES ('delete', old.id, old.name, old.tags, old.made_of);
    INSERT INTO sounds_words (rowid, name, tags, made_of) VALUES (new.id, new.name, new.tags, new.made_of);
END;

INSERT INTO sounds (asset, name, at) SELECT sha256, file_name, at FROM assets ORDER BY at, sha256;

-- What uses a sound: states of stacks, and casts. A sound that is used here cannot be deleted.
CREATE TABLE revision_sounds (
    revision INTEGER NOT NULL REFERENCES revisions (id) ON DELETE CASCADE,
    sound INTEGER NOT NULL REFERENCES sounds (id),
    PRIMARY KEY (revision, sound)
) WITHOUT ROWID;

CREATE INDEX revisions_by_sound ON revision_sounds (sound);

INSERT INTO revision_sounds SELECT revisions.id, sounds.id FROM revisions JOIN sounds ON instr(document, asset) > 0;

CREATE TABLE cast_sounds (
    cast_id INTEGER NOT NULL REFERENCES casts (id) ON DELETE CASCADE,
    sound INTEGER NOT NULL REFERENCES sounds (id),
    PRIMARY KEY (cast_id, sound)
) WITHOUT ROWID;

CREATE INDEX casts_by_sound ON cast_sounds (sound);

INSERT INTO cast_sounds SELECT casts.id, sounds.id FROM casts JOIN sounds ON instr(document, asset) > 0;

-- Audio files that are on their way in or out. What is left of them when the program ends in the middle goes at the
-- next start, unless an asset has that name.
CREATE TABLE files_under_way (name TEXT PRIMARY KEY);
