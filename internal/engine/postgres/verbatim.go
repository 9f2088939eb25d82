package postgres

// This file says how all of a schema is created that it holds, with what Inspect has no use for:
// comments on everything, rights, owners, rules, statistics, how columns are stored, parts of
// tables, what else belongs to one of its tables.

import (
	"context"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Verbatim gives what creates all that a schema holds.
func (d *database) Verbatim(ctx context.Context, s *sqlschema.Schema) ([]engine.Creation, error) {
	return d.verbatim(ctx, place{}, s, Engine{}.CreateAll(s))
}

// verbatim adds to creations what Inspect has no use for.
func (d *database) verbatim(ctx context.Context, at place, s *sqlschema.Schema,
	list []engine.Creation) ([]engine.Creation, error) {
	rest, err := d.rest(ctx, at, s)
	if err != nil {
		return nil, err
	}
	if at == (place{}) {
		for _, name := range schemasRead(s) {
			more, err := d.rest(ctx, place{schema: name}, s)
			if err != nil {
				return nil, err
			}
			for _, c := range more { // what belongs to the database is told with each
				if !slices.ContainsFunc(rest, func(o engine.Creation) bool { return o.SQL == c.SQL }) {
					rest = append(rest, c)
				}
			}
		}
	}
	for _, c := range rest {
		if c.Kind != engine.Part || !slices.ContainsFunc(list,
			func(o engine.Creation) bool { return o.Kind == engine.Part && o.Name == c.Name }) {
			list = append(list, c)
		}
	}
	for i, c := range list {
		if c.Kind != "function" && c.Kind != "procedure" {
			list[i].SQL = storedAgain(c.SQL)
		}
	}
	return list, nil
}

// schemasRead are the schemas that were read, next to that of the session.
func schemasRead(s *sqlschema.Schema) []string {
	var out []string
	for _, o := range s.Others {
		if o.Kind == schemaKind {
			out = append(out, o.Name)
		}
	}
	return out
}

// rest gives what Inspect has no use for of one schema.
func (d *database) rest(ctx context.Context, at place, s *sqlschema.Schema) ([]engine.Creation, error) {
	all, err := d.catalogues(ctx, at, []string{restQuery})
	if err != nil {
		return nil, err
	}
	in := map[string]bool{}
	for _, t := range s.Tables {
		in[t.Name] = true
	}
	of := map[string]string{} // of what each part is one
	var out []engine.Creation
	for _, r := range all[0] {
		c := engine.Creation{Kind: r[1], Name: r[2], OfKind: r[3], Of: r[4], SQL: r[5]}
		if c.Kind == "index" {
			c.Name = tableIn(c.Name)
		}
		switch {
		case c.Kind == engine.Part:
			c.Name, c.Of = tableIn(c.Name), tableIn(c.Of)
			of[c.Name] = c.Of
		case at.schema != "":
			c = inAnother(at.schema, c)
		}
		if c.OfKind == engine.Part && ofTable[c.Kind] {
			c.Kind, c.Name, c.OfKind, c.Of = moreOfPart, c.Of, "", of[c.Of]
		}
		table := c.Of
		if c.Kind == engine.Part || c.Kind == moreOfPart {
			table = c.Name
		}
		if (c.OfKind == "" || c.OfKind == engine.Part) && c.Of != "" && !in[table] { // of a table that is not asked for
			continue
		}
		out = append(out, c)
	}
	return out, nil
}

// moreOfPart is the kind of a statement that says more of a part, and ofTable are the kinds of those: what they say
// of a table that is none is read with it.
const moreOfPart = "more of " + engine.Part

var ofTable = map[string]bool{"column": true, "clustering of": true, "identity of": true}

// inAnother is a creation in another schema, with the names that statements have for what it is and belongs to.
func inAnother(in string, c engine.Creation) engine.Creation {
	if c.Of != "" && !ofDatabase[c.OfKind] {
		c.Of = schema.InSchema(in, c.Of)
	}
	switch {
	case c.Kind == "statistics":
		c.Name = schema.InSchema(in, strings.Trim(c.Name, `"`))
	case c.Kind == "index": // it is created without its schema, where its table is
		c.Name = bare(c.Name)
	}
	return c
}

// ofDatabase are the kinds of what does not lie in a schema.
var ofDatabase = map[string]bool{schemaKind: true, "publication": true, "event trigger": true, "rights": true}

const (
	// grantee and grantable are whom a right is given, and that it can be passed on.
	grantee   = `CASE WHEN x.grantee = '0' THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(x.grantee)) END`
	grantable = `CASE WHEN x.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END`
	// anothers is the condition that a table is part of another, or inherits from one.
	anothers = `r.relkind IN ('r', 'p') AND EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = r.oid)`
	ofClass  = `'pg_catalog.pg_class'::regclass::oid`
)

// restQuery gives, in order, what the statements create, its name, the kind and the name of what it
// belongs to, where the kind of a table is empty, and the statement. Rights come last, those of
// the owner taken before they are given. Who runs it may well not own the schema public: its comment
// stays as it is then.
var restQuery = `WITH r AS (
		SELECT c.*, nullif(c.relacl, acldefault((CASE c.relkind WHEN 'S' THEN 's' ELSE 'r' END)::"char", c.relowner)) AS acl, c.relacl @> acldefault((CASE c.relkind WHEN 'S' THEN 's' ELSE 'r' END)::"char", c.relowner) AS usual, c.oid::regclass::text AS name, CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'f' THEN 'FOREIGN TABLE' ELSE 'TABLE' END AS kind,
			CASE c.relkind WHEN 'v' THEN 'view' WHEN 'm' THEN 'materialised view' WHEN 'S' THEN CASE WHEN o.relname IS NULL THEN 'sequence' ELSE '' END WHEN 'f' THEN '' ELSE CASE WHEN EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = c.oid) THEN 'part' ELSE '' END END AS ofkind, coalesce(o.relname, c.relname)::text AS tab
		FROM pg_class c LEFT JOIN (SELECT d.objid, t.relname FROM pg_depend d JOIN pg_class t ON t.oid = d.refobjid WHERE d.classid = ` + ofClass + ` AND d.refclassid = ` + ofClass + ` AND d.deptype IN ('a', 'i') AND d.refobjsubid > 0) o ON o.objid = c.oid AND c.relkind = 'S'
		 WHERE c.relnamespace = ` + here + ` AND c.relkind IN ('r', 'p', 'f', 'v', 'm', 'S') AND c.relname::text NOT LIKE 'erbario\_%' AND ` + notExtensionOf + `
	), a AS (
		SELECT a.*, r.name, r.kind, r.ofkind, r.tab, quote_ident(a.attname) AS col, r.relkind FROM pg_attribute a JOIN r ON a.attrelid = r.oid WHERE a.attnum > 0 AND NOT a.attisdropped
	), p AS (
		SELECT p.*, nullif(p.proacl, acldefault('f'::"char", p.proowner)) AS acl, p.proacl @> acldefault('f'::"char", p.proowner) AS usual, CASE p.prokind WHEN 'a' THEN 'aggregate' WHEN 'p' THEN 'procedure' ELSE 'function' END AS ofkind, p.proname::text || '(' || pg_get_function_identity_arguments(p.oid) || ')' AS tab, p.oid::regprocedure::text AS name, CASE p.prokind WHEN 'p' THEN 'PROCEDURE' WHEN 'a' THEN 'AGGREGATE' ELSE 'FUNCTION' END AS kind FROM pg_proc p
		WHERE p.pronamespace = ` + here + ` AND p.proname::text NOT LIKE 'erbario\_%' AND ` + notExtensionProc + `
	), t AS (
		SELECT t.*, nullif(t.typacl, acldefault('T'::"char", t.typowner)) AS acl, t.typacl @> acldefault('T'::"char", t.typowner) AS usual, CASE t.typtype WHEN 'd' THEN 'domain' WHEN 'e' THEN 'enum type' WHEN 'r' THEN 'range type' ELSE 'composite type' END AS ofkind, t.typname::text AS tab, format_type(t.oid, NULL) AS name, CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END AS kind FROM pg_type t LEFT JOIN pg_class c ON c.oid = t.typrelid
		WHERE t.typnamespace = ` + here + ` AND (t.typtype IN ('e', 'd', 'r') OR t.typtype = 'c' AND c.relkind = 'c') AND ` + notExtensionType + `
	), k AS (
		SELECT k.*, r.name, r.ofkind, r.tab FROM pg_constraint k JOIN r ON r.oid = k.conrelid WHERE k.contype IN ('p', 'u', 'c', 'f', 'x') AND k.conparentid = '0'
	), g AS (
		SELECT g.*, r.name, r.ofkind, r.tab, r.kind, r.relkind FROM pg_trigger g JOIN r ON r.oid = g.tgrelid WHERE NOT g.tgisinternal
	), u AS (
		SELECT u.*, r.name, r.ofkind, r.tab FROM pg_rewrite u JOIN r ON r.oid = u.ev_class WHERE u.rulename <> '_RETURN'
	), n AS (
		SELECT n.*, n.nspacl @> i.base AS usual, i.base FROM pg_namespace n, LATERAL (SELECT coalesce((SELECT v.initprivs FROM pg_init_privs v WHERE v.objoid = n.oid AND v.classoid = 'pg_catalog.pg_namespace'::regclass::oid AND v.objsubid = '0'::integer), acldefault('n', n.nspowner)) AS base) i WHERE n.oid = ` + here + `
	), s AS (
		SELECT s.*, r.ofkind, r.tab, quote_ident(s.stxname) AS name FROM pg_statistic_ext s JOIN r ON r.oid = s.stxrelid
	)
	SELECT place, kind, name, ofkind, tab, sql FROM (
		SELECT 0 AS place, 'part' AS kind, r.name AS name, '' AS ofkind, ` + parentOf("r") + ` AS tab, ` + partStatement("r") + ` AS sql
			FROM r WHERE r.relkind IN ('r', 'p') AND EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = r.oid)
		UNION ALL SELECT 1, 'column', a.name, a.ofkind, a.tab, format('ALTER TABLE ONLY %s ALTER COLUMN %s %s', a.name, a.col, CASE WHEN f.adbin IS NULL THEN 'DROP DEFAULT' ELSE 'SET DEFAULT ' || pg_get_expr(f.adbin, f.adrelid) END)
			FROM a JOIN r ON r.oid = a.attrelid LEFT JOIN pg_attrdef f ON f.adrelid = a.attrelid AND f.adnum = a.attnum
			WHERE ` + anothers + ` AND a.attinhcount > '0'::integer AND a.attgenerated = '' AND a.attidentity = '' AND coalesce(pg_get_expr(f.adbin, f.adrelid), '') IS DISTINCT FROM (SELECT min(coalesce(pg_get_expr(o.adbin, o.adrelid), '')) FROM pg_inherits h JOIN pg_attribute b ON b.attrelid = h.inhparent AND b.attname = a.attname LEFT JOIN pg_attrdef o ON o.adrelid = b.attrelid AND o.adnum = b.attnum WHERE h.inhrelid = a.attrelid)
		UNION ALL SELECT 1, 'column', a.name, a.ofkind, a.tab, format('ALTER TABLE ONLY %s ALTER COLUMN %s SET NOT NULL', a.name, a.col) FROM a JOIN r ON r.oid = a.attrelid
			WHERE ` + anothers + ` AND a.attinhcount > '0'::integer AND a.attnotnull AND NOT EXISTS (SELECT 1 FROM pg_inherits h JOIN pg_attribute b ON b.attrelid = h.inhparent AND b.attname = a.attname WHERE h.inhrelid = a.attrelid AND b.attnotnull)
		UNION ALL SELECT 1, 'constraint', k.conname, k.ofkind, k.tab, format('ALTER TABLE ONLY %s ADD CONSTRAINT %I %s', k.name, k.conname, pg_get_constraintdef(k.oid)) FROM k WHERE k.conislocal AND k.coninhcount = '0'::integer AND EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = k.conrelid)
		UNION ALL SELECT 1, 'index', i.indexrelid::regclass::text, r.ofkind, r.tab, pg_get_indexdef(i.indexrelid) FROM pg_index i JOIN r ON r.oid = i.indrelid WHERE EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = r.oid) AND NOT EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = i.indexrelid) AND NOT EXISTS (SELECT 1 FROM pg_constraint c WHERE c.conindid = i.indexrelid)
		UNION ALL SELECT 1 AS place, 'options of' AS kind, r.name AS name, r.ofkind AS ofkind, r.tab AS tab, format('ALTER VIEW %s SET (%s)', r.name, array_to_string(r.reloptions, ', ')) AS sql FROM r WHERE r.relkind = 'v' AND r.reloptions IS NOT NULL
		UNION ALL SELECT 1, 'column', a.name, a.ofkind, a.tab, format('ALTER TABLE ONLY %s ALTER COLUMN %s SET STORAGE %s', a.name, a.col, CASE a.attstorage WHEN 'p' THEN 'PLAIN' WHEN 'e' THEN 'EXTERNAL' WHEN 'm' THEN 'MAIN' ELSE 'EXTENDED' END) FROM a JOIN pg_type y ON y.oid = a.atttypid JOIN r ON r.oid = a.attrelid WHERE (a.relkind = 'm' OR ` + anothers + `) AND a.attstorage <> y.typstorage
		UNION ALL SELECT 1, 'column', a.name, a.ofkind, a.tab, format('ALTER TABLE ONLY %s ALTER COLUMN %s SET COMPRESSION %s', a.name, a.col, CASE a.attcompression WHEN 'l' THEN 'lz4' ELSE 'pglz' END) FROM a JOIN r ON r.oid = a.attrelid WHERE (a.relkind = 'm' OR ` + anothers + `) AND a.attcompression <> ''
		UNION ALL SELECT 1, 'column', a.name, a.ofkind, a.tab, format('ALTER TABLE ONLY %s ALTER COLUMN %s SET STATISTICS %s', a.name, a.col, a.attstattarget) FROM a JOIN r ON r.oid = a.attrelid WHERE (a.relkind IN ('m', 'f') OR ` + anothers + `) AND a.attstattarget >= '0'::integer
		UNION ALL SELECT 1, 'column', a.name, a.ofkind, a.tab, format('ALTER TABLE ONLY %s ALTER COLUMN %s SET (%s)', a.name, a.col, (SELECT string_agg(o, ', ') FROM unnest(a.attoptions) o WHERE o !~ '^pg_')) FROM a WHERE a.relkind IN ('r', 'p', 'm') AND EXISTS (SELECT FROM unnest(a.attoptions) o WHERE o !~ '^pg_')
		UNION ALL SELECT 1, 'column', a.name, a.ofkind, a.tab, format('ALTER TABLE %s ALTER COLUMN %s SET START WITH %s SET INCREMENT BY %s SET MINVALUE %s SET MAXVALUE %s SET CACHE %s SET %s', a.name, a.col, q.seqstart, q.seqincrement, q.seqmin, q.seqmax, q.seqcache, CASE WHEN q.seqcycle THEN 'CYCLE' ELSE 'NO CYCLE' END)
			FROM a JOIN pg_depend d ON d.refobjid = a.attrelid AND d.refobjsubid = a.attnum AND d.refclassid = ` + ofClass + ` AND d.classid = ` + ofClass + ` AND d.deptype = 'i' JOIN pg_sequence q ON q.seqrelid = d.objid
			WHERE a.attidentity <> '' AND (q.seqstart <> '1' OR q.seqincrement <> '1' OR q.seqmin <> '1' OR q.seqcache <> '1' OR q.seqcycle)
		UNION ALL SELECT 1, 'column', a.name, a.ofkind, a.tab, format('ALTER SEQUENCE %I RENAME TO %I', c.relname::text || '_' || a.attname::text || '_seq', q.relname)
			FROM a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_depend d ON d.refobjid = a.attrelid AND d.refobjsubid = a.attnum AND d.refclassid = ` + ofClass + ` AND d.classid = ` + ofClass + ` AND d.deptype = 'i' JOIN pg_class q ON q.oid = d.objid
			WHERE a.attidentity <> '' AND q.relname::text <> c.relname::text || '_' || a.attname::text || '_seq' AND length(c.relname::text || '_' || a.attname::text || '_seq') < '64'::integer
		UNION ALL SELECT 2, 'index', i.indexrelid::regclass::text, r.ofkind, r.tab, pg_get_indexdef(i.indexrelid) FROM pg_index i JOIN r ON r.oid = i.indrelid WHERE r.relkind = 'm'
		UNION ALL SELECT 3, 'clustering of', r.name, r.ofkind, r.tab, format('ALTER TABLE %s CLUSTER ON %I', r.name, x.relname) FROM r JOIN pg_index i ON i.indrelid = r.oid JOIN pg_class x ON x.oid = i.indexrelid WHERE i.indisclustered
		UNION ALL SELECT 3, 'identity of', r.name, r.ofkind, r.tab, format('ALTER TABLE ONLY %s REPLICA IDENTITY %s', r.name, CASE r.relreplident WHEN 'f' THEN 'FULL' WHEN 'n' THEN 'NOTHING' ELSE (SELECT format('USING INDEX %I', x.relname) FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid WHERE i.indrelid = r.oid AND i.indisreplident) END) FROM r WHERE r.relkind IN ('r', 'p') AND r.relreplident IN ('f', 'n', 'i')
		UNION ALL SELECT 3, 'row security of', r.name, r.ofkind, r.tab, format('ALTER TABLE %s ENABLE ROW LEVEL SECURITY', r.name) FROM r WHERE r.relrowsecurity AND NOT EXISTS (SELECT 1 FROM pg_policy y WHERE y.polrelid = r.oid)
		UNION ALL SELECT 3, 'row security of', r.name, r.ofkind, r.tab, format('ALTER TABLE ONLY %s FORCE ROW LEVEL SECURITY', r.name) FROM r WHERE r.relforcerowsecurity
		UNION ALL SELECT 4, 'statistics', s.name, s.ofkind, s.tab, pg_get_statisticsobjdef(s.oid) FROM s
		UNION ALL SELECT 5, 'rule', u.rulename, u.ofkind, u.tab, pg_get_ruledef(u.oid) FROM u
		UNION ALL SELECT 6, 'state of trigger', g.tgname, g.ofkind, g.tab, format('ALTER TABLE %s %s TRIGGER %I', g.name, CASE g.tgenabled WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END, g.tgname) FROM g WHERE g.tgenabled <> 'O' AND g.relkind IN ('r', 'p')
		UNION ALL SELECT 6, 'state of rule', u.rulename, u.ofkind, u.tab, format('ALTER TABLE %s %s RULE %I', u.name, CASE u.ev_enabled WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END, u.rulename) FROM u WHERE u.ev_enabled <> 'O'
		UNION ALL SELECT 7, 'trigger', g.tgname, g.ofkind, g.tab, pg_get_triggerdef(g.oid) FROM g WHERE g.relkind = 'v' OR g.relkind IN ('r', 'p') AND g.tgparentid = '0' AND EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = g.tgrelid)
		UNION ALL SELECT 8, 'comment', r.name, r.ofkind, r.tab, format('COMMENT ON %s %s IS %L', r.kind, r.name, obj_description(r.oid, 'pg_class')) FROM r WHERE (r.relkind IN ('v', 'm', 'S') OR ` + anothers + `) AND obj_description(r.oid, 'pg_class') IS NOT NULL
		UNION ALL SELECT 8, 'comment', a.name, a.ofkind, a.tab, format('COMMENT ON COLUMN %s.%s IS %L', a.name, a.col, col_description(a.attrelid, a.attnum)) FROM a JOIN r ON r.oid = a.attrelid WHERE (a.relkind IN ('v', 'm') OR ` + anothers + `) AND col_description(a.attrelid, a.attnum) IS NOT NULL
		UNION ALL SELECT 8, 'comment', x.relname, r.ofkind, r.tab, format('COMMENT ON INDEX %s IS %L', i.indexrelid::regclass, obj_description(i.indexrelid, 'pg_class')) FROM pg_index i JOIN r ON r.oid = i.indrelid JOIN pg_class x ON x.oid = i.indexrelid WHERE obj_description(i.indexrelid, 'pg_class') IS NOT NULL
		UNION ALL SELECT 8, 'comment', k.conname, k.ofkind, k.tab, format('COMMENT ON CONSTRAINT %I ON %s IS %L', k.conname, k.name, obj_description(k.oid, 'pg_constraint')) FROM k WHERE obj_description(k.oid, 'pg_constraint') IS NOT NULL
		UNION ALL SELECT 8, 'comment', g.tgname, g.ofkind, g.tab, format('COMMENT ON TRIGGER %I ON %s IS %L', g.tgname, g.name, obj_description(g.oid, 'pg_trigger')) FROM g WHERE obj_description(g.oid, 'pg_trigger') IS NOT NULL
		UNION ALL SELECT 8, 'comment', u.rulename, u.ofkind, u.tab, format('COMMENT ON RULE %I ON %s IS %L', u.rulename, u.name, obj_description(u.oid, 'pg_rewrite')) FROM u WHERE obj_description(u.oid, 'pg_rewrite') IS NOT NULL
		UNION ALL SELECT 8, 'comment', y.polname, r.ofkind, r.tab, format('COMMENT ON POLICY %I ON %s IS %L', y.polname, r.name, obj_description(y.oid, 'pg_policy')) FROM pg_policy y JOIN r ON r.oid = y.polrelid WHERE obj_description(y.oid, 'pg_policy') IS NOT NULL
		UNION ALL SELECT 8, 'comment', p.name, p.ofkind, p.tab, format('COMMENT ON %s %s IS %L', p.kind, p.name, obj_description(p.oid, 'pg_proc')) FROM p WHERE obj_description(p.oid, 'pg_proc') IS NOT NULL
		UNION ALL SELECT 8, 'comment', t.name, t.ofkind, t.tab, format('COMMENT ON %s %s IS %L', t.kind, t.name, obj_description(t.oid, 'pg_type')) FROM t WHERE obj_description(t.oid, 'pg_type') IS NOT NULL
		UNION ALL SELECT 8, 'comment', s.name, s.ofkind, s.tab, format('COMMENT ON STATISTICS %s IS %L', s.name, obj_description(s.oid, 'pg_statistic_ext')) FROM s WHERE obj_description(s.oid, 'pg_statistic_ext') IS NOT NULL
		UNION ALL SELECT 8, 'comment', n.nspname, 'schema', n.nspname, format(CASE n.nspname WHEN 'public' THEN 'DO $erbario$ BEGIN COMMENT ON SCHEMA %I IS %L; EXCEPTION WHEN insufficient_privilege THEN NULL; END $erbario$' ELSE 'COMMENT ON SCHEMA %I IS %L' END, n.nspname, coalesce(obj_description(n.oid, 'pg_namespace'), '')) FROM n WHERE coalesce(obj_description(n.oid, 'pg_namespace'), '') <> CASE n.nspname WHEN 'public' THEN 'standard public schema' ELSE '' END
		UNION ALL SELECT 9, 'owner of', n.nspname, 'schema', n.nspname, format('ALTER SCHEMA %I OWNER TO %I', n.nspname, pg_get_userbyid(n.nspowner)) FROM n WHERE n.nspowner <> quote_ident(current_user)::regrole::oid AND NOT (n.nspname = 'public' AND n.nspowner = CASE WHEN current_setting('server_version_num')::integer < '150000'::integer THEN '10'::oid ELSE '6171'::oid END)
		UNION ALL SELECT 10, 'rights on', n.nspname, 'schema', n.nspname, format('REVOKE ALL ON SCHEMA %I FROM PUBLIC, %I', n.nspname, pg_get_userbyid(n.nspowner)) FROM n WHERE n.nspacl IS NOT NULL AND NOT n.usual
		UNION ALL SELECT 11, 'rights on', n.nspname, 'schema', n.nspname, format('GRANT %s ON SCHEMA %I TO %s%s', x.privilege_type, n.nspname, ` + grantee + `, ` + grantable + `) FROM n, aclexplode(n.nspacl) x WHERE NOT (n.usual AND EXISTS (SELECT FROM aclexplode(n.base) b WHERE b.grantee = x.grantee AND b.privilege_type = x.privilege_type AND b.is_grantable = x.is_grantable))
		UNION ALL SELECT 9, 'owner of', r.name, r.ofkind, r.tab, format('ALTER %s %s OWNER TO %I', r.kind, r.name, pg_get_userbyid(r.relowner)) FROM r WHERE r.relowner <> quote_ident(current_user)::regrole::oid AND NOT (r.relkind = 'S' AND EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = ` + ofClass + ` AND d.objid = r.oid AND d.deptype IN ('a', 'i')))
		UNION ALL SELECT 9, 'owner of', p.name, p.ofkind, p.tab, format('ALTER %s %s OWNER TO %I', p.kind, p.name, pg_get_userbyid(p.proowner)) FROM p WHERE p.proowner <> quote_ident(current_user)::regrole::oid
		UNION ALL SELECT 9, 'owner of', t.name, t.ofkind, t.tab, format('ALTER %s %s OWNER TO %I', t.kind, t.name, pg_get_userbyid(t.typowner)) FROM t WHERE t.typowner <> quote_ident(current_user)::regrole::oid
		UNION ALL SELECT 10, 'rights on', r.name, r.ofkind, r.tab, format('REVOKE ALL ON %s %s FROM %I', CASE r.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END, r.name, pg_get_userbyid(r.relowner)) FROM r WHERE r.acl IS NOT NULL AND NOT r.usual
		UNION ALL SELECT 10, 'rights on', p.name, p.ofkind, p.tab, format('REVOKE ALL ON %s %s FROM PUBLIC, %I', CASE p.prokind WHEN 'p' THEN 'PROCEDURE' ELSE 'FUNCTION' END, p.name, pg_get_userbyid(p.proowner)) FROM p WHERE p.acl IS NOT NULL AND NOT p.usual
		UNION ALL SELECT 10, 'rights on', t.name, t.ofkind, t.tab, format('REVOKE ALL ON TYPE %s FROM PUBLIC, %I', t.name, pg_get_userbyid(t.typowner)) FROM t WHERE t.acl IS NOT NULL AND NOT t.usual
		UNION ALL SELECT 11, 'rights on', r.name, r.ofkind, r.tab, format('GRANT %s ON %s %s TO %s%s', x.privilege_type, CASE r.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END, r.name, ` + grantee + `, ` + grantable + `) FROM r, aclexplode(r.acl) x WHERE NOT (r.usual AND x.grantee = r.relowner)
		UNION ALL SELECT 11, 'rights on', a.name, a.ofkind, a.tab, format('GRANT %s (%s) ON %s TO %s%s', x.privilege_type, a.col, a.name, ` + grantee + `, ` + grantable + `) FROM a, aclexplode(a.attacl) x
		UNION ALL SELECT 11, 'rights on', p.name, p.ofkind, p.tab, format('GRANT %s ON %s %s TO %s%s', x.privilege_type, CASE p.prokind WHEN 'p' THEN 'PROCEDURE' ELSE 'FUNCTION' END, p.name, ` + grantee + `, ` + grantable + `) FROM p, aclexplode(p.acl) x WHERE NOT (p.usual AND (x.grantee = p.proowner OR x.grantee = '0' AND NOT x.is_grantable))
		UNION ALL SELECT 11, 'rights on', t.name, t.ofkind, t.tab, format('GRANT %s ON TYPE %s TO %s%s', x.privilege_type, t.name, ` + grantee + `, ` + grantable + `) FROM t, aclexplode(t.acl) x WHERE NOT (t.usual AND (x.grantee = t.typowner OR x.grantee = '0' AND NOT x.is_grantable))
		UNION ALL SELECT 12, 'rights', 'by default', 'rights', '', format('ALTER DEFAULT PRIVILEGES FOR ROLE %I IN SCHEMA %I GRANT %s ON %s TO %s%s', pg_get_userbyid(f.defaclrole), n.nspname, x.privilege_type, CASE f.defaclobjtype WHEN 'r' THEN 'TABLES' WHEN 'S' THEN 'SEQUENCES' WHEN 'f' THEN 'FUNCTIONS' ELSE 'TYPES' END, ` + grantee + `, ` + grantable + `) FROM pg_default_acl f JOIN pg_namespace n ON n.oid = f.defaclnamespace, aclexplode(f.defaclacl) x WHERE f.defaclnamespace = ` + here + `
		UNION ALL SELECT 14, 'comment', b.pubname, 'publication', b.pubname, format('COMMENT ON PUBLICATION %I IS %L', b.pubname, obj_description(b.oid, 'pg_publication')) FROM pg_publication b WHERE obj_description(b.oid, 'pg_publication') IS NOT NULL AND ` + ofThisSchema + `
		UNION ALL SELECT 14, 'comment', g.evtname, 'event trigger', g.evtname, format('COMMENT ON EVENT TRIGGER %I IS %L', g.evtname, obj_description(g.oid, 'pg_event_trigger')) FROM pg_event_trigger g WHERE obj_description(g.oid, 'pg_event_trigger') IS NOT NULL AND ` + eventOfThisSchema + `
	) q ORDER BY place, name, sql`

// Things that belong to no extension.
const (
	notExtensionOf   = `NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = 'pg_catalog.pg_class'::regclass::oid AND e.objid = c.oid AND e.deptype = 'e')`
	notExtensionProc = `NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = 'pg_catalog.pg_proc'::regclass::oid AND e.objid = p.oid AND e.deptype IN ('e', 'i'))`
	notExtensionType = `NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = 'pg_catalog.pg_type'::regclass::oid AND e.objid = t.oid AND e.deptype = 'e')`
)
