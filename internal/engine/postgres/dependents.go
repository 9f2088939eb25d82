package postgres

// This file sees to what other people have standing on a table. The server lets no
// column go or change its type while a view shows it, and none change its type while a
// trigger or a policy names it, so each is taken away with all that it has, and made
// again behind the statement; behind a later one, where a view of ours is made again or
// two columns change places. One that cannot be made again stops the migration by its
// name.

import (
	"context"
	"fmt"
	"strings"

	"erbario/internal/schema"
)

// standing finds the views that stand on a table, or on one column of it, those behind
// before those they stand on, with what their CREATE statements need.
const standing = `WITH RECURSIVE over (oid, depth) AS (
		SELECT DISTINCT r.ev_class, 1 FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid
		WHERE d.classid = 'pg_catalog.pg_rewrite'::regclass::oid AND d.refclassid = 'pg_catalog.pg_class'::regclass::oid AND d.refobjid = to_regclass(?)::oid AND r.ev_class <> d.refobjid
		AND (?::text = '' OR d.refobjsubid IN (
			SELECT attnum FROM pg_attribute WHERE attrelid = d.refobjid AND attname = ?))
		UNION
		SELECT r.ev_class, o.depth + 1 FROM over o JOIN pg_depend d ON d.refobjid = o.oid AND d.refclassid = 'pg_catalog.pg_class'::regclass::oid AND d.classid = 'pg_catalog.pg_rewrite'::regclass::oid
		JOIN pg_rewrite r ON r.oid = d.objid WHERE r.ev_class <> o.oid AND o.depth < 50
	)
	SELECT c.oid, c.relkind, quote_ident(n.nspname) || '.' || quote_ident(c.relname), pg_get_viewdef(c.oid),
		concat_ws(', ', array_to_string(c.reloptions, ', '), (SELECT string_agg('toast.' || o, ', ') FROM pg_class t,
			unnest(t.reloptions) o WHERE t.oid = c.reltoastrelid)),
		c.relispopulated, coalesce((SELECT ' USING ' ||
			quote_ident(m.amname) FROM pg_am m WHERE m.oid = c.relam AND m.amname <> 'heap'), '')
	FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN (SELECT oid, max(depth) AS depth FROM over GROUP BY oid) o ON o.oid = c.oid WHERE c.relkind IN ('v', 'm') ORDER BY o.depth DESC, c.oid`

