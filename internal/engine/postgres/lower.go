package postgres

// This file says what PostgreSQL keeps for a declaration. The server holds values
// to their types by itself; what it does not know of is held by checks and by
// triggers, whose functions all tables share (see OwnTables).

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

const (
	utcNow   = "now() AT TIME ZONE 'UTC'"
	todaySQL = "(now() AT TIME ZONE 'UTC')::date"
)

// Lower gives what the database is to hold for a declared schema.
func (Engine) Lower(declared *schema.Schema) (*sqlschema.Schema, []engine.Notice) {
	return lowering.Schema(declared)
}

var lowering = &ddl.Lowering{
	Quote: quote, Text: literal, SQL: sqlOf, Value: valueSQL, Now: nowOf, Enums: true,
	Stamp: stampTrigger, Immutable: immutableTrigger, Between: "%[1]s >= %[2]s AND %[1]s <= %[3]s",
	OneOf:    func(x string, values []string) string { return x + " IN (" + strings.Join(values, ", ") + ")" },
	Nonblank: func(c *sqlschema.Column) string { return compared(c, quote(c.Name)) + ` ~ '[^ \t\n\v\f\r]'` },
	Bound: func(v schema.Value, t schema.Type) string {
		s, _ := valueSQL(v, t)
		if v.Kind == schema.NumberValue && (t.Kind == schema.Decimal || t.Kind == schema.Double) { // compared as such
			s += "::" + strings.Split(typeName(t), "(")[0]
		}
		return s
	},
	Begin: func(out *sqlschema.Schema) { // a table's rows have a type of its name
		for _, t := range out.Tables {
			if in := t.Declared.Schema; in != "" && !out.HasSchema(in) {
				out.Others = append(out.Others, otherSchema(in))
			}
			for _, c := range t.Columns {
				if in, _ := schema.SplitName(c.Type.Enum); in != "" && !out.HasSchema(in) {
					out.Others = append(out.Others, otherSchema(in))
				}
				if c.Type.Enum != "" && (out.Table(c.Type.Enum) != nil || serverTypes()[c.Type.Enum]) {
					c.Type.Enum += "_choice"
				}
			}
		}
	},
	Types: func(out *sqlschema.Schema, t *sqlschema.Table) {
		for _, c := range t.Columns {
			if c.Type.Enum != "" && out.Enum(c.Type.Enum) == nil && !t.Elsewhere() {
				out.Others = append(out.Others, enumType(c.Type.Enum, c.Type.Choices))
			}
		}
	},
	Lower: lowerTable,
	Children: func(_ *sqlschema.Schema, d *schema.Schema, t *sqlschema.Table) ([]*sqlschema.Trigger, []engine.Notice) {
		if g := childrenTrigger(d, t); g != nil {
			return []*sqlschema.Trigger{g}, nil
		}
		return nil, nil
	},
	Guards: func(t *sqlschema.Table) ([]*sqlschema.Trigger, []engine.Notice) { return guardTriggers(t), nil },
	LiveView: func(name string, t *sqlschema.Table) sqlschema.SQL {
		return sqlschema.SQL{Text: liveView(name, t), Canon: viewKey}
	},
}

// otherSchema is a schema next to that of the project, as something that a database holds.
func otherSchema(name string) *sqlschema.Other {
	return &sqlschema.Other{Kind: schemaKind, Name: name, Make: []string{"CREATE SCHEMA IF NOT EXISTS " + quote(name)}}
}

