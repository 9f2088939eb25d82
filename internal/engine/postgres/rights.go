package postgres

// This file tells beforehand what the user of a connection may not do.

import (
	"context"
	"fmt"
	"slices"
	"strings"
)

// owned is the table that only its owner may change as a statement does; "": none.
func owned(statement string) string {
	list := tokens(statement)
	word := func(i int) string {
		if i < len(list) && list[i].kind == tokWord {
			return strings.ToUpper(list[i].text)
		}
		return ""
	}
	at := 0
	switch word(0) + " " + word(1) {
	case "ALTER TABLE", "DROP TABLE":
		at = 2
	case "CREATE INDEX", "CREATE UNIQUE", "CREATE TRIGGER", "DROP TRIGGER":
		for i, t := range list {
			if t.is("ON") {
				at = i + 1
				break
			}
		}
	}
	for at > 0 && (word(at) == "IF" || word(at) == "EXISTS" || word(at) == "ONLY") {
		at++
	}
	if at == 0 || at >= len(list) || !list[at].named() || at+1 < len(list) && list[at+1].is(".") {
		return ""
	}
	return list[at].name()
}

// Barred tells what of statements the user has no right to do.
func (d *database) Barred(ctx context.Context, statements []string) ([]string, error) {
	var tables []string
	creates := false
	for _, sql := range statements {
		if name := owned(sql); name != "" && !slices.Contains(tables, literal(name)) {
			tables = append(tables, literal(name))
		}
		creates = creates || strings.HasPrefix(sql, "CREATE TABLE ")
	}
	var out []string
	if len(tables) > 0 {
		rows, err := d.Select(ctx, "SELECT c.relname, pg_get_userbyid(c.relowner) FROM pg_class c WHERE c.relnamespace = "+here+" AND c.relkind IN ('r', 'p') AND c.relname IN ("+strings.Join(tables, ", ")+") AND NOT pg_has_role(c.relowner, 'USAGE') ORDER BY c.relname")
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			out = append(out, fmt.Sprintf("%s belongs to %s, and the user %s may not change it: connect as its owner, or GRANT %s TO %s", r[0], r[1], d.user, quote(r[1]), quote(d.user)))
		}
	}
	if creates {
		rows, err := d.Select(ctx, "SELECT has_schema_privilege(current_schema(), 'CREATE')")
		if err != nil {
			return nil, err
		}
		if rows[0][0] != "t" {
			out = append(out, fmt.Sprintf("the user %s may create nothing in the schema %s: GRANT CREATE ON SCHEMA %s TO %s", d.user, d.schema, quote(d.schema), quote(d.user)))
		}
	}
	return out, nil
}
