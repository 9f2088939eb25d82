package postgres

// This file sees to views that stand on a table. The server lets no column go or
// change its type while a view shows it, so each is taken away with all that it
// has, and made again behind the statement. One that cannot be made again stops
// the migration by its name.

import (
	"context"
	"fmt"
	"strings"
)

// standing finds the views that stand on a table, those behind before those they
// stand on, with all that makes them again.
const standing = `WITH RECURSIVE over (oid, depth) AS (
		SELECT DISTINCT r.ev_class, 1 FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid
		WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = to_regclass(?) AND r.ev_class <> d.refobjid
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

// disturbs gives the table of a statement that a view on it would hold up.
func disturbs(statement string) string {
	list := tokens(statement)
	if len(list) < 5 || !list[0].is("ALTER") || !list[1].is("TABLE") || !list[2].named() {
		return ""
	}
	for i, t := range list {
		if t.is("TYPE") || t.is("COLUMN") && list[i-1].is("DROP") {
			return quote(list[2].name())
		}
	}
	return ""
}

// viewsAside drops the views that would hold a statement up; what it returns makes
// them again.
func (d *database) viewsAside(ctx context.Context, statement string) (func() error, error) {
	none := func() error { return nil }
	table := disturbs(statement)
	if table == "" {
		return none, nil
	}
	rows, err := d.Select(ctx, standing, table)
	if err != nil || len(rows) == 0 {
		return none, err
	}
	kind := map[string]string{"v": "VIEW", "m": "MATERIALIZED VIEW"}
	for _, v := range rows {
		if v[4] != "t" {
			return none, fmt.Errorf("the view %s stands on %s and belongs to somebody else: drop it first, or have its owner do it", v[1], table)
		}
		if err := d.Exec(ctx, "DROP "+kind[v[0]]+" "+v[1]); err != nil {
			return none, err
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