func lowerTable(w *ddl.Lowering, t *sqlschema.Table) []engine.Notice {
	var notices []engine.Notice
	notice := func(column, format string, args ...any) {
		notices = append(notices,
			engine.Notice{Kind: format, Table: t.Name, Column: column, Text: fmt.Sprintf(format, args...)})
	}
	mistake := func(column, format string, args ...any) {
		notice(column, format, args...)
		notices[len(notices)-1].Mistake = true
	}
	var checks []*sqlschema.Check
	for _, c := range t.Columns {
		c.SQLType = typeName(c.Type)
		if c.Identity {
			c.NotNull = true
		}
		serialDefault(t, c)
		if !c.NotNull && slices.Contains(t.Key(), c.Name) {
			notice(c.Name, "%s is in the primary key, and so required on PostgreSQL", c.Declared.Field)
			c.NotNull = true
		}
		lacking(c, notice, mistake)
		switch {
		case c.Collation == plainCollation:
			c.Collation = ""
		case c.Collation != "":
			c.Collation = quote(c.Collation)
		case t.Declared.Collation != "" && c.Type.Kind == schema.Text:
			c.Collation = quote(t.Declared.Collation)
		}
		if c.Generated != nil && !c.Generated.Stored {
			notice(c.Name, "PostgreSQL keeps generated values in the row, stored or not")
			c.Generated = &sqlschema.Generated{SQL: c.Generated.SQL, Stored: true}
		}
		w.Column(t, c)
		check := func(purpose schema.Purpose, expr string) {
			checks = append(checks, w.Check(t, c, purpose, expr))
		}
		x := quote(c.Name)
		if c.Name == t.SoftDelete {
			// By its name a live schema tells which column marks rows as deleted.
			check(schema.ForSoftDelete, "isfinite("+x+")")
		}
		switch unchecked := t.Declared.Unchecked || c.Type.As != ""; {
		case unchecked:
		case c.Type.Kind == schema.Bytes && c.Type.Length > 0:
			check(schema.ForType, fmt.Sprintf("octet_length(%s) <= %d", x, c.Type.Length))
		case c.Type.Unsigned:
			check(schema.ForType, fmt.Sprintf("%s >= 0 AND %s <= %s", x, x, ddl.Most(c.Type)))
		}
		if c.Type.Enum != "" {
			c.Values = c.Type.Choices
		}
		checks = append(checks, w.Checks(t, c)...)
	}
	t.Checks = append(checks, t.Checks...)
	for _, x := range t.Indexes {
		lowerIndex(t, x, mistake)
	}
	if pk := t.PrimaryKey; pk != nil {
		if pk.Conflict != "" {
			mistake("", "on conflict is SQLite's: write on sqlite: before it, or have statements say it")
		}
		for i, p := range pk.Columns {
			if pk.Columns[i] = (sqlschema.Part{Column: p.Column}); p != pk.Columns[i] {
				mistake(p.Column, "a primary key of PostgreSQL has whole fields alone: write on mariadb: or on sqlite: before it")
			}
		}
	}
	t.Options = tableOptions(t.Declared.Options)
	return notices
}

// lacking reports what PostgreSQL does not have of what is declared for a column.
func lacking(c *sqlschema.Column, notice, mistake func(column, format string, args ...any)) {
	switch {
	case c.Declared.Numbers.Rowid:
		notice(c.Name, "PostgreSQL has no row numbers: %s is an identity", c.Declared.Field)
	case c.Declared.UpdateNow:
		mistake(c.Name, "PostgreSQL sets no time by itself when a row is updated: write stamped")
	case c.Invisible:
		notice(c.Name, "PostgreSQL has no invisible columns")
		c.Invisible = false
	}
	if _, _, ok := storageParts(c); !ok {
		mistake(c.Name,
			"PostgreSQL has no storage %q: write plain, external, extended or main, and perhaps compression lz4 or pglz",
			strings.ToLower(c.Storage))
	}
}

// serialDefault gives a column that a sequence numbers its default.
func serialDefault(t *sqlschema.Table, c *sqlschema.Column) {
	n := c.Declared.Numbers
	if !n.Serial {
		return
	}
	c.Identity = false
	in, own := schema.SplitName(t.Name)
	c.Serial = cmp.Or(n.Sequence, schema.InSchema(in, sequenceName(own, c.Name)))
	d := sqlOf("nextval(" + literal(quoteTable(c.Serial)) + "::regclass)")
	c.Default = &d
}

// sequenceName is the name that the server gives the sequence of a serial column: where it is
// too long, the longer of its two parts is cut.
func sequenceName(table, column string) string {
	for len(table)+len(column)+len("__seq") > schema.NameLimit {
		longer := &table
		if len(column) >= len(table) {
			longer = &column
		}
		_, n := utf8.DecodeLastRuneInString(*longer)
		*longer = (*longer)[:len(*longer)-n]
	}
	return table + "_" + column + "_seq"
}