// belongings are the statements that give a view that was created again all that it had:
// each with the column that it is about, if any. Those without a statement say what
// nobody can give it again.
const belongings = `WITH v AS (
		SELECT c.*, quote_ident(n.nspname) || '.' || quote_ident(c.relname) AS name,
			CASE c.relkind WHEN 'v' THEN 'VIEW' ELSE 'MATERIALIZED VIEW' END AS kind
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = ?::oid
	), a AS (
		SELECT a.*, quote_ident(a.attname) AS col,
			to_jsonb(a) AS j FROM pg_attribute a JOIN v ON a.attrelid = v.oid WHERE a.attnum > 0 AND NOT a.attisdropped
	), i AS (
		SELECT i.*, c.relname, c.reltablespace, quote_ident(n.nspname) || '.' || quote_ident(c.relname) AS name
		FROM pg_index i JOIN v ON i.indrelid = v.oid JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace
	), s AS (
		SELECT s.*, to_jsonb(s) AS j, quote_ident(n.nspname) || '.' || quote_ident(s.stxname) AS name
		FROM pg_statistic_ext s JOIN v ON s.stxrelid = v.oid JOIN pg_namespace n ON n.oid = s.stxnamespace
	)
	SELECT col, sql, problem FROM (
		SELECT 0 AS place, '' AS col, '' AS sql, 'it belongs to ' ||
			pg_get_userbyid(v.relowner)::text AS problem FROM v WHERE v.relowner <> quote_ident(current_user)::regrole::oid
		UNION ALL SELECT 0, '', '', 'it has rights that ' || pg_get_userbyid(x.grantor)::text || ' granted' FROM v,
			aclexplode(v.relacl) x WHERE x.grantor <> v.relowner
		UNION ALL SELECT 0, '', '', 'it has rights on ' || a.col || ' that ' || pg_get_userbyid(x.grantor)::text ||
			' granted' FROM v, a, aclexplode(a.attacl) x WHERE x.grantor <> v.relowner
		UNION ALL SELECT 0, '', '', 'it has a security label of ' || l.provider::text FROM v JOIN pg_seclabel l ON l.objoid = v.oid AND l.classoid = 'pg_catalog.pg_class'::regclass::oid
		UNION ALL SELECT 0, '', '', 'it belongs to the extension ' || e.extname::text FROM v JOIN pg_depend d ON d.objid = v.oid AND d.classid = 'pg_catalog.pg_class'::regclass::oid AND d.deptype IN ('e', 'x') JOIN pg_extension e ON e.oid = d.refobjid AND d.refclassid = 'pg_catalog.pg_extension'::regclass::oid
		UNION ALL SELECT 0, '', '', 'the statistics ' || s.stxname::text || ' belong to ' ||
			pg_get_userbyid(s.stxowner)::text FROM s, v WHERE s.stxowner <> v.relowner
		UNION ALL SELECT 1, '', format('ALTER %s %s SET TABLESPACE %I', v.kind, v.name, t.spcname),
			'' FROM v JOIN pg_tablespace t ON t.oid = v.reltablespace
		UNION ALL SELECT 2, a.attname, format('ALTER VIEW %s ALTER COLUMN %s SET DEFAULT %s', v.name, a.col, pg_get_expr(d.adbin, d.adrelid)), '' FROM v, a JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
		UNION ALL SELECT 3, a.attname, format('ALTER %s %s ALTER COLUMN %s SET STATISTICS %s', v.kind, v.name, a.col,
			a.attstattarget), '' FROM v, a WHERE v.relkind = 'm' AND a.attstattarget >= 0
		UNION ALL SELECT 3, a.attname, format('ALTER %s %s ALTER COLUMN %s SET (%s)', v.kind, v.name, a.col, (SELECT string_agg(o, ', ') FROM unnest(a.attoptions) o WHERE o !~ '^pg_')), '' FROM v, a WHERE v.relkind = 'm' AND EXISTS (SELECT FROM unnest(a.attoptions) o WHERE o !~ '^pg_')
		UNION ALL SELECT 3, a.attname, format('ALTER %s %s ALTER COLUMN %s SET STORAGE %s', v.kind, v.name, a.col, CASE a.attstorage WHEN 'p' THEN 'PLAIN' WHEN 'e' THEN 'EXTERNAL' WHEN 'm' THEN 'MAIN' ELSE 'EXTENDED' END), '' FROM v, a JOIN pg_type t ON t.oid = a.atttypid WHERE v.relkind = 'm' AND a.attstorage <> t.typstorage
		UNION ALL SELECT 3, a.attname, format('ALTER %s %s ALTER COLUMN %s SET COMPRESSION %s', v.kind, v.name, a.col, CASE a.j ->> 'attcompression' WHEN 'l' THEN 'lz4' ELSE 'pglz' END), '' FROM v, a WHERE v.relkind = 'm' AND a.j ->> 'attcompression' <> ''
		UNION ALL SELECT 4, '', pg_get_indexdef(i.indexrelid), '' FROM i
		UNION ALL SELECT 5, '', format('ALTER INDEX %s SET TABLESPACE %I', i.name, t.spcname),
			'' FROM i JOIN pg_tablespace t ON t.oid = i.reltablespace
		UNION ALL SELECT 5, '', format('ALTER INDEX %s ALTER COLUMN %s SET STATISTICS %s', i.name, x.attnum,
			x.attstattarget), '' FROM i JOIN pg_attribute x ON x.attrelid = i.indexrelid WHERE x.attstattarget >= 0
		UNION ALL SELECT 5, '', format('ALTER %s %s CLUSTER ON %I', v.kind, v.name, i.relname), '' FROM v,
			i WHERE i.indisclustered
		UNION ALL SELECT 5, '', format('COMMENT ON INDEX %s IS %L', i.name, obj_description(i.indexrelid,
			'pg_class')), '' FROM i WHERE obj_description(i.indexrelid, 'pg_class') IS NOT NULL
		UNION ALL SELECT 6, '', pg_get_statisticsobjdef(s.oid), '' FROM s
		UNION ALL SELECT 7, '', format('ALTER STATISTICS %s SET STATISTICS %s', s.name, s.j ->> 'stxstattarget'),
			'' FROM s WHERE (s.j ->> 'stxstattarget')::integer >= 0
		UNION ALL SELECT 7, '', format('COMMENT ON STATISTICS %s IS %L', s.name, obj_description(s.oid,
			'pg_statistic_ext')), '' FROM s WHERE obj_description(s.oid, 'pg_statistic_ext') IS NOT NULL
		UNION ALL SELECT 8, '', pg_get_ruledef(r.oid),
			'' FROM v JOIN pg_rewrite r ON r.ev_class = v.oid WHERE r.rulename <> '_RETURN'
		UNION ALL SELECT 9, '', format('COMMENT ON RULE %I ON %s IS %L', r.rulename, v.name, obj_description(r.oid, 'pg_rewrite')), '' FROM v JOIN pg_rewrite r ON r.ev_class = v.oid WHERE obj_description(r.oid, 'pg_rewrite') IS NOT NULL
		UNION ALL SELECT 10, '', pg_get_triggerdef(t.oid),
			'' FROM v JOIN pg_trigger t ON t.tgrelid = v.oid WHERE NOT t.tgisinternal
		UNION ALL SELECT 11, '', format('COMMENT ON TRIGGER %I ON %s IS %L', t.tgname, v.name, obj_description(t.oid, 'pg_trigger')), '' FROM v JOIN pg_trigger t ON t.tgrelid = v.oid WHERE obj_description(t.oid, 'pg_trigger') IS NOT NULL
		UNION ALL SELECT 12, '', format('COMMENT ON %s %s IS %L', v.kind, v.name, obj_description(v.oid, 'pg_class')),
			'' FROM v WHERE obj_description(v.oid, 'pg_class') IS NOT NULL
		UNION ALL SELECT 12, a.attname, format('COMMENT ON COLUMN %s.%s IS %L', v.name, a.col,
			col_description(v.oid, a.attnum)), '' FROM v, a WHERE col_description(v.oid, a.attnum) IS NOT NULL
		UNION ALL SELECT 13, '', format('REVOKE ALL ON %s FROM %I', v.name, pg_get_userbyid(v.relowner)),
			'' FROM v WHERE v.relacl IS NOT NULL
		UNION ALL SELECT 14, '', format('GRANT %s ON %s TO %s%s', x.privilege_type, v.name, CASE WHEN x.grantee = '0' THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(x.grantee)) END, CASE WHEN x.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END), '' FROM v, aclexplode(v.relacl) x
		UNION ALL SELECT 15, a.attname, format('GRANT %s (%s) ON %s TO %s%s', x.privilege_type, a.col, v.name, CASE WHEN x.grantee = '0' THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(x.grantee)) END, CASE WHEN x.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END), '' FROM v, a, aclexplode(a.attacl) x
	) q ORDER BY place, sql`

