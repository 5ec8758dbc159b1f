
-- For each line of the journal the hash over the one before and the line itself; since version 3.
CREATE TABLE IF NOT EXISTS chain (
  number INTEGER PRIMARY KEY REFERENCES journal (number),
  hash BLOB NOT NULL
);
