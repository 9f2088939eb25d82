package postgres

// This file tells beforehand what the user of a connection may not do.

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"

	"erbario/internal/engine/sqltext"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
)

// owned is the table, view or index that only its owner may change as a statement does; "":
// none.
func owned(statement string) string {
	list := tokens(statement)
	word := func(i int) string {
		if i < len(list) && list[i].Kind == sqltok.Word {
			return strings.ToUpper(list[i].Text)
		}
		return ""
	}
	at := 0
	if name := movedTable(list); name != "" {
		return name
	}
	switch word(0) + " " + word(1) {
	case "ALTER TABLE", "DROP TABLE", "ALTER VIEW", "DROP VIEW", "ALTER INDEX", "DROP INDEX":
		at = 2
	case "CREATE INDEX", "CREATE UNIQUE", "CREATE TRIGGER", "DROP TRIGGER":
		for i, t := range list {
			if t.Is("ON") {
				at = i + 1
				break
			}
		}
	}
	for at > 0 && (word(at) == "IF" || word(at) == "EXISTS" || word(at) == "ONLY") {
		at++
	}
	if at == 0 || at >= len(list) || !list[at].Named() || at+1 < len(list) && list[at+1].Is(".") {
		return ""
	}
	return list[at].Name()
}

// namedRelations are tables and the like by their names, as SQL behind FROM. The project's own schema has no name
// there.
func namedRelations(rows []string) string {
	return "(VALUES " + strings.Join(rows, ", ") + ") AS n (name, quoted, own) JOIN pg_class c " +
		"ON c.oid = to_regclass(n.quoted)::oid AND (NOT n.own OR c.relnamespace = " + here + ")"
}

// rightsToCreate are queries for the rights to create in schemas, and schemas, that statements need and the user
// lacks.
func rightsToCreate(statements []string) []string {
	creates := map[string]bool{} // the schemas in which they create something; "": the project's own
	var parts []string
	for _, sql := range statements {
		words := strings.Fields(sql)
		if len(words) < 2 || !strings.EqualFold(words[0], "CREATE") {
			continue
		}
		switch word := strings.ToUpper(words[1]); {
		case word == "SCHEMA":
			list := tokens(sql)
			name := list[len(list)-1].Name()
			parts = append(parts, "SELECT 'SCHEMA', "+literal(name)+", current_database()::text WHERE to_regnamespace("+
				literal(quote(name))+") IS NULL AND NOT has_database_privilege(current_database(), 'CREATE')")
		case slices.Contains(makes, word):
			creates[createdIn(sql)] = true
		}
	}
	for _, in := range slices.Sorted(maps.Keys(creates)) {
		is := "nspname = " + literal(in)
		if in == "" {
			is = "oid = " + here
		}
		parts = append(parts, "SELECT 'CREATE', nspname::text, '' FROM pg_namespace WHERE "+is+
			" AND NOT has_schema_privilege(oid, 'CREATE')")
	}
	return parts
}

// createdIn is the schema in which a statement creates something; "": the project's own.
func createdIn(statement string) string {
	for i, t := range tokens(statement) {
		if t.Placed || t.Is("(") || i > 10 {
			return t.In
		}
	}
	return ""
}

// makes are the words behind CREATE of what takes a place in the schema.
var makes = []string{"TABLE", "TYPE", "VIEW", "OR", "FUNCTION", "INDEX", "UNIQUE", "SEQUENCE", "MATERIALIZED", "DOMAIN"}

// uses are the rights on tables that a statement needs beside owning what it changes, as
// right and table.
func uses(statement string) [][2]string {
	list := tokens(statement)
	if len(list) == 0 {
		return nil
	}
	word := func(i int) string {
		if i < len(list) && list[i].Kind == sqltok.Word {
			return strings.ToUpper(list[i].Text)
		}
		return ""
	}
	var out [][2]string
	add := func(right, table string) { out = append(out, [2]string{right, table}) }
	first, at := word(0), map[string]int{"INSERT": 2, "DELETE": 2, "UPDATE": 1}[word(0)]
	target := ""
	if at > 0 {
		if word(at) == "ONLY" {
			at++
		}
		if at < len(list) && list[at].Named() && (at+1 >= len(list) || !list[at+1].Is(".")) {
			target = list[at].Name()
			add(first, target)
		}
	}
	reads := at > 0 || first == "SELECT" || first == "WITH" ||
		first == "CREATE" && slices.ContainsFunc(list, func(t sqltok.Token) bool { return t.Is("SELECT") })
	if reads {
		for _, name := range sqltext.Touches(Engine{}.Lex(statement), nil).Tables {
			if name != target || first != "INSERT" {
				add("SELECT", name)
			}
		}
	}
	if first == "CREATE" || first == "ALTER" {
		for i, t := range list {
			if t.Is("REFERENCES") && i+1 < len(list) && list[i+1].Named() && (i+2 >= len(list) || !list[i+2].Is(".")) {
				add("REFERENCES", list[i+1].Name())
			}
		}
	}
	return out
}

