package postgres

// This file is what a schema holds beside its tables, and how each is dropped and replaced.

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

const (
	rowSecurity = "row security of"
	rightsOn    = "rights on"
	ownerOf     = "owner of"
	schemaKind  = sqlschema.InDatabase
)

// Objects gives what a schema holds beside tables and what is made for models.
func (d *database) Objects(ctx context.Context, s *sqlschema.Schema) ([]engine.Creation, error) {
	bare := &sqlschema.Schema{Views: s.Views, Others: s.Others}
	for _, t := range s.Tables {
		if t.Options.Foreign {
			continue
		}
		bare.Tables = append(bare.Tables, &sqlschema.Table{Name: t.Name, Triggers: t.Triggers, Others: t.Others})
	}
	list, err := d.verbatim(ctx, place{}, s, Engine{}.CreateAll(bare))
	if err != nil {
		return nil, err
	}
	rows, err := d.Select(ctx, "SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "+
		"WHERE c.relkind = 'm' AND c.relispopulated AND c.relnamespace IN "+d.ours())
	if err != nil {
		return nil, err
	}
	populated := map[string]bool{}
	for _, r := range rows {
		in := r[0]
		if in == d.schema {
			in = ""
		}
		populated[schema.InSchema(in, r[1])] = true
	}
	secured := map[string]bool{}
	var out []engine.Creation
	for _, c := range engine.Objects(s, list) {
		switch {
		case c.Kind == "policy":
			_, c.Of, _ = strings.Cut(c.Name, " of ")
			if strings.HasPrefix(c.SQL, "ALTER TABLE ") {
				if secured[c.Of] {
					continue
				}
				secured[c.Of] = true
				c.Kind, c.Name = rowSecurity, c.Of
			}
		case c.Kind == rowSecurity:
			c.Of = c.Name
		}
		if c.Kind == rightsOn && c.Name == "" || c.OfKind == schemaKind {
			continue
		}
		part := c.Kind == engine.Part || c.Kind == moreOfPart
		if t := s.Table(c.Of); c.OfKind == "" && !part && t != nil && t.Options.Foreign { // scratch has no such table
			continue
		}
		c.SQL = withoutSchema(c.SQL, d.schema)
		c.Form = canon(withoutSchema(cmp.Or(c.Form, c.SQL), d.schema))
		if c.Kind == "materialised view" && populated[c.Name] {
			c.SQL = strings.TrimSuffix(c.SQL, "\nWITH NO DATA")
		}
		out = append(out, c)
	}
	return out, nil
}

// withoutSchema is a statement without the name of the schema that all of it is in.
func withoutSchema(sql, schema string) string {
	var b strings.Builder
	last := 0
	list := tokens(sql)
	for i := range list {
		if t := list[i]; t.In == schema && t.In != "" {
			b.WriteString(sql[last:t.Start] + quote(bare(t.Val)))
			last = t.End
			continue
		}
		if i+2 < len(list) && list[i].Named() && list[i].Name() == schema && list[i+1].Is(".") && list[i+2].Named() &&
			(i == 0 || !list[i-1].Is(".")) && list[i].End == list[i+1].Start {
			b.WriteString(sql[last:list[i].Start])
			last = list[i+2].Start
		}
	}
	return b.String() + sql[last:]
}

// CreateObject is the statement that creates something.
func (Engine) CreateObject(c engine.Creation) string { return c.SQL }

// DropObject gives the statements that drop what a creation creates.
func (Engine) DropObject(c engine.Creation) []string {
	list := tokens(c.SQL)
	one := func(sql string) []string { return []string{sql} }
	switch c.Kind {
	case "trigger", "rule", "policy":
		name, _, _ := strings.Cut(c.Name, " of "+c.Of)
		return one("DROP " + strings.ToUpper(c.Kind) + " " + quote(name) + " ON " + quoteTable(c.Of))
	case "state of trigger", "state of rule":
		return one("ALTER TABLE " + quoteTable(c.Of) + " ENABLE " + strings.ToUpper(strings.TrimPrefix(c.Kind,
			"state of ")) + " " + quote(c.Name))
	case moreOfPart:
		return lessOfPart(c.SQL)
	case engine.Exclusion, "constraint":
		return one(alterTable(c.Of) + "DROP CONSTRAINT " + quote(c.Name))
	case rowSecurity:
		if strings.Contains(c.SQL, " FORCE ") {
			return one("ALTER TABLE ONLY " + quoteTable(c.Of) + " NO FORCE ROW LEVEL SECURITY")
		}
		return one("ALTER TABLE " + quoteTable(c.Of) + " DISABLE ROW LEVEL SECURITY")
	case "comment":
		if i := slices.IndexFunc(list, func(t sqltok.Token) bool { return t.Is("IS") }); i > 0 {
			return one(c.SQL[:list[i].Start] + "IS NULL")
		}
		return nil
	case rightsOn, "rights":
		return revoked(c.SQL, list)
	case "options of":
		if open := strings.Index(c.SQL, " SET ("); open > 0 {
			var names []string
			for _, o := range strings.Split(strings.TrimSuffix(c.SQL[open+len(" SET ("):], ")"), ", ") {
				name, _, _ := strings.Cut(o, "=")
				names = append(names, name)
			}
			return one(c.SQL[:open] + " RESET (" + strings.Join(names, ", ") + ")")
		}
		return nil
	case ownerOf:
		return nil
	case "statistics", "index":
		return one("DROP " + strings.ToUpper(c.Kind) + " " + nameIn(c, list))
	}
	return one("DROP " + kindWords(list) + " " + signature(c, list))
}