// naming finds the triggers and policies that name one of the columns of a table, each
// with the statement that drops it and those that make it again.
const naming = `WITH named AS (
		SELECT d.classid, d.objid FROM pg_depend d JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid
		WHERE d.refclassid = 'pg_catalog.pg_class'::regclass::oid AND d.refobjid = to_regclass(?)::oid AND a.attname = ANY (?::text[]) AND d.classid IN ('pg_catalog.pg_trigger'::regclass::oid, 'pg_catalog.pg_policy'::regclass::oid)
	)
	SELECT 'the trigger ' || t.tgname::text, format('DROP TRIGGER %I ON %s', t.tgname, t.tgrelid::regclass),
		pg_get_triggerdef(t.oid),
		CASE t.tgenabled WHEN 'O' THEN '' ELSE format('ALTER TABLE %s %s TRIGGER %I', t.tgrelid::regclass, CASE t.tgenabled WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END, t.tgname) END,
		coalesce(format('COMMENT ON TRIGGER %I ON %s IS %L', t.tgname, t.tgrelid::regclass,
			nullif(obj_description(t.oid, 'pg_trigger'), '')), '')
	FROM pg_trigger t WHERE NOT t.tgisinternal AND t.oid IN (
		SELECT objid FROM named WHERE classid = 'pg_catalog.pg_trigger'::regclass::oid)
	UNION ALL
	SELECT 'the policy ' || p.polname::text, format('DROP POLICY %I ON %s', p.polname, p.polrelid::regclass),
		format('CREATE POLICY %I ON %s AS %s FOR %s TO %s', p.polname, p.polrelid::regclass,
			CASE WHEN p.polpermissive THEN 'PERMISSIVE' ELSE 'RESTRICTIVE' END,
			CASE p.polcmd WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE' WHEN 'd' THEN 'DELETE' ELSE 'ALL' END,
			(SELECT string_agg(CASE WHEN r = '0' THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(r)) END,
				', ') FROM unnest(p.polroles) r))
			|| coalesce(' USING (' || pg_get_expr(p.polqual, p.polrelid) || ')', '') ||
				coalesce(' WITH CHECK (' || pg_get_expr(p.polwithcheck, p.polrelid) || ')', ''),
		'', coalesce(format('COMMENT ON POLICY %I ON %s IS %L', p.polname, p.polrelid::regclass,
			nullif(obj_description(p.oid, 'pg_policy'), '')), '')
	FROM pg_policy p WHERE p.oid IN (SELECT objid FROM named WHERE classid = 'pg_catalog.pg_policy'::regclass::oid)
	ORDER BY 1`

