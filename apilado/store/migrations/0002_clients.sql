-- Which page made a revision, so that an undo that takes back what another page did can say so.
ALTER TABLE revisions ADD COLUMN client TEXT;
