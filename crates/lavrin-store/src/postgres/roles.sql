-- The roles of a store that an office shares. Nobody signs in as one of them: they are granted to the logins of people and collectors.
--   lavrin_owner          owns the tables; changes their form, and prunes
--   lavrin_administrator  changes hosts: adds to the journal and keeps what is replaced; can take nothing out of either
--   lavrin_collector      adds what it sees on hosts; reads the rest
--   lavrin_reader         reads
DO $$
DECLARE
  role text;
BEGIN
  FOREACH role IN ARRAY ARRAY['lavrin_owner', 'lavrin_administrator', 'lavrin_collector', 'lavrin_reader'] LOOP
    IF NOT EXISTS (SELECT FROM pg_catalog.pg_roles WHERE rolname = role) THEN
      EXECUTE format('CREATE ROLE %I NOLOGIN', role);
    END IF;
  END LOOP;
END $$;
GRANT lavrin_reader TO lavrin_collector;
GRANT lavrin_collector TO lavrin_administrator;
GRANT lavrin_administrator TO lavrin_owner;