// lowerIndex makes an index what PostgreSQL keeps for it.
func lowerIndex(t *sqlschema.Table, x *sqlschema.Index, mistake func(column, format string, args ...any)) {
	plain := x.Unique && x.Where == nil && x.Using == ""
	if strings.EqualFold(x.Using, "btree") {
		x.Using = ""
	}
	x.Using = strings.ToLower(x.Using)
	for i, p := range x.Parts {
		if p.Length > 0 {
			mistake(p.Column, "PostgreSQL has no index on the beginning of a value: write index (left({%s}, %d))",
				p.Column, p.Length)
		}
		if p.Expr != nil {
			x.Parts[i] = expressionPart(t, sqlOf(tidy(p.Expr.Text)),
				sqlschema.Part{Desc: p.Desc, Class: p.Class, Nulls: p.Nulls, Collation: p.Collation})
			if x.Parts[i].Expr != nil {
				x.Parts[i].Expr = p.Expr
			}
			p = x.Parts[i]
		}
		if p.Collation != "" && p.Collation != ignoringCase {
			x.Parts[i].Collation = quote(p.Collation)
		}
		if p.Nulls == map[bool]string{true: "FIRST", false: "LAST"}[p.Desc] { // as the direction says
			x.Parts[i].Nulls = ""
		}
		plain = plain && p.Expr == nil && p.Collation == "" && !p.Desc && p.Class == "" && x.Parts[i].Nulls == ""
	}
	if !x.Form {
		x.Constraint = plain
	} else if x.Constraint && !plain {
		mistake("", "PostgreSQL has no constraint for %s: write as index", x.Name)
	}
	if x.Conflict != "" {
		mistake("", "on conflict is SQLite's: write on sqlite: before it, or have statements say it")
	}
	if x.Options != "" && !x.Constraint {
		mistake("", "only a constraint is deferrable on PostgreSQL, and %s is an index", x.Name)
	}
	for _, d := range t.Declared.Indexes {
		if d.Name != x.Name {
			continue
		}
		if d.Stored.Options != "" {
			x.Options = " WITH (" + d.Stored.Options + ")" + x.Options
		}
	}
	if x.Constraint && x.Included != "" {
		x.Options, x.Included = " INCLUDE ("+x.Included+")"+x.Options, ""
	}
}

// tableOptions are options of a table as people write them: UNLOGGED, storage parameters, and
// PARTITION BY last.
func tableOptions(text string) sqlschema.Options {
	var out sqlschema.Options
	var list []string
	for _, t := range tokens(text) {
		if t.Is("PARTITION") {
			out.Behind = " " + strings.TrimSpace(text[t.Start:])
			text = text[:t.Start]
			break
		}
	}
	for _, w := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' }) {
		if strings.EqualFold(w, "unlogged") {
			out.Unlogged = true
			continue
		}
		list = append(list, w)
	}
	if len(list) > 0 {
		out.Behind += " WITH (" + strings.Join(list, ", ") + ")"
	}
	return out
}

// typeName is the type in which PostgreSQL keeps a type of the language.
func typeName(t schema.Type) string {
	if t.As != "" {
		return shortType(t.As)
	}
	seconds := ""
	if t.Seconds > 0 {
		seconds = fmt.Sprintf("(%d)", t.Seconds-1)
	}
	switch t.Kind {
	case schema.Smallint, schema.Integer, schema.Bigint:
		if t.Unsigned { // the next wider one
			return map[schema.Kind]string{schema.Smallint: "integer", schema.Integer: "bigint",
				schema.Bigint: "numeric(20,0)"}[t.Kind]
		}
	case schema.Text:
		if t.Fixed {
			return fmt.Sprintf("character(%d)", t.Length)
		}
		if t.Length > 0 {
			return fmt.Sprintf("varchar(%d)", t.Length)
		}
		return "text"
	case schema.Choice:
		if t.Enum != "" {
			return quoteTable(t.Enum)
		}
		return "text"
	case schema.Decimal:
		return fmt.Sprintf("numeric(%d,%d)", t.Precision, t.Scale)
	case schema.Double:
		return "double precision"
	case schema.Timestamp:
		return "timestamptz" + seconds
	case schema.Datetime:
		return "timestamp" + seconds
	case schema.Time:
		return "time" + seconds
	case schema.JSON:
		return "jsonb"
	case schema.Bytes:
		return "bytea"
	case schema.Native:
		if t.Of != nil {
			return typeName(*t.Of) + "[]"
		}
		return t.Name
	}
	return string(t.Kind)
}

