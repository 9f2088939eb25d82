package mariadb

// This file tells beforehand what the user of a connection may not do: a migration whose
// steps commit one by one would stop halfway for lack of a right.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine/sqltok"
)

// needs are the rights that statements take, by their first words.
var needs = map[string][]string{
	"CREATE TABLE": {
		"CREATE",
	}, "DROP TABLE": {"DROP"}, "ALTER TABLE": {"ALTER"}, "RENAME TABLE": {"ALTER", "DROP", "CREATE", "INSERT"},
	"CREATE INDEX": {
		"INDEX",
	}, "CREATE UNIQUE": {"INDEX"}, "DROP INDEX": {"INDEX"}, "CREATE TRIGGER": {"TRIGGER"}, "DROP TRIGGER": {"TRIGGER"},
	"CREATE VIEW": {
		"CREATE VIEW",
	}, "CREATE OR": {"CREATE VIEW", "DROP"}, "DROP VIEW": {"DROP"}, "LOCK TABLES": {"LOCK TABLES"},
	"INSERT": {"INSERT"}, "UPDATE": {"UPDATE", "SELECT"}, "DELETE": {"DELETE"}, "SELECT": {"SELECT"},
}

// MissingPermissions tells what of statements the user has no right to do. A right on one table counts
// as one on all: who has such is likely to have the others that are needed.
func (d *Database) MissingPermissions(ctx context.Context, statements []string) ([]string, error) {
	wanted := rightsFor(statements)
	var out []string
	if slices.ContainsFunc(statements, func(sql string) bool { return strings.Contains(sql, rolesTable) }) {
		if err := d.raw(ctx, "SELECT 1 FROM "+rolesTable+" LIMIT 0"); err != nil {
			user, host, err := d.me(ctx)
			if err != nil {
				return nil, err
			}
			out = append(
				out,
				fmt.Sprintf(
					"a guard by a role reads the server's table of roles, which the user %s may not read: GRANT SELECT ON %s TO %s@%s",
					user, rolesTable, literal(user), literal(host)),
			)
		}
	}
	if len(wanted) == 0 {
		return out, nil
	}
	rows, err := d.Select(ctx, "SHOW GRANTS")
	if err != nil {
		return out, nil // who may not even ask this is told by the steps themselves
	}
	has, ok := d.granted(rows)
	if !ok {
		return out, nil
	}
	if has["ALL PRIVILEGES"] || has["ALL"] {
		return out, nil
	}
	wanted = slices.DeleteFunc(wanted, func(r string) bool { return has[r] })
	if len(wanted) == 0 {
		return out, nil
	}
	user, host, err := d.me(ctx)
	if err != nil {
		return nil, err
	}
	return append(
		out,
		fmt.Sprintf("the user %s lacks the right %s: GRANT %s ON %s.* TO %s@%s", user, strings.Join(wanted, ", "),
			strings.Join(wanted, ", "), quote(d.name), literal(user), literal(host)),
	), nil
}

// rightsFor are the rights that statements need.
func rightsFor(statements []string) []string {
	var wanted []string
	for _, sql := range statements {
		list := tokens(sql)
		if len(list) == 0 {
			continue
		}
		first := strings.ToUpper(list[0].Text)
		rights := needs[first]
		if len(list) > 1 && rights == nil {
			rights = needs[first+" "+strings.ToUpper(list[1].Text)]
		}
		if len(list) > 3 && list[1].Is("OR") && !list[3].Is("VIEW") { // a trigger or routine, by hand
			rights = nil
		}
		rights = slices.Clone(rights)
		for i, t := range list[1:] {
			switch {
			case t.Is("SELECT") && first != "SELECT":
				rights = append(rights, "SELECT")
			case first == "ALTER" && t.Is("RENAME") && i+2 < len(list) && !list[i+2].Is("COLUMN") && !list[i+2].Is("INDEX") && !list[i+2].Is("KEY"):
				rights = append(rights, "DROP", "CREATE", "INSERT")
			}
		}
		for _, r := range rights {
			if !slices.Contains(wanted, r) {
				wanted = append(wanted, r)
			}
		}
	}
	return wanted
}

// granted are the rights on this database that lines of SHOW GRANTS give; false: they may be
// any.
func (d *Database) granted(rows [][]string) (map[string]bool, bool) {
	has := map[string]bool{}
	for _, r := range rows {
		list := tokens(r[0])
		on := slices.IndexFunc(list, func(t sqltok.Token) bool { return t.Is("ON") })
		if on < 0 { // a role, whose rights may be any
			return nil, false
		}
		if !d.grantOn(list[on+1:]) {
			continue
		}
		right := ""
		for _, t := range sqltok.Outside(list[1 : on+1]) {
			if t.Is(",") || t.Is("ON") {
				has[strings.TrimSpace(right)] = true
				right = ""
				continue
			}
			right += strings.ToUpper(t.Text) + " "
		}
	}
	return has, true
}

// me is the user of the connection, as grants name it.
func (d *Database) me(ctx context.Context) (user, host string, err error) {
	who, err := d.Select(ctx, "SELECT current_user()")
	if err != nil {
		return "", "", err
	}
	user, host, _ = strings.Cut(who[0][0], "@")
	return user, host, nil
}

// grantOn tells whether a grant is about this database, from what stands behind its ON.
// The name of a database may hold patterns.
func (d *Database) grantOn(list []sqltok.Token) bool {
	if len(list) > 0 && list[0].Is("TABLE") {
		list = list[1:]
	}
	if len(list) < 3 || !list[1].Is(".") {
		return false
	}
	if list[0].Is("*") {
		return true
	}
	return like(list[0].Name(), d.name)
}

// like tells whether a text fits a pattern as LIKE has it.
func like(pattern, text string) bool {
	if pattern == "" {
		return text == ""
	}
	switch c := pattern[0]; {
	case c == '%':
		for i := range len(text) + 1 {
			if like(pattern[1:], text[i:]) {
				return true
			}
		}
		return false
	case c == '\\' && len(pattern) > 1:
		pattern = pattern[1:]
	case c == '_' && text != "":
		return like(pattern[1:], text[1:])
	}
	return text != "" && pattern[0] == text[0] && like(pattern[1:], text[1:])
}