// revoked is the inverse of a GRANT; that of REVOKE gives the owner, and where it was meant everybody, all
// rights.
func revoked(sql string, list []sqltok.Token) []string {
	at := func(word string) int {
		return slices.IndexFunc(list, func(t sqltok.Token) bool { return t.Is(word) })
	}
	if grant, to := at("GRANT"), at("TO"); grant >= 0 && to > grant {
		tail := strings.TrimSuffix(sql[list[to].End:], " WITH GRANT OPTION")
		return []string{sql[:list[grant].Start] + "REVOKE" + sql[list[grant].End:list[to].Start] + "FROM" + tail}
	}
	if revoke, from := at("REVOKE"), at("FROM"); revoke >= 0 && from > revoke {
		return []string{sql[:list[revoke].Start] + "GRANT" + sql[list[revoke].End:list[from].Start] + "TO" +
			sql[list[from].End:]}
	}
	return nil
}

// kindWords are the words of a CREATE statement for what it creates.
func kindWords(list []sqltok.Token) string {
	var out []string
	for _, t := range list[min(1, len(list)):] {
		word := t.Word()
		switch word {
		case "OR", "REPLACE", "RECURSIVE", "CONSTRAINT":
			continue
		case "TEXT", "SEARCH", "MATERIALIZED", "EVENT":
			out = append(out, word)
			continue
		case "":
			return strings.Join(out, " ")
		}
		return strings.Join(append(out, word), " ")
	}
	return strings.Join(out, " ")
}

// signature is the name of an object, with the types that a function takes.
func signature(c engine.Creation, list []sqltok.Token) string {
	switch c.Kind {
	case "function", "procedure", "aggregate":
		name, args, _ := strings.Cut(c.Name, "(")
		return quoteTable(name) + "(" + args
	case "cast":
		at := slices.IndexFunc(list, func(t sqltok.Token) bool { return t.Is("CAST") })
		end := slices.IndexFunc(list, func(t sqltok.Token) bool { return t.Is("WITH") || t.Is("WITHOUT") })
		if at >= 0 && end > at {
			return strings.TrimSpace(c.SQL[list[at].End:list[end].Start])
		}
	case "operator":
		name, types, _ := strings.Cut(c.Name, " of ")
		left, right, _ := strings.Cut(types, " and ")
		return name + " (" + cmp.Or(left, "NONE") + ", " + cmp.Or(right, "NONE") + ")"
	}
	return quoteTable(c.Name)
}

// nameIn is the name behind the kind of a CREATE statement, as it stands there.
func nameIn(c engine.Creation, list []sqltok.Token) string {
	for i, t := range list {
		if t.Is(strings.ToUpper(c.Kind)) && i+1 < len(list) {
			end := i + 1
			for end+2 < len(list) && list[end+1].Is(".") {
				end += 2
			}
			return c.SQL[list[i+1].Start:list[end].End]
		}
	}
	return quoteTable(c.Name)
}

// AgainObject is a statement that creates what belongs to a table or another object, as often as it is run.
func (Engine) AgainObject(c engine.Creation) string {
	switch c.Kind {
	case "rule":
		return "CREATE OR REPLACE " + strings.TrimPrefix(c.SQL, "CREATE ")
	case "statistics":
		return strings.Replace(c.SQL, "CREATE STATISTICS ", "CREATE STATISTICS IF NOT EXISTS ", 1)
	case "comment", rightsOn, "rights", "state of trigger", "state of rule", rowSecurity, moreOfPart:
		return c.SQL
	case engine.Part:
		return strings.Replace(c.SQL, "TABLE ", "TABLE IF NOT EXISTS ", 1)
	}
	return ""
}

// ReplaceObject is a statement that creates in the place of what has its name.
func (Engine) ReplaceObject(was, c engine.Creation) string {
	switch c.Kind {
	case "view", "rule":
		return "CREATE OR REPLACE " + strings.TrimPrefix(c.SQL, "CREATE ")
	case "function", "procedure":
		return c.SQL // the server says CREATE OR REPLACE
	case "domain":
		return alterDomain(was, c)
	case engine.Part:
		return partChanged(was, c)
	case "sequence":
		return "ALTER " + strings.TrimPrefix(c.SQL, "CREATE ")
	case "publication":
		head, options, _ := strings.Cut(c.SQL, " WITH (publish")
		_, members, some := strings.Cut(head, " FOR ")
		if !some || members == "ALL TABLES" { // nothing changes one into this
			return ""
		}
		alter := "ALTER PUBLICATION " + quote(c.Name) + " SET "
		return alter + members + ";\n" + alter + "(publish" + options
	case "comment", rightsOn, "rights", "state of trigger", "state of rule":
		return c.SQL
	}
	return ""
}