func nowOf(t schema.Type) string {
	if t.Kind == schema.Datetime {
		return utcNow
	}
	return "now()"
}

var constants = &ddl.Constants{
	Text: literal, True: "true", False: "false", Now: nowOf, Today: todaySQL, FreshUUID: "gen_random_uuid()",
}

// valueSQL gives a declared value as SQL of its type.
func valueSQL(v schema.Value, t schema.Type) (string, error) {
	if sql, ok := constants.SQL(v, t); ok {
		return sql, nil
	}
	if strings.ContainsRune(v.Text, 0) {
		return "", fmt.Errorf("PostgreSQL stores no NUL in text")
	}
	if (t.Kind == schema.Timestamp) && v.Kind != schema.NullValue && !zoned(v.Text) {
		return literal(v.Text + "+00"), nil
	}
	return literal(v.Text), nil
}

// zoned tells whether a moment says its zone: without one it is meant in UTC,
// whatever the session's zone is.
func zoned(s string) bool {
	if len(s) < 11 {
		return false
	}
	rest := s[10:]
	return strings.HasSuffix(s, "Z") || strings.ContainsAny(rest, "+-")
}

// Literal is a declared value as SQL of the type.
func (Engine) Literal(v schema.Value, t schema.Type) (string, error) { return valueSQL(v, t) }

// triggerName is the name of a trigger of ours. Triggers run in the order of their
// names: ours last, so that they see what others made of the row.
func triggerName(t *sqlschema.Table, c *sqlschema.Column, p schema.Purpose) string {
	return schema.Cut("zz_" + schema.ConstraintName(bare(t.Name), []string{c.Name}, string(p)))
}

func stampTrigger(t *sqlschema.Table, c *sqlschema.Column) *sqlschema.Trigger {
	name, x := triggerName(t, c, schema.ForStamped), quote(c.Name)
	text := fmt.Sprintf(
		"CREATE TRIGGER %s BEFORE UPDATE ON %s\n    FOR EACH ROW WHEN (NOT old.%s IS DISTINCT FROM new.%s)\n    EXECUTE FUNCTION erbario_stamped(%s)",
		quote(name), quoteTable(t.Name), x, x, literal(c.Name))
	return &sqlschema.Trigger{Name: name, Column: c.Name, Purpose: schema.ForStamped, SQL: sqlOf(text)}
}

func immutableTrigger(t *sqlschema.Table, c *sqlschema.Column) *sqlschema.Trigger {
	name, x := triggerName(t, c, schema.ForImmutable), quote(c.Name)
	text := fmt.Sprintf(
		"CREATE TRIGGER %s BEFORE UPDATE ON %s\n    FOR EACH ROW WHEN (old.%s IS NOT NULL AND %s IS DISTINCT FROM %s)\n    EXECUTE FUNCTION erbario_immutable(%s)",
		quote(name), quoteTable(t.Name), x, compared(c, "old."+x), compared(c, "new."+x), literal(c.Name))
	return &sqlschema.Trigger{Name: name, Column: c.Name, Purpose: schema.ForImmutable, SQL: sqlOf(text)}
}

// liveView is the view of the rows that are not deleted. It names its columns, so
// that one added by hand does not come into it.
func liveView(name string, t *sqlschema.Table) string {
	var names []string
	for _, c := range t.Columns {
		names = append(names, quote(c.Name))
	}
	return fmt.Sprintf("CREATE VIEW %s AS\nSELECT %s\nFROM %s\nWHERE %s IS NULL", quoteTable(name),
		strings.Join(names, ", "), quoteTable(t.Name), quote(t.SoftDelete))
}

// quietly is the condition that Erbario itself is at work, for whom triggers keep
// still.
const quietly = "coalesce(current_setting('erbario.quiet', true), '') <> ''"

// childrenFunction is the name of the function by which children go with a row.
func childrenFunction(table string) string { return schema.Cut("erbario_children_" + table) }

