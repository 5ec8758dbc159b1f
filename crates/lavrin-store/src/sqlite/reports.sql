
-- What a report counted, by which part of the register it was about; since version 2.
CREATE TABLE IF NOT EXISTS report (
  time INTEGER NOT NULL,
  scope TEXT NOT NULL,
  numbers TEXT NOT NULL
);
