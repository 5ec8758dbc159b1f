WITH own AS (
  SELECT c.oid, c.relkind, regexp_replace(c.relname, '_20[0-9][0-9]((_[a-z0-9_]*)?)$', '_YEAR\1') AS name, c.relacl, c.relowner
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE n.nspname = 'lavrin' AND c.relkind IN ('r', 'p', 'v', 'm', 'f', 'S', 'i', 'I')
)
SELECT DISTINCT line COLLATE "C" FROM (
  SELECT format('%s %s', CASE relkind WHEN 'r' THEN 'table' WHEN 'p' THEN 'parted table' WHEN 'v' THEN 'view' WHEN 'm' THEN 'view'
    WHEN 'f' THEN 'foreign table' WHEN 'S' THEN 'sequence' ELSE 'index' END, name) AS line FROM own
  UNION ALL
  SELECT format('column %s.%s %s%s%s', own.name, a.attname, format_type(a.atttypid, a.atttypmod),
      CASE WHEN a.attnotnull THEN ' not null' ELSE '' END, CASE WHEN a.atthasdef THEN ' default' ELSE '' END)
  FROM own JOIN pg_attribute a ON a.attrelid = own.oid
  WHERE own.relkind IN ('r', 'p') AND a.attnum > 0 AND NOT a.attisdropped
  UNION ALL
  SELECT format('constraint %s %s', own.name, regexp_replace(pg_get_constraintdef(k.oid), '_20[0-9][0-9]', '_YEAR', 'g'))
  FROM own JOIN pg_constraint k ON k.conrelid = own.oid WHERE k.contype <> 'n'
  UNION ALL
  SELECT format('trigger %s.%s', own.name, t.tgname) FROM own JOIN pg_trigger t ON t.tgrelid = own.oid WHERE NOT t.tgisinternal
  UNION ALL
  SELECT format('rule %s.%s', own.name, r.rulename) FROM own JOIN pg_rewrite r ON r.ev_class = own.oid
  UNION ALL
  SELECT format('policy %s.%s', own.name, p.polname) FROM own JOIN pg_policy p ON p.polrelid = own.oid
  UNION ALL
  SELECT format('function %s(%s) %s', f.proname, pg_get_function_identity_arguments(f.oid), md5(f.prosrc || f.prosecdef || coalesce(f.proconfig::text, '')))
  FROM pg_proc f JOIN pg_namespace n ON n.oid = f.pronamespace WHERE n.nspname = 'lavrin'
  UNION ALL
  SELECT format('right %s %s %s', own.name, coalesce(nullif(acl.grantee, 0)::regrole::text, 'everybody'), acl.privilege_type)
  FROM own CROSS JOIN LATERAL aclexplode(own.relacl) AS acl WHERE acl.grantee <> own.relowner
  UNION ALL
  SELECT format('right %s.%s %s %s', own.name, a.attname, coalesce(nullif(acl.grantee, 0)::regrole::text, 'everybody'), acl.privilege_type)
  FROM own JOIN pg_attribute a ON a.attrelid = own.oid CROSS JOIN LATERAL aclexplode(a.attacl) AS acl
  UNION ALL
  SELECT format('right %s() %s %s', f.proname, coalesce(nullif(acl.grantee, 0)::regrole::text, 'everybody'), acl.privilege_type)
  FROM pg_proc f JOIN pg_namespace n ON n.oid = f.pronamespace
    CROSS JOIN LATERAL aclexplode(coalesce(f.proacl, acldefault('f', f.proowner))) AS acl
  WHERE n.nspname = 'lavrin' AND acl.grantee <> f.proowner
  UNION ALL
  SELECT format('owner %s %s', own.name, own.relowner::regrole::text) FROM own WHERE own.relowner::regrole::text <> 'lavrin_owner'
) AS lines ORDER BY 1