// disturbs gives the table of a statement that a view on it would hold up, and the
// columns that change their types.
func disturbs(statement string) (table string, types []string) {
	list := tokens(statement)
	if len(list) < 5 || !list[0].Is("ALTER") || !list[1].Is("TABLE") || !list[2].Named() {
		return "", nil
	}
	for i, t := range list {
		switch {
		case t.Is("TYPE") && list[i-1].Named():
			table, types = list[2].Name(), append(types, list[i-1].Name())
		case t.Is("COLUMN") && list[i-1].Is("DROP"):
			table = list[2].Name()
		}
	}
	return table, types
}

// viewStatement tells whether a statement drops a view, and its name; that of one that
// makes a view too.
func viewStatement(statement string) (dropped bool, view string) {
	list := tokens(statement)
	if len(list) < 3 || !list[1].Is("VIEW") || !list[2].Named() {
		return false, ""
	}
	return list[0].Is("DROP"), list[2].Name()
}

// swaps tells whether a statement gives a column a name of Erbario's, which another one
// is about to take, or takes one away again. What other people have standing on the
// column means the name.
func swaps(statement string) (away bool, table, column string) {
	list := tokens(statement)
	if len(list) != 8 || !list[0].Is("ALTER") || !list[1].Is("TABLE") || !list[3].Is("RENAME") ||
		!list[4].Is("COLUMN") || !list[6].Is("TO") {
		return false, "", ""
	}
	from, to := list[5].Name(), list[7].Name()
	between := func(name string) bool {
		return strings.HasPrefix(name, schema.NextPrefix) || strings.HasPrefix(name, schema.PrevPrefix)
	}
	switch {
	case between(from) == between(to):
		return false, "", ""
	case between(to):
		return true, list[2].Name(), from
	}
	return false, list[2].Name(), to
}

// exchange tells by its name what goes with a statement and comes with another, and what is
// made again with it: a view, or a column that changes its place with another.
func exchange(statement string) (goes, comes string) {
	if dropped, view := viewStatement(statement); dropped {
		return view, ""
	} else if view != "" {
		return "", view
	}
	switch away, table, column := swaps(statement); {
	case table == "":
		return "", ""
	case away:
		return table + "." + column, ""
	default:
		return "", table + "." + column
	}
}

// aside takes away what would hold a statement up; what it returns makes it again, nil
// where nothing did.
func (d *database) aside(ctx context.Context, statement string) (restore func() error, err error) {
	table, types := disturbs(statement)
	if dropped, view := viewStatement(statement); dropped {
		table = view
	}
	column := ""
	if away, t, c := swaps(statement); away {
		table, column, types = t, c, []string{c}
	}
	if table == "" {
		return nil, nil
	}
	views, err := d.viewsAside(ctx, quoteTable(table), column)
	if err != nil {
		return nil, err
	}
	if dropped, view := viewStatement(statement); dropped {
		own, err := d.ownAside(ctx, view)
		if own != nil {
			if d.own == nil {
				d.own = map[string]func() error{}
			}
			d.own[view] = own
		}
		return views, err
	}
	if len(types) == 0 {
		return views, nil
	}
	rows, err := d.Select(ctx, naming, quoteTable(table), "{"+quoteArray(types)+"}")
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return views, nil
	}
	for _, r := range rows {
		if err := d.Exec(ctx, r[1]); err != nil {
			return nil, err
		}
	}
	return func() error {
		for _, r := range rows {
			for _, sql := range r[2:] {
				if sql == "" {
					continue
				}
				if err := d.Exec(ctx, storedAgain(sql)); err != nil {
					return fmt.Errorf(
						"%s depends on %s and cannot be created again after the change (%w): change or drop it first",
						r[0], quoteTable(table), err)
				}
			}
		}
		if views == nil {
			return nil
		}
		return views()
	}, nil
}

