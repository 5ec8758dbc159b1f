-- Times are seconds since 1970, keys are fingerprints as they are shown.
CREATE TABLE IF NOT EXISTS content (
  hash BLOB PRIMARY KEY,
  bytes BLOB NOT NULL
);
-- A document that was seen on a host, from the first look that saw it to the last one.
CREATE TABLE IF NOT EXISTS observation (
  id INTEGER PRIMARY KEY,
  host TEXT NOT NULL,
  document BLOB NOT NULL REFERENCES content (hash),
  first INTEGER NOT NULL,
  last INTEGER NOT NULL
);
CREATE INDEX IF NOT EXISTS observation_host ON observation (host, first);
-- The last look at each host, and how it ended.
CREATE TABLE IF NOT EXISTS look (
  host TEXT PRIMARY KEY,
  tried INTEGER NOT NULL,
  seen INTEGER,
  fault TEXT,
  logs_since INTEGER
) WITHOUT ROWID;
-- An entry of a key file, from the look that first saw it to the one that did not see it any more.
CREATE TABLE IF NOT EXISTS sighting (
  host TEXT NOT NULL,
  account TEXT NOT NULL,
  key TEXT NOT NULL,
  comment TEXT NOT NULL,
  first INTEGER NOT NULL,
  gone INTEGER
);
CREATE INDEX IF NOT EXISTS sighting_host ON sighting (host, gone);
CREATE INDEX IF NOT EXISTS sighting_key ON sighting (key);
CREATE TABLE IF NOT EXISTS key_use (
  host TEXT NOT NULL,
  account TEXT NOT NULL,
  key TEXT NOT NULL,
  time INTEGER NOT NULL,
  origin TEXT NOT NULL,
  PRIMARY KEY (host, account, key)
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS journal (
  number INTEGER PRIMARY KEY AUTOINCREMENT,
  id TEXT NOT NULL,
  time TEXT NOT NULL,
  entry TEXT NOT NULL
);
