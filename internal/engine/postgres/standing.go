package postgres

// This file sees to what other people have standing on a table. The server lets no
// column go or change its type while a view shows it, and none change its type while a
// trigger or a policy names it, so each is taken away with all that it has, and made
// again behind the statement; behind a later one, where a view of ours is made anew or
// two columns change places. One that cannot be made again stops the migration by its
// name.

import (
	"context"
	"fmt"
	"strings"

	"erbario/internal/schema"
)

// standing finds the views that stand on a table, or on one column of it, those behind
// before those they stand on, with all that makes them again.
const standing = `WITH RECURSIVE over (oid, depth) AS (
		SELECT DISTINCT r.ev_class, 1 FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid
		WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = to_regclass(?) AND r.ev_class <> d.refobjid
		AND (?::text = '' OR d.refobjsubid IN (SELECT attnum FROM pg_attribute WHERE attrelid = d.refobjid AND attname = ?))
		UNION
		SELECT r.ev_class, o.depth + 1 FROM over o JOIN pg_depend d ON d.refobjid = o.oid AND d.refclassid = 'pg_class'::regclass AND d.classid = 'pg_rewrite'::regclass
		JOIN pg_rewrite r ON r.oid = d.objid WHERE r.ev_class <> o.oid AND o.depth < 50
	)
	SELECT c.relkind, quote_ident(n.nspname) || '.' || quote_ident(c.relname), pg_get_viewdef(c.oid), coalesce(array_to_string(c.reloptions, ', '), ''), pg_get_userbyid(c.relowner) = current_user,
		coalesce((SELECT string_agg(format('GRANT %s ON %I.%I TO %s%s', x.privilege_type, n.nspname, c.relname, CASE WHEN x.grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(x.grantee)) END, CASE WHEN x.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END), E'\x01') FROM aclexplode(c.relacl) x WHERE x.grantee <> c.relowner), ''),
		coalesce(obj_description(c.oid, 'pg_class'), ''), c.relispopulated,
		coalesce((SELECT string_agg(pg_get_indexdef(i.indexrelid), E'\x01') FROM pg_index i WHERE i.indrelid = c.oid), ''),
		coalesce((SELECT string_agg(pg_get_triggerdef(t.oid), E'\x01') FROM pg_trigger t WHERE t.tgrelid = c.oid AND NOT t.tgisinternal), ''),
		coalesce((SELECT string_agg(format('COMMENT ON COLUMN %I.%I.%I IS %L', n.nspname, c.relname, a.attname, d.description), E'\x01') FROM pg_description d JOIN pg_attribute a ON a.attrelid = d.objoid AND a.attnum = d.objsubid WHERE d.objoid = c.oid AND d.classoid = 'pg_class'::regclass AND d.objsubid > 0), '')
	FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN (SELECT oid, max(depth) AS depth FROM over GROUP BY oid) o ON o.oid = c.oid WHERE c.relkind IN ('v', 'm') ORDER BY o.depth DESC, c.oid`

// naming finds the triggers and policies that name one of the columns of a table, each
// with the statement that drops it and those that make it again.
const naming = `WITH named AS (
		SELECT d.classid, d.objid FROM pg_depend d JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid
		WHERE d.refclassid = 'pg_class'::regclass AND d.refobjid = to_regclass(?) AND a.attname = ANY (?::text[]) AND d.classid IN ('pg_trigger'::regclass, 'pg_policy'::regclass)
	)
	SELECT 'the trigger ' || t.tgname, format('DROP TRIGGER %I ON %s', t.tgname, t.tgrelid::regclass), pg_get_triggerdef(t.oid),
		CASE t.tgenabled WHEN 'O' THEN '' ELSE format('ALTER TABLE %s %s TRIGGER %I', t.tgrelid::regclass, CASE t.tgenabled WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END, t.tgname) END,
		coalesce(format('COMMENT ON TRIGGER %I ON %s IS %L', t.tgname, t.tgrelid::regclass, nullif(obj_description(t.oid, 'pg_trigger'), '')), '')
	FROM pg_trigger t WHERE NOT t.tgisinternal AND t.oid IN (SELECT objid FROM named WHERE classid = 'pg_trigger'::regclass)
	UNION ALL
	SELECT 'the policy ' || p.polname, format('DROP POLICY %I ON %s', p.polname, p.polrelid::regclass),
		format('CREATE POLICY %I ON %s AS %s FOR %s TO %s', p.polname, p.polrelid::regclass, CASE WHEN p.polpermissive THEN 'PERMISSIVE' ELSE 'RESTRICTIVE' END,
			CASE p.polcmd WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE' WHEN 'd' THEN 'DELETE' ELSE 'ALL' END,
			(SELECT string_agg(CASE WHEN r = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(r)) END, ', ') FROM unnest(p.polroles) r))
			|| coalesce(' USING (' || pg_get_expr(p.polqual, p.polrelid) || ')', '') || coalesce(' WITH CHECK (' || pg_get_expr(p.polwithcheck, p.polrelid) || ')', ''),
		'', coalesce(format('COMMENT ON POLICY %I ON %s IS %L', p.polname, p.polrelid::regclass, nullif(obj_description(p.oid, 'pg_policy'), '')), '')
	FROM pg_policy p WHERE p.oid IN (SELECT objid FROM named WHERE classid = 'pg_policy'::regclass)
	ORDER BY 1`