// roleAsked finds the roles by which guards tell who may delete.
var roleAsked = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`pg_has_role\(session_user, ('(?:[^']|'')*'), 'MEMBER'\)`)
})

// MissingPermissions tells what of statements the user has no right to do, each with the GRANT that
// gives it.
func (d *database) MissingPermissions(ctx context.Context, statements []string) ([]string, error) {
	var owns, roles []string
	rights := map[string][]string{} // the tables, by right
	add := func(to *[]string, name string) {
		in, _ := schema.SplitName(name)
		row := fmt.Sprintf("(%s, %s, %t)", literal(name), literal(quoteTable(name)), in == "")
		if !slices.Contains(*to, row) {
			*to = append(*to, row)
		}
	}
	for _, sql := range statements {
		if name := owned(sql); name != "" {
			add(&owns, name)
		}
		for _, use := range uses(sql) {
			list := rights[use[0]]
			add(&list, use[1])
			rights[use[0]] = list
		}
	}
	for _, right := range []string{"SELECT", "INSERT", "DELETE"} { // of what every run notes
		list := rights[right]
		add(&list, "erbario_history")
		rights[right] = list
	}
	for _, sql := range statements {
		for _, m := range roleAsked().FindAllStringSubmatch(sql, -1) {
			if part := "SELECT 'ROLE' AS right, " + m[1] + " AS name, '' AS owner WHERE NOT EXISTS (SELECT FROM pg_roles WHERE rolname = " + m[1] + ")"; !slices.Contains(
				roles,
				part,
			) {
				roles = append(roles, part)
			}
		}
	}
	// One query for all: what does not exist yet is created by the migrations.
	parts := roles
	if len(owns) > 0 {
		parts = append(
			parts,
			"SELECT '' AS right, n.name, pg_get_userbyid(c.relowner)::text AS owner FROM "+namedRelations(owns)+
				" WHERE c.relkind IN ('r', 'p', 'v', 'm', 'i', 'I') AND NOT pg_has_role(c.relowner, 'USAGE')",
		)
	}
	for _, right := range slices.Sorted(maps.Keys(rights)) {
		parts = append(
			parts,
			"SELECT "+literal(right)+", n.name, '' FROM "+namedRelations(rights[right])+
				" WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT has_table_privilege(c.oid, "+literal(right)+")",
		)
	}
	parts = append(parts, rightsToCreate(statements)...)
	rows, err := d.Select(ctx, strings.Join(parts, " UNION ALL ")+" ORDER BY 2, 1")
	if err != nil {
		return nil, err
	}
	return d.lackWords(rows), nil
}

// lackWords says what each of the rights that are missing is, and how to get it: rows of a
// right, a name, and an owner.
func (d *database) lackWords(rows [][]string) []string {
	var out []string
	foreign := map[string]bool{} // who may not change it need not be told of the rest
	for _, r := range rows {
		switch right, name := r[0], r[1]; {
		case right == "":
			foreign[name] = true
			out = append(
				out,
				fmt.Sprintf(
					"%s belongs to %s, and the user %s may not change it: connect as its owner, or GRANT %s TO %s",
					name, r[2], d.user, quote(r[2]), quote(d.user)),
			)
		case right == "ROLE":
			out = append(
				out,
				fmt.Sprintf("there is no role %s, which a guard uses to decide who may delete: CREATE ROLE %s", name,
					quote(name)),
			)
		case right == "CREATE":
			out = append(out, fmt.Sprintf(
				"the user %s may create nothing in the schema %s: GRANT CREATE ON SCHEMA %s TO %s", d.user, name,
				quote(name), quote(d.user)))
		case right == "SCHEMA":
			out = append(out, fmt.Sprintf("the user %s may not create the schema %s: GRANT CREATE ON DATABASE %s TO %s",
				d.user, name, quote(r[2]), quote(d.user)))
		case !foreign[name]:
			out = append(
				out,
				fmt.Sprintf("the user %s lacks the right %s on %s: GRANT %s ON %s TO %s", d.user, right, name, right,
					quoteTable(name), quote(d.user)),
			)
		}
	}
	return out
}
