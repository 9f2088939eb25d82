package postgres

// This file is about tables whose rows are those of another, too: partitions, and tables that inherit. A partition
// is taken out of its table and put back, with its rows.

import (
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// parentOf is the first table of which a relation is a part, as SQL over the row that pg_class has of it.
func parentOf(class string) string {
	return `(SELECT h.inhparent::regclass::text FROM pg_inherits h WHERE h.inhrelid = ` + class +
		`.oid ORDER BY h.inhseqno LIMIT '1'::integer)`
}

// partStatement is the statement that creates a relation which is a part, as SQL over the row that pg_class has of it.
func partStatement(class string) string {
	return strings.ReplaceAll(`CASE WHEN {c}.relpersistence = 'u' THEN 'CREATE UNLOGGED TABLE ' ELSE 'CREATE TABLE ' END ||
		CASE WHEN {c}.relispartition THEN format('%s PARTITION OF %s %s', {c}.oid::regclass, `+parentOf("{c}")+`,
			pg_get_expr({c}.relpartbound, {c}.oid)) ||
			CASE WHEN {c}.relkind = 'p' THEN ' PARTITION BY ' || pg_get_partkeydef({c}.oid) ELSE '' END
		ELSE format('%s (%s) INHERITS (%s)', {c}.oid::regclass,
			(SELECT coalesce(string_agg(quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod) ||
				CASE WHEN a.attnotnull THEN ' NOT NULL' ELSE '' END ||
				coalesce(' DEFAULT ' || (SELECT pg_get_expr(f.adbin, f.adrelid) FROM pg_attrdef f
					WHERE f.adrelid = a.attrelid AND f.adnum = a.attnum), ''), ', ' ORDER BY a.attnum), '')
				FROM pg_attribute a WHERE a.attrelid = {c}.oid AND a.attislocal AND a.attnum > 0 AND NOT a.attisdropped),
			(SELECT string_agg(h.inhparent::regclass::text, ', ' ORDER BY h.inhseqno) FROM pg_inherits h
				WHERE h.inhrelid = {c}.oid)) END ||
		coalesce(' WITH (' || array_to_string({c}.reloptions, ', ') || ')', '')`, "{c}", class)
}

// tableIn is the name of a table that the server wrote for a statement.
func tableIn(sql string) string {
	if t := tokens("TABLE " + sql); len(t) == 2 {
		return t[1].Name()
	}
	return sql
}

// partsInOrder creates the parts among tables, each behind that of which it is one.
func partsInOrder(tables []*sqlschema.Table) []engine.Creation {
	var out []engine.Creation
	seen := map[string]bool{}
	var add func(t *sqlschema.Table)
	add = func(t *sqlschema.Table) {
		if t.PartOf == "" || t.AsPart == "" || seen[t.Name] {
			return
		}
		seen[t.Name] = true
		for _, o := range tables {
			if o.Name == t.PartOf {
				add(o)
			}
		}
		out = append(out, engine.Creation{Kind: engine.Part, Name: t.Name, SQL: t.AsPart, Of: t.PartOf})
	}
	for _, t := range tables {
		add(t)
	}
	return out
}

// partWords are the pieces of a statement that creates a partition: what it is called and is a part of, its bounds,
// such as FOR VALUES FROM (1) TO (9), how its own rows are in parts, and its storage parameters. bounds is "" for a
// table that inherits.
func partWords(sql string) (head, bounds, parts, options string) {
	list := tokens(sql)
	of := slices.IndexFunc(list, func(t sqltok.Token) bool { return t.Is("PARTITION") })
	if of < 0 || of+1 >= len(list) || !list[of+1].Is("OF") {
		return sql, "", "", ""
	}
	at := []int{len(sql), len(sql), len(sql)} // where the bounds begin, PARTITION BY, and WITH
	for i, t := range sqltok.Outside(list) {
		switch {
		case i <= of:
		case t.Is("DEFAULT"), t.Is("FOR"):
			at[0] = min(at[0], t.Start)
		case t.Is("PARTITION"):
			at[1] = t.Start
		case t.Is("WITH") && !list[i-1].Is("VALUES"):
			at[2] = t.Start
		}
	}
	at[1] = min(at[1], at[2])
	return sql[:at[0]], strings.TrimSpace(sql[at[0]:at[1]]), sql[at[1]:at[2]], sql[at[2]:]
}

// boundsOf are the words by which a partition belongs to its table; "" for a table that inherits.
func boundsOf(sql string) string {
	_, bounds, _, _ := partWords(sql)
	return bounds
}

func detach(part, of string) string {
	return "ALTER TABLE " + quoteTable(of) + " DETACH PARTITION " + quoteTable(part)
}

func attach(part, of, bounds string) string {
	return "ALTER TABLE " + quoteTable(of) + " ATTACH PARTITION " + quoteTable(part) + " " + bounds
}

// partChanged are the statements that give a partition other bounds and storage parameters; "": it is not to be the
// same otherwise.
func partChanged(was, now engine.Creation) string {
	head, bounds, parts, options := partWords(was.SQL)
	toHead, toBounds, toParts, toOptions := partWords(now.SQL)
	same := was.Of == now.Of && canon(head) == canon(toHead) && canon(parts) == canon(toParts)
	if bounds == "" || toBounds == "" || !same {
		return ""
	}
	table := quoteTable(now.Name)
	out := []string{"LOCK TABLE " + table + " IN ACCESS SHARE MODE"} // else only what is said besides differs
	if canon(bounds) != canon(toBounds) {
		out = []string{detach(now.Name, now.Of), attach(now.Name, now.Of, toBounds)}
	}
	if canon(options) != canon(toOptions) {
		var gone []string
		for _, o := range itemsBehind(options, "WITH") {
			name, _, _ := strings.Cut(o, "=")
			gone = append(gone, strings.TrimSpace(name))
		}
		if len(gone) > 0 {
			out = append(out, "ALTER TABLE "+table+" RESET ("+strings.Join(gone, ", ")+")")
		}
		if list := itemsBehind(toOptions, "WITH"); len(list) > 0 {
			out = append(out, "ALTER TABLE "+table+" SET ("+strings.Join(list, ", ")+")")
		}
	}
	return strings.Join(out, ";\n")
}

// lessOfPart takes back what a statement says more of a part; nil: nothing can.
func lessOfPart(sql string) []string {
	for _, way := range [][2]string{
		{" SET NOT NULL", " DROP NOT NULL"}, {" CLUSTER ON ", " SET WITHOUT CLUSTER"},
		{" REPLICA IDENTITY ", " REPLICA IDENTITY DEFAULT"}, {" SET STATISTICS ", " SET STATISTICS -1"},
	} {
		if head, _, ok := strings.Cut(sql, way[0]); ok {
			return []string{head + way[1]}
		}
	}
	return nil
}

// DropPart takes a partition out of its table and sets it aside as it is, with its rows. It is false for a table that
// inherits: nothing brings its columns back as they are. What it has since its table has it, the server names as it
// likes, and gives it again.
func (Engine) DropPart(c engine.Creation, t *sqlschema.Table, own []string, keep string) (engine.Step, bool) {
	bounds := boundsOf(c.SQL)
	if bounds == "" {
		return engine.Step{}, false
	}
	part := t.Clone()
	part.Indexes = slices.DeleteFunc(part.Indexes,
		func(x *sqlschema.Index) bool { return !slices.Contains(own, x.Name) })
	if part.PrimaryKey != nil && !slices.Contains(own, part.PrimaryKey.Name) {
		part.PrimaryKey = nil
	}
	s := keepWhole(part, keep)
	s.Apply = slices.Concat([]string{detach(c.Name, c.Of)}, s.Apply, []string{dropReferences(keep)})
	s.Undo = append(s.Undo, attach(c.Name, c.Of, bounds))
	return s, true
}

// dropReferences drops all references of a table, whatever they are called.
func dropReferences(table string) string {
	drop := literal("ALTER TABLE " + strings.ReplaceAll(quoteTable(table), "%", "%%") + " DROP CONSTRAINT %I")
	return `DO $erbario$DECLARE
    name text;
BEGIN
    FOR name IN SELECT conname FROM pg_catalog.pg_constraint
        WHERE conrelid = ` + literal(quoteTable(table)) + `::regclass AND contype = 'f'
    LOOP
        EXECUTE pg_catalog.format(` + drop + `, name);
    END LOOP;
END$erbario$`
}

// RestPart creates a part of a table for the rows that are in no other.
func (Engine) RestPart(t *sqlschema.Table, name string) string {
	if !t.Partitioned() {
		return ""
	}
	bounds := "DEFAULT"
	if strings.Contains(t.Options.Behind, "PARTITION BY HASH") {
		bounds = "FOR VALUES WITH (MODULUS 1, REMAINDER 0)"
	}
	return "CREATE TABLE " + quoteTable(name) + " PARTITION OF " + quoteTable(t.Name) + " " + bounds
}

// Bounds is the condition that a row of a table belongs into a partition of it.
func (Engine) Bounds(of *sqlschema.Table, c engine.Creation) (within string, rest bool) {
	bounds := tokens(boundsOf(c.SQL))
	if len(bounds) == 1 && bounds[0].Is("DEFAULT") {
		return "", true
	}
	keys := itemsBehind(of.Options.Behind, "RANGE", "LIST")
	for _, k := range keys {
		if list := tokens(k); len(list) > 1 && list[1].Named() { // with a collation, or an operator class
			return "", false
		}
	}
	text := boundsOf(c.SQL)
	if in := itemsBehind(text, "IN"); len(in) > 0 && len(keys) == 1 {
		within = keys[0] + " IN (" + strings.Join(in, ", ") + ")"
		if slices.ContainsFunc(in, func(v string) bool { return strings.EqualFold(v, "NULL") }) {
			within = "(" + within + " OR " + keys[0] + " IS NULL)"
		}
		return within, false
	}
	var terms []string
	for _, side := range [][2]string{{"FROM", " >= "}, {"TO", " < "}} {
		values := itemsBehind(text, side[0])
		open := func(v string) bool { return strings.EqualFold(v, "MINVALUE") || strings.EqualFold(v, "MAXVALUE") }
		switch {
		case len(keys) == 0 || len(values) != len(keys):
			return "", false
		case open(values[0]):
		case slices.ContainsFunc(values, open):
			return "", false
		default:
			terms = append(terms, "("+strings.Join(keys, ", ")+")"+side[1]+"("+strings.Join(values, ", ")+")")
		}
	}
	return strings.Join(terms, " AND "), false
}

// itemsBehind are the items in the brackets behind one of some words.
func itemsBehind(sql string, words ...string) []string {
	list := tokens(sql)
	for i, t := range list {
		if !slices.Contains(words, t.Word()) || i+1 >= len(list) || !list[i+1].Is("(") {
			continue
		}
		var out []string
		from, depth := list[i+1].End, 0
		for _, t := range list[i+2:] {
			switch {
			case depth == 0 && (t.Is(",") || t.Is(")")):
				out = append(out, strings.TrimSpace(sql[from:t.Start]))
				from = t.End
				if t.Is(")") {
					return out
				}
			case t.Is("("):
				depth++
			case t.Is(")"):
				depth--
			}
		}
	}
	return nil
}

// PartHolds asks for the rows that a check of a part, or a uniqueness, does not let in.
func (Engine) PartHolds(c engine.Creation) *engine.Requirement {
	from := " FROM " + quoteTable(c.Of)
	check := itemsBehind(c.SQL, "CHECK")
	unique := slices.ContainsFunc(tokens(c.SQL), func(t sqltok.Token) bool { return t.Is("UNIQUE") })
	columns := itemsBehind(c.SQL, "UNIQUE")
	if method := slices.IndexFunc(tokens(c.SQL), func(t sqltok.Token) bool { return t.Is("USING") }); method > 0 {
		columns = itemsBehind(c.SQL, tokens(c.SQL)[method+1].Word())
	}
	switch {
	case c.Kind == "constraint" && len(check) == 1:
		return &engine.Requirement{Table: c.Of, Sentence: "{n} rows of " + c.Of + " break the check " + c.Name,
			Query: "SELECT *" + from + " WHERE NOT (" + check[0] + ")"}
	case unique && len(columns) > 0:
		list := strings.Join(columns, ", ")
		return &engine.Requirement{Table: c.Of,
			Sentence: "{n} values of " + c.Of + " occur in more than one row, and " + c.Name + " lets each in once",
			Query: "SELECT " + list + ", count(*) AS times" + from + " WHERE (" + strings.Join(columns, ") IS NOT NULL AND (") +
				") IS NOT NULL GROUP BY " + list + " HAVING count(*) > 1"}
	}
	return nil
}

// PartValues are values of rows of a table that belong into a partition of it: those at its lower bounds, or one of
// its list.
func (Engine) PartValues(of, part *sqlschema.Table) map[string]string {
	out := map[string]string{}
	bounds := boundsOf(part.AsPart)
	values := itemsBehind(bounds, "FROM", "IN")
	for i, key := range itemsBehind(of.Options.Behind, "RANGE", "LIST") {
		list := tokens(key)
		if i >= len(values) || len(list) == 0 || of.Column(list[0].Name()) == nil {
			break
		}
		if !strings.EqualFold(values[i], "MINVALUE") {
			out[list[0].Name()] = values[i]
		}
	}
	return out
}