// disturbs gives the table of a statement that a view on it would hold up, and the
// columns that change their types.
func disturbs(statement string) (table string, types []string) {
	list := tokens(statement)
	if len(list) < 5 || !list[0].is("ALTER") || !list[1].is("TABLE") || !list[2].named() {
		return "", nil
	}
	for i, t := range list {
		switch {
		case t.is("TYPE") && list[i-1].named():
			table, types = list[2].name(), append(types, list[i-1].name())
		case t.is("COLUMN") && list[i-1].is("DROP"):
			table = list[2].name()
		}
	}
	return table, types
}

// viewStatement tells whether a statement drops a view, and its name; that of one that
// makes a view too.
func viewStatement(statement string) (dropped bool, view string) {
	list := tokens(statement)
	if len(list) < 3 || !list[1].is("VIEW") || !list[2].named() {
		return false, ""
	}
	return list[0].is("DROP"), list[2].name()
}

// swaps tells whether a statement gives a column a name of Erbario's, which another one
// is about to take, or takes one away again. What other people have standing on the
// column means the name.
func swaps(statement string) (away bool, table, column string) {
	list := tokens(statement)
	if len(list) != 8 || !list[0].is("ALTER") || !list[1].is("TABLE") || !list[3].is("RENAME") || !list[4].is("COLUMN") || !list[6].is("TO") {
		return false, "", ""
	}
	from, to := list[5].name(), list[7].name()
	between := func(name string) bool {
		return strings.HasPrefix(name, schema.NextPrefix) || strings.HasPrefix(name, schema.PrevPrefix)
	}
	switch {
	case between(from) == between(to):
		return false, "", ""
	case between(to):
		return true, list[2].name(), from
	}
	return false, list[2].name(), to
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
	views, err := d.viewsAside(ctx, quote(table), column)
	if err != nil || len(types) == 0 {
		return views, err
	}
	rows, err := d.Select(ctx, naming, quote(table), "{"+quoteArray(types)+"}")
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
				if err := d.Exec(ctx, sql); err != nil {
					return fmt.Errorf("%s stands on %s and cannot be made again after it changed (%w): change or drop it first", r[0], quote(table), err)
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

// viewsAside drops the views that stand on a table, or on one column of it; what it
// returns makes them again, nil where there are none.
func (d *database) viewsAside(ctx context.Context, table, column string) (func() error, error) {
	rows, err := d.Select(ctx, standing, table, column, column)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	kind := map[string]string{"v": "VIEW", "m": "MATERIALIZED VIEW"}
	for _, v := range rows {
		if v[4] != "t" {
			return nil, fmt.Errorf("the view %s stands on %s and belongs to somebody else: drop it first, or have its owner do it", v[1], table)
		}
		if err := d.Exec(ctx, "DROP "+kind[v[0]]+" "+v[1]); err != nil {
			return nil, err
		}
	}
	return func() error {
		for i := len(rows) - 1; i >= 0; i-- {
			v := rows[i]
			s := "CREATE " + kind[v[0]] + " " + v[1]
			if v[3] != "" {
				s += " WITH (" + v[3] + ")"
			}
			s += " AS " + strings.TrimSuffix(strings.TrimSpace(v[2]), ";")
			if v[0] == "m" && v[7] != "t" {
				s += " WITH NO DATA"
			}
			list := []string{s}
			for _, more := range []string{v[5], v[8], v[9], v[10]} {
				if more != "" {
					list = append(list, strings.Split(more, "\x01")...)
				}
			}
			if v[6] != "" {
				list = append(list, "COMMENT ON "+kind[v[0]]+" "+v[1]+" IS "+literal(v[6]))
			}
			for _, sql := range list {
				if err := d.Exec(ctx, sql); err != nil {
					return fmt.Errorf("the view %s stands on %s and cannot be made again after it changed (%w): change or drop it first", v[1], table, err)
				}
			}
		}
		return nil
	}, nil
}
