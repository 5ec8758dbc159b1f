-- Times are seconds since 1970, keys are fingerprints as they are shown.
CREATE SCHEMA lavrin;
REVOKE ALL ON SCHEMA lavrin FROM PUBLIC;
CREATE TABLE lavrin.form (
  number integer PRIMARY KEY
);
-- Documents, files and backups, once for the whole office. Nobody can keep one under a hash that it does not have.
CREATE TABLE lavrin.content (
  hash bytea PRIMARY KEY,
  bytes bytea NOT NULL,
  CONSTRAINT content_has_its_hash CHECK (hash = sha256(bytes))
);
-- Each host as it was last seen, and how the last look ended. `first` is the look that first saw it so, `seen` the last one.
CREATE TABLE lavrin.look (
  host text COLLATE "C" PRIMARY KEY,
  tried bigint NOT NULL,
  seen bigint,
  fault text,
  logs_since bigint,
  document bytea REFERENCES lavrin.content,
  first bigint,
  register text,
  first_register text
) WITH (fillfactor = 70);
-- What hosts were like before that, by the year in which it ended.
CREATE TABLE lavrin.observation (
  host text COLLATE "C" NOT NULL,
  document bytea NOT NULL REFERENCES lavrin.content,
  first bigint NOT NULL,
  last bigint NOT NULL,
  register text
) PARTITION BY RANGE (last);
CREATE INDEX observation_host ON lavrin.observation (host, first);
CREATE TABLE lavrin.observation_other PARTITION OF lavrin.observation DEFAULT;
-- An entry of a key file, from the look that first saw it to the one that did not see it any more; those that are there still are
-- in the partition `sighting_open`.
CREATE TABLE lavrin.sighting (
  id bigint GENERATED ALWAYS AS IDENTITY,
  host text COLLATE "C" NOT NULL,
  account text COLLATE "C" NOT NULL,
  key text COLLATE "C" NOT NULL,
  comment text COLLATE "C" NOT NULL,
  first bigint NOT NULL,
  gone bigint
) PARTITION BY RANGE (gone);
CREATE INDEX sighting_host ON lavrin.sighting (host);
CREATE INDEX sighting_key ON lavrin.sighting (key);
CREATE TABLE lavrin.sighting_open PARTITION OF lavrin.sighting DEFAULT;
CREATE TABLE lavrin.key_use (
  host text COLLATE "C" NOT NULL,
  account text COLLATE "C" NOT NULL,
  key text COLLATE "C" NOT NULL,
  time bigint NOT NULL,
  origin text NOT NULL,
  PRIMARY KEY (host, account, key)
);
-- What a report counted, by which part of the register it was about.
CREATE TABLE lavrin.report (
  number bigint GENERATED ALWAYS AS IDENTITY,
  time bigint NOT NULL,
  scope text COLLATE "C" NOT NULL,
  numbers text NOT NULL
);
CREATE INDEX report_scope ON lavrin.report (scope, time);
-- Each line holds the hash over the one before it and itself.
CREATE TABLE lavrin.journal (
  number bigint PRIMARY KEY,
  id text COLLATE "C" NOT NULL,
  time text COLLATE "C" NOT NULL,
  entry text NOT NULL,
  hash bytea NOT NULL
);
CREATE INDEX journal_id ON lavrin.journal (id);
-- The only way into the journal: behind its last line, with the hash that belongs there. The lock makes the next one wait.
CREATE FUNCTION lavrin.append(new_id text, new_time text, new_entry text) RETURNS bigint
LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $$
DECLARE
  place bigint;
  link bytea := decode(repeat('00', 32), 'hex');
  part text;
BEGIN
  LOCK TABLE lavrin.journal IN EXCLUSIVE MODE;
  SELECT number + 1, hash INTO place, link FROM lavrin.journal ORDER BY number DESC LIMIT 1;
  IF place IS NULL THEN
    place := 1;
    link := decode(repeat('00', 32), 'hex');
  END IF;
  link := link || int8send(place);
  FOREACH part IN ARRAY ARRAY[new_id, new_time, new_entry] LOOP
    link := link || int8send(octet_length(convert_to(part, 'UTF8'))::bigint) || convert_to(part, 'UTF8');
  END LOOP;
  INSERT INTO lavrin.journal VALUES (place, new_id, new_time, new_entry, sha256(link));
  RETURN place;
END $$;
REVOKE ALL ON FUNCTION lavrin.append FROM PUBLIC;
-- When each host is to be looked at next, who does it now and until when, and who asked for a look.
CREATE TABLE lavrin.work (
  host text COLLATE "C" PRIMARY KEY,
  site text COLLATE "C",
  due bigint NOT NULL,
  collector text COLLATE "C",
  until bigint,
  asked bigint
);
CREATE INDEX work_due ON lavrin.work (due);
-- Who changes which host since when. Whether somebody still does is told by the lock that goes with it.
CREATE TABLE lavrin.at_work (
  host text COLLATE "C" PRIMARY KEY,
  who text NOT NULL,
  since bigint NOT NULL
);
-- Observations that ended before a moment were taken out.
CREATE TABLE lavrin.pruned (
  before bigint NOT NULL,
  time bigint NOT NULL
);
-- Where the store went, once it was moved.
CREATE TABLE lavrin.moved (
  place text NOT NULL,
  time bigint NOT NULL
);

GRANT USAGE ON SCHEMA lavrin TO lavrin_reader;
GRANT SELECT ON ALL TABLES IN SCHEMA lavrin TO lavrin_reader;
GRANT INSERT ON lavrin.content, lavrin.look, lavrin.observation, lavrin.sighting, lavrin.key_use TO lavrin_collector;
GRANT UPDATE (tried, seen, fault, logs_since, document, first, register, first_register) ON lavrin.look TO lavrin_collector;
GRANT UPDATE (gone) ON lavrin.sighting TO lavrin_collector;
GRANT UPDATE (time, origin) ON lavrin.key_use TO lavrin_collector;
GRANT INSERT, UPDATE, DELETE ON lavrin.work TO lavrin_collector;
GRANT EXECUTE ON FUNCTION lavrin.append TO lavrin_administrator;
GRANT UPDATE (host) ON lavrin.look, lavrin.observation, lavrin.sighting, lavrin.key_use TO lavrin_administrator;
GRANT INSERT, DELETE ON lavrin.report TO lavrin_administrator;
GRANT INSERT, UPDATE, DELETE ON lavrin.at_work TO lavrin_administrator;
GRANT INSERT ON lavrin.moved TO lavrin_administrator;