// childrenTrigger marks the rows that refer to a row as deleted together with it,
// and brings those back that went at the same moment. Their own triggers do the
// same for the rows that refer to them. nil: nothing can be reached.
func childrenTrigger(declared *schema.Schema, t *sqlschema.Table) *sqlschema.Trigger {
	x := quote(t.SoftDelete)
	var body strings.Builder
	body.WriteString("\nBEGIN\n    IF " + quietly + " THEN\n        RETURN NULL;\n    END IF;\n")
	list := schema.Children(declared, t.Declared)
	if len(list) == 0 {
		return nil
	}
	for _, c := range list {
		var on []string
		for i, col := range c.Key.Columns {
			on = append(on, fmt.Sprintf("%s = NEW.%s", quote(col), quote(c.Key.References[i])))
		}
		mark := quote(c.Table.SoftDelete)
		fmt.Fprintf(&body, "    UPDATE %s SET %s = NEW.%s WHERE %s AND %s IS NOT DISTINCT FROM OLD.%s;\n",
			quoteTable(c.Table.Name), mark, x, strings.Join(on, " AND "), mark, x)
	}
	body.WriteString("    RETURN NULL;\nEND\n")
	name := triggerName(t, t.Column(t.SoftDelete), schema.ForChildren)
	trigger := fmt.Sprintf(
		"CREATE TRIGGER %s AFTER UPDATE ON %s\n    FOR EACH ROW WHEN (old.%s IS DISTINCT FROM new.%s)\n    EXECUTE FUNCTION %s()",
		quote(name), quoteTable(t.Name), x, x, quoteTable(childrenFunction(t.Name)))
	return &sqlschema.Trigger{
		Name:    name,
		Column:  t.SoftDelete,
		Purpose: schema.ForChildren,
		SQL:     withFunction(childrenFunction(t.Name), trigger, body.String()),
	}
}

// guardTriggers let no row go permanently that is not marked as deleted, and the table not be
// emptied while there is one; with a role, they keep both, and the marks, for its members.
// Who owns the table could drop them: for Erbario at work in such hands they keep still.
func guardTriggers(t *sqlschema.Table) []*sqlschema.Trigger {
	x := quote(t.SoftDelete)
	var body, all strings.Builder
	still := "\nBEGIN\n    IF " + quietly + " AND pg_has_role(session_user, (SELECT relowner FROM pg_class WHERE oid = TG_RELID), 'USAGE') THEN\n        IF TG_OP = 'DELETE' THEN\n            RETURN OLD;\n        END IF;\n        RETURN NEW;\n    END IF;\n"
	body.WriteString(still)
	member := fmt.Sprintf("pg_has_role(session_user, %s, 'MEMBER')", literal(t.Declared.GuardRole))
	if t.Declared.GuardRole != "" {
		fmt.Fprintf(&body,
			"    IF TG_OP = 'UPDATE' THEN\n        IF OLD.%s IS NOT NULL AND NEW.%s IS NULL AND NOT %s THEN\n            RAISE insufficient_privilege USING MESSAGE = %s;\n        END IF;\n        RETURN NEW;\n    END IF;\n",
			x, x, member, literal(engine.GuardMarkWords(t.Name, t.Declared.GuardRole)))
	}
	fmt.Fprintf(&body,
		"    IF OLD.%s IS NULL THEN\n        RAISE restrict_violation USING MESSAGE = %s;\n    END IF;\n", x,
		literal(engine.GuardWords(t.Name)))
	fmt.Fprintf(&all,
		"\nBEGIN\n    IF EXISTS (SELECT FROM %s WHERE %s IS NULL) THEN\n        RAISE restrict_violation USING MESSAGE = %s;\n    END IF;\n",
		quoteTable(t.Name), x, literal(engine.GuardWords(t.Name)))
	event := "DELETE"
	if t.Declared.GuardRole != "" {
		event = "DELETE OR UPDATE OF " + x
		for _, b := range []*strings.Builder{&body, &all} {
			fmt.Fprintf(b,
				"    IF NOT %s THEN\n        RAISE insufficient_privilege USING MESSAGE = %s;\n    END IF;\n", member,
				literal(engine.GuardRoleWords(t.Name, t.Declared.GuardRole)))
		}
	}
	body.WriteString("    RETURN OLD;\nEND\n")
	all.WriteString("    RETURN NULL;\nEND\n")
	make := func(p schema.Purpose, prefix, when, body string) *sqlschema.Trigger {
		name, function := triggerName(t, t.Column(t.SoftDelete), p), schema.Cut(prefix+t.Name)
		trigger := fmt.Sprintf("CREATE TRIGGER %s %s\n    EXECUTE FUNCTION %s()", quote(name), when,
			quoteTable(function))
		return &sqlschema.Trigger{Name: name, Column: t.SoftDelete, Purpose: p,
			SQL: withFunction(function, trigger, body)}
	}
	return []*sqlschema.Trigger{
		make(schema.ForGuard, "erbario_guard_",
			fmt.Sprintf("BEFORE %s ON %s\n    FOR EACH ROW", event, quoteTable(t.Name)), body.String()),
		make(schema.ForGuardAll, "erbario_guard_all_",
			fmt.Sprintf("BEFORE TRUNCATE ON %s\n    FOR EACH STATEMENT", quoteTable(t.Name)), all.String()),
	}
}

