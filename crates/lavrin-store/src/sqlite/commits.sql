
-- By which commit of the register a host was last looked at, and by which an observation was first made; since version 4.
CREATE TABLE IF NOT EXISTS look_commit (
  host TEXT PRIMARY KEY,
  register TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS observation_commit (
  host TEXT NOT NULL,
  first INTEGER NOT NULL,
  register TEXT NOT NULL,
  PRIMARY KEY (host, first)
) WITHOUT ROWID;
-- Observations that ended before a moment were taken out.
CREATE TABLE IF NOT EXISTS pruned (
  before INTEGER NOT NULL,
  time INTEGER NOT NULL
);
