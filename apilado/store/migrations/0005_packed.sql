-- A document is kept whole now and then; those after it are kept as what differs from it.
CREATE TABLE bases (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    document BLOB NOT NULL
);

-- Without a base, a document stands in its revision as it is.
ALTER TABLE revisions ADD COLUMN base INTEGER REFERENCES bases (id);

CREATE INDEX revisions_by_base ON revisions (base);