// unguarded are statements that delete rows of a table past its guard.
func unguarded(t *sqlschema.Table, sql ...string) []string {
	if !t.Guarded() {
		return sql
	}
	return quiet(sql)
}

// Unguarded gives statements that delete rows of a table past its guard, for its owner.
func (Engine) Unguarded(t *sqlschema.Table, sql ...string) []string { return unguarded(t, sql...) }

// withFunction is a trigger with the function that stands for it alone: it names
// tables, and so is pinned to where they are. That of a bridge runs with the rights of
// whoever migrates, since the application may have none to what it reads.
func withFunction(function, trigger, body string) sqlschema.SQL {
	rights := ""
	if strings.HasPrefix(function, "erbario_bridge_") {
		rights = "SECURITY DEFINER "
	}
	head := fmt.Sprintf(
		"CREATE FUNCTION %s() RETURNS trigger LANGUAGE plpgsql %sSET search_path FROM CURRENT AS $erbario$%s$erbario$",
		quoteTable(function), rights, body)
	return sqlschema.SQL{Text: head + ";\n" + trigger, Canon: func(text string) string {
		f, g, _ := strings.Cut(text, "$erbario$;\n")
		_, f, _ = strings.Cut(f, "$erbario$")
		return canon(g) + "\n" + strings.Join(strings.Fields(f), " ")
	}}
}

// Trigger gives the statements that make a trigger and those that drop it.
func (Engine) Trigger(t *sqlschema.Table, g *sqlschema.Trigger) (create, drop []string) {
	drop = []string{"DROP TRIGGER " + quote(g.Name) + " ON " + quoteTable(t.Name)}
	if !g.WithFunction() {
		return []string{g.SQL.Make()}, drop
	}
	function, trigger, _ := strings.Cut(g.SQL.Text, "$erbario$;\n")
	name := tokens(function)[2].Name()
	return []string{function + "$erbario$", trigger}, append(drop, "DROP FUNCTION "+quote(name)+"()")
}

// viewKey is the form of a view by which it is compared: what it selects. Where
// it selects from one table, whose name the server puts before every column, that
// is left out.
func viewKey(text string) string {
	list := words(strings.TrimSuffix(strings.TrimSpace(text), ";"))
	for i, w := range list {
		if w == "as" && i < 4 {
			list = list[i+1:]
			break
		}
	}
	froms, table := 0, ""
	for i, w := range list {
		if w == "from" && i+1 < len(list) {
			froms++
			table = list[i+1]
		}
		if w == "join" || w == "union" {
			froms += 2
		}
	}
	if froms == 1 {
		if t := tokens("FROM " + table); len(t) == 2 && t[1].Placed {
			table = quote(bare(t[1].Val))
		}
		var out []string
		for i := 0; i < len(list); i++ {
			if list[i] == table && i+2 < len(list) && list[i+1] == "." {
				i++
				continue
			}
			out = append(out, list[i])
		}
		list = out
	}
	return canon(strings.Join(list, " "))
}