// quoteArray are texts as the elements of an array.
func quoteArray(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
	}
	return strings.Join(out, ",")
}

// belonging is a statement that gives a view something again that it had.
type belonging struct{ column, sql string }

// belongings reads what a view has beside its query. It is an error that names what could
// not be given to it again.
func (d *database) belongings(ctx context.Context, oid, view, table string) ([]belonging, error) {
	rows, err := d.Select(ctx, belongings, oid)
	if err != nil {
		return nil, err
	}
	var out []belonging
	for _, r := range rows {
		if r[2] != "" {
			return nil, fmt.Errorf(
				"the view %s is created again when %s changes, and would not be as it was: %s. Drop it first, or have its owner do it",
				view, table, r[2])
		}
		out = append(out, belonging{r[0], r[1]})
	}
	return out, nil
}

// giveBack gives a view that was created again what it had, but for columns that it has
// no more. Rights that the server gave it by default are taken away first.
func (d *database) giveBack(ctx context.Context, view string, list []belonging) error {
	defaults, err := d.Select(ctx,
		"SELECT DISTINCT format('REVOKE ALL ON %s FROM %s', ?::text, CASE WHEN x.grantee = '0' THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(x.grantee)) END) FROM pg_class c, aclexplode(c.relacl) x WHERE c.oid = to_regclass(?)::oid AND x.grantee <> c.relowner",
		view, view)
	if err != nil {
		return err
	}
	for _, r := range defaults {
		if err := d.Exec(ctx, r[0]); err != nil {
			return err
		}
	}
	columns, err := d.Select(ctx,
		"SELECT attname FROM pg_attribute WHERE attrelid = to_regclass(?)::oid AND attnum > 0 AND NOT attisdropped",
		view)
	if err != nil {
		return err
	}
	has := map[string]bool{"": true}
	for _, r := range columns {
		has[r[0]] = true
	}
	for _, b := range list {
		if !has[b.column] {
			continue
		}
		if strings.HasPrefix(b.sql, "CREATE ") {
			b.sql = storedAgain(b.sql)
		}
		if err := d.Exec(ctx, b.sql); err != nil {
			return err
		}
	}
	return nil
}

// ownAside notes what a view of ours has beside its query, before it is dropped; what it
// returns gives it that back once it has been created again.
func (d *database) ownAside(ctx context.Context, view string) (func() error, error) {
	rows, err := d.Select(ctx,
		"SELECT c.oid, quote_ident(n.nspname) || '.' || quote_ident(c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = to_regclass(?)::oid AND c.relkind = 'v'",
		quoteTable(view))
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	list, err := d.belongings(ctx, rows[0][0], view, "its table")
	if err != nil {
		return nil, err
	}
	return func() error {
		if err := d.giveBack(ctx, rows[0][1], list); err != nil {
			return fmt.Errorf("the view %s was created again and cannot have what it had: %w", view, err)
		}
		return nil
	}, nil
}

// viewsAside drops the views that stand on a table, or on one column of it; what it
// returns makes them again, nil where there are none.
func (d *database) viewsAside(ctx context.Context, table, column string) (func() error, error) {
	rows, err := d.Select(ctx, standing, table, column, column)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	kind := map[string]string{"v": "VIEW", "m": "MATERIALIZED VIEW"}
	had := make([][]belonging, len(rows))
	for i, v := range rows {
		if had[i], err = d.belongings(ctx, v[0], v[2], table); err != nil {
			return nil, err
		}
	}
	for _, v := range rows {
		if err := d.Exec(ctx, "DROP "+kind[v[1]]+" "+v[2]); err != nil {
			return nil, err
		}
	}
	return func() error {
		for i := len(rows) - 1; i >= 0; i-- {
			v := rows[i]
			s := "CREATE " + kind[v[1]] + " " + v[2] + v[6]
			if v[4] != "" {
				s += " WITH (" + v[4] + ")"
			}
			s += " AS " + strings.TrimSuffix(strings.TrimSpace(v[3]), ";")
			if v[1] == "m" && v[5] != "t" {
				s += " WITH NO DATA"
			}
			err := d.Exec(ctx, storedAgain(s))
			if err == nil {
				err = d.giveBack(ctx, v[2], had[i])
			}
			if err != nil {
				return fmt.Errorf(
					"the view %s depends on %s and cannot be created again after the change (%w): change or drop it first",
					v[2], table, err)
			}
		}
		return nil
	}, nil
}
