package mariadb

// This file reads everything that a database holds: each view of the catalogue once,
// whatever the number of tables, joined here; joined by the server they take several
// times as long. SHOW CREATE is asked only for what the catalogue does not tell.

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// reading is one inspection under way.
type reading struct {
	d     *Database
	ctx   context.Context
	s     *sqlschema.Schema
	plain []string // tables that only SHOW CREATE tells whole
	of    map[string]*sqlschema.Table
	texts map[string]string // the collation of each table
	mode  string            // of the session
}

// Inspect reads everything that the database holds.
func (d *Database) Inspect(ctx context.Context) (*sqlschema.Schema, error) {
	r := &reading{d: d, ctx: ctx, s: &sqlschema.Schema{}, of: map[string]*sqlschema.Table{}, texts: map[string]string{}}
	for _, read := range []func() error{r.collation, r.tables, r.columns, r.checks, r.references, r.indexes, r.triggers,
		r.views, r.routines, r.events, r.whole, r.reaches} {
		if err := read(); err != nil {
			return nil, err
		}
	}
	for _, t := range r.s.Tables {
		recognise(t)
		slices.SortFunc(t.Indexes, func(a, b *sqlschema.Index) int { return strings.Compare(a.Name, b.Name) })
		slices.SortFunc(t.Checks, func(a, b *sqlschema.Check) int {
			return strings.Compare(cmp.Or(a.Name, a.Column), cmp.Or(b.Name, b.Column))
		})
	}
	for _, v := range r.s.Views {
		v.LiveOf = liveOf(r.s, v)
	}
	r.s.Sort()
	return r.s, nil
}

// recognise tells what checks, triggers and defaults are for that were made for a
// declaration.
func recognise(t *sqlschema.Table) {
	for _, k := range t.Checks {
		switch k.Purpose {
		case schema.ForSoftDelete:
			t.SoftDelete = k.Column
		case schema.ForChoice, schema.ForRange:
			ddl.ReadCheck(k, t.Column(k.Column), tokens(k.SQL.Text))
		}
	}
	for _, g := range t.Triggers {
		if strings.HasPrefix(g.Name, bridgePrefix) {
			g.Purpose = schema.ForBridge
			continue
		}
		for _, c := range t.Columns {
			for _, p := range []schema.Purpose{schema.ForStamped, schema.ForImmutable, schema.ForChildren,
				schema.ForGuard, schema.ForGuardMark, schema.ForGuardChildren} {
				if triggerName(t, c, p) != g.Name {
					continue
				}
				g.Column, g.Purpose = c.Name, p
				c.Immutable = c.Immutable || p == schema.ForImmutable
				c.Stamped = c.Stamped || p == schema.ForStamped
			}
		}
	}
	for _, c := range t.Columns {
		if c.Default != nil {
			c.Value = knownDefaults()[c.Default.Key()]
		}
	}
}

// knownDefaults are the defaults of the language that are expressions.
var knownDefaults = sync.OnceValue(func() map[string]*schema.Value {
	return map[string]*schema.Value{
		canon(nowSQL): {
			Kind: schema.NowValue,
		}, canon(todaySQL): {Kind: schema.TodayValue}, canon(newUUID): {Kind: schema.UUIDValue},
	}
})

// liveOf is the table whose rows that are not deleted a view shows; "": it shows others.
func liveOf(s *sqlschema.Schema, v *sqlschema.View) string {
	list := tokens(v.SQL.Text)
	n := len(list)
	if n < 9 || !list[n-1].Is("null") || !list[n-2].Is("is") || !list[n-4].Is(".") || !list[n-6].Is("where") ||
		!list[n-8].Is("from") {
		return ""
	}
	t := s.Table(list[n-7].Name())
	if t == nil || t.SoftDelete == "" || t.SoftDelete != list[n-3].Name() {
		return ""
	}
	return t.Name
}

// rows asks the catalogue about this database.
func (r *reading) rows(query string, f func(v []sql.RawBytes)) error {
	return r.d.each(r.ctx, strings.ReplaceAll(query, "{here}", literal(r.d.name)), nil, f)
}

// collation reads the collation of the database, and the mode of the session.
func (r *reading) collation() error {
	rows, err := r.d.Select(r.ctx, "SELECT @@collation_database, @@sql_mode")
	if err == nil {
		r.s.Collation, r.mode = rows[0][0], rows[0][1]
	}
	return err
}

func (r *reading) tables() error {
	return r.rows(
		"SELECT table_name, table_type, engine, table_collation, create_options, table_comment FROM information_schema.tables WHERE table_schema = {here} AND table_type <> 'VIEW' ORDER BY table_name",
		func(v []sql.RawBytes) {
			name, kind, options := string(v[0]), string(v[1]), string(v[4])
			if kind == "SEQUENCE" {
				r.s.Others = append(r.s.Others, &sqlschema.Other{Kind: "sequence", Name: name})
				return
			}
			t := &sqlschema.Table{Name: name, Comment: string(v[5]), Ordered: true}
			collation := string(v[3])
			charset, _, _ := strings.Cut(collation, "_")
			t.Options.Behind = " ENGINE=" + string(v[2]) + " DEFAULT CHARSET=" + charset + " COLLATE=" + collation
			odd := kind == "SYSTEM VERSIONED"
			for _, word := range strings.Fields(options) {
				if word == "partitioned" {
					odd = true
					continue
				}
				t.Options.Behind += " " + strings.ToUpper(word)
			}
			if odd {
				r.plain = append(r.plain, name)
			}
			r.of[name], r.texts[name] = t, collation
			r.s.Tables = append(r.s.Tables, t)
		},
	)
}

func (r *reading) columns() error {
	return r.rows(
		"SELECT table_name, column_name, column_default, is_nullable, column_type, collation_name, extra, column_comment, generation_expression FROM information_schema.columns WHERE table_schema = {here} ORDER BY table_name, ordinal_position",
		func(v []sql.RawBytes) {
			t := r.of[string(v[0])]
			if t == nil { // of a view, or of a sequence
				return
			}
			c := &sqlschema.Column{
				Name:    string(v[1]),
				SQLType: shortType(string(v[4]), r.d.server),
				NotNull: string(v[3]) == "NO",
				Comment: string(v[7]),
			}
			if collation := string(v[5]); collation != r.texts[t.Name] {
				c.Collation = collation
			}
			extra := strings.ToLower(string(v[6]))
			c.Identity = strings.Contains(extra, "auto_increment")
			c.Invisible = strings.Contains(extra, "invisible")
			if _, rest, ok := strings.Cut(extra, "on update "); ok {
				c.OnUpdate, _, _ = strings.Cut(rest, ",")
			}
			if strings.Contains(extra, "virtual generated") || strings.Contains(extra, "stored generated") {
				c.Generated = &sqlschema.Generated{SQL: sqlOf(string(v[8])), Stored: strings.Contains(extra, "stored")}
			} else {
				c.Default = r.d.server.defaultOf(v[2], c.SQLType, strings.Contains(extra, "default_generated"))
				if c.Default != nil {
					*c.Default = sqlOf(ownSequences(c.Default.Text, r.d.name))
				}
			}
			if c.Type = typeOf(c.SQLType); c.Type.Kind == schema.Choice {
				c.Values = c.Type.Choices
			}
			if strings.HasPrefix(c.Name, schema.KeptPrefix) && !schema.Own(t.Name) {
				t.Aside = append(t.Aside, c)
				return
			}
			t.Columns = append(t.Columns, c)
		},
	)
}

// sqlOf is an expression with its way to be compared.
func sqlOf(text string) sqlschema.SQL { return sqlschema.SQL{Text: text, Canon: canon} }

// shortType is a type as the catalogue tells it, without the widths that mean nothing;
// those of years and of numbers that are filled with zeros do.
func shortType(s string, server server) string {
	if !server.displayWidths() || strings.HasSuffix(s, "zerofill") || s == "tinyint(1)" {
		return s
	}
	for _, word := range []string{"tinyint", "smallint", "mediumint", "int", "bigint"} {
		if rest, ok := strings.CutPrefix(s, word+"("); ok {
			if _, more, ok := strings.Cut(rest, ")"); ok {
				return word + more
			}
		}
	}
	return s
}

// defaultOf is the default of a column as the catalogue tells it; nil: none. expression
// tells that it says so itself.
func (s server) defaultOf(v sql.RawBytes, sqlType string, expression bool) *sqlschema.SQL {
	if v == nil || s.expressionDefaults() && string(v) == "NULL" {
		return nil
	}
	text := string(v)
	if !s.expressionDefaults() && !expression && !strings.HasPrefix(text, "b'") {
		switch typeOf(sqlType).Kind {
		case schema.Smallint, schema.Integer, schema.Bigint, schema.Decimal, schema.Real, schema.Double, schema.Boolean:
		default:
			text = literal(text)
		}
	}
	d := sqlOf(text)
	return &d
}

// checks are told by their names; that of a column itself has the column's.
func (r *reading) checks() error {
	query := "SELECT table_name, constraint_name, check_clause, level FROM information_schema.check_constraints WHERE constraint_schema = {here}" // in the order of the table
	if !r.d.server.columnChecks() {
		query = "SELECT t.table_name, c.constraint_name, c.check_clause, 'Table' FROM information_schema.check_constraints c JOIN information_schema.table_constraints t USING (constraint_schema, constraint_name) WHERE c.constraint_schema = {here} AND t.constraint_type = 'CHECK' ORDER BY 1, 2"
	}
	return r.rows(query, func(v []sql.RawBytes) {
		t := r.of[string(v[0])]
		if t == nil {
			return
		}
		k := &sqlschema.Check{Name: string(v[1]), SQL: sqlOf(string(v[2]))}
		if string(v[3]) == "Column" {
			k.Name, k.Column = "", k.Name
			if t.Column(k.Column) == nil || !mentions(k.SQL.Text, k.Column) { // its column has another name since
				for _, c := range t.Columns {
					if mentions(k.SQL.Text, c.Name) {
						k.Column = c.Name
						break
					}
				}
			}
			if c := t.Column(k.Column); c != nil && k.SQL.Key() == canon("json_valid("+quote(c.Name)+")") {
				k.Purpose, c.Type = schema.ForType, schema.Type{Kind: schema.JSON}
			}
		} else if c, purpose := t.MadeFor(k.Name); c != nil && !purpose.OfTrigger() {
			k.Column, k.Purpose = c.Name, purpose
		}
		t.Checks = append(t.Checks, k)
		t.ServerOrder = append(t.ServerOrder, string(v[1]))
	})
}

func (r *reading) references() error {
	type rule struct{ update, delete string }
	rules := map[string]rule{}
	id := func(table, name string) string { return table + "\x00" + name }
	err := r.rows(
		"SELECT table_name, constraint_name, update_rule, delete_rule FROM information_schema.referential_constraints WHERE constraint_schema = {here}",
		func(v []sql.RawBytes) {
			rules[id(string(v[0]), string(v[1]))] = rule{string(v[2]), string(v[3])}
		},
	)
	if err != nil {
		return err
	}
	return r.rows(
		"SELECT table_name, constraint_name, column_name, referenced_table_schema, referenced_table_name, referenced_column_name FROM information_schema.key_column_usage WHERE table_schema = {here} AND referenced_table_name IS NOT NULL ORDER BY table_name, constraint_name, ordinal_position",
		func(v []sql.RawBytes) {
			t := r.of[string(v[0])]
			if t == nil {
				return
			}
			name := string(v[1])
			if n := len(t.ForeignKeys); n == 0 || t.ForeignKeys[n-1].Name != name {
				x := rules[id(t.Name, name)]
				k := &sqlschema.ForeignKey{
					Name:     name,
					Table:    string(v[4]),
					OnUpdate: schema.Action(x.update),
					OnDelete: schema.Action(x.delete),
				}
				if other := string(v[3]); other != r.d.name {
					k.Table = other + "." + k.Table
				}
				t.ForeignKeys = append(t.ForeignKeys, k)
			}
			k := t.ForeignKeys[len(t.ForeignKeys)-1]
			k.Columns, k.References = append(k.Columns, string(v[2])), append(k.References, string(v[5]))
		},
	)
}

// indexes reads the key and the indexes. The one that the server makes for a reference
// by itself belongs to that, and makes no difference.
func (r *reading) indexes() error {
	more, order := "ignored, NULL", "" // in the order of the table
	if r.d.server.mysql {
		more, order = "is_visible, expression", " ORDER BY table_name, index_name, seq_in_index"
	}
	err := r.rows(
		"SELECT table_name, index_name, non_unique, column_name, collation, sub_part, index_type, index_comment, "+more+" FROM information_schema.statistics WHERE table_schema = {here}"+order,
		func(v []sql.RawBytes) {
			t := r.of[string(v[0])]
			if t == nil {
				return
			}
			p := sqlschema.Part{Column: string(v[3]), Desc: string(v[4]) == "D"}
			p.Length, _ = strconv.Atoi(string(v[5]))
			if v[9] != nil {
				e := sqlOf(string(v[9]))
				p.Expr = &e
			}
			name, kind := string(v[1]), string(v[6])
			if name == "PRIMARY" {
				if t.PrimaryKey == nil {
					t.PrimaryKey = &sqlschema.PrimaryKey{Name: name}
				}
				t.PrimaryKey.Columns = append(t.PrimaryKey.Columns, p)
				return
			}
			if n := len(t.Indexes); n == 0 || t.Indexes[n-1].Name != name {
				x := &sqlschema.Index{Name: name, Unique: string(v[2]) == "0"}
				switch kind {
				case "FULLTEXT", "SPATIAL":
					x.Using = strings.ToLower(kind)
				case "HASH":
					x.Options = " USING HASH"
				}
				if x.Using == "spatial" {
					p.Length = 0 // how much of a place it keeps is not for anyone to say
				}
				x.Options += commentOf(string(v[7]))
				if word := string(v[8]); word == "YES" && !r.d.server.mysql || word == "NO" && r.d.server.mysql {
					x.Options += " " + r.d.server.ignored()
				}
				t.Indexes = append(t.Indexes, x)
				t.ServerOrder = append(t.ServerOrder, name)
			}
			x := t.Indexes[len(t.Indexes)-1]
			x.Parts = append(x.Parts, p)
		},
	)
	for _, t := range r.s.Tables {
		t.Indexes = slices.DeleteFunc(t.Indexes, func(x *sqlschema.Index) bool {
			i := slices.IndexFunc(t.ForeignKeys, func(k *sqlschema.ForeignKey) bool {
				return k.Name == x.Name && slices.Equal(sqlschema.Names(x.Parts), k.Columns)
			})
			if x.Unique || x.Options != "" || i < 0 {
				return false
			}
			t.ForeignKeys[i].OwnIndex = true
			return true
		})
	}
	return err
}

// triggers reads them where the server has taken a backslash out of every pair, once more
// from what makes them.
func (r *reading) triggers() error {
	type trigger struct {
		*sqlschema.Trigger
		head string
	}
	var again []trigger
	err := r.rows(
		"SELECT event_object_table, trigger_name, action_timing, event_manipulation, action_statement, sql_mode FROM information_schema.triggers WHERE trigger_schema = {here} ORDER BY event_object_table, event_manipulation, action_timing, action_order",
		func(v []sql.RawBytes) {
			t := r.of[string(v[0])]
			if t == nil {
				return
			}
			g := &sqlschema.Trigger{Name: string(v[1])}
			if mode := string(v[5]); mode != r.mode {
				g.Mode = mode
			}
			head := fmt.Sprintf("CREATE TRIGGER %s %s %s ON %s FOR EACH ROW ", quote(g.Name), v[2], v[3], quote(t.Name))
			g.SQL = sqlOf(head + string(v[4]))
			t.Triggers = append(t.Triggers, g)
			if strings.Contains(string(v[4]), `\`) {
				again = append(again, trigger{g, head})
			}
		},
	)
	if err != nil {
		return err
	}
	for _, g := range again {
		rows, err := r.d.Select(r.ctx, "SHOW CREATE TRIGGER "+quote(g.Name))
		if err != nil {
			return err
		}
		g.SQL = sqlOf(g.head + triggerBody(rows[0][2]))
	}
	return nil
}

// triggerBody is what a trigger does, from the statement that makes it.
func triggerBody(text string) string {
	list := tokens(text)
	for i := 0; i+2 < len(list); i++ {
		if list[i].Is("FOR") && list[i+1].Is("EACH") && list[i+2].Is("ROW") {
			if at := i + 3; at+2 < len(list) && (list[at].Is("FOLLOWS") || list[at].Is("PRECEDES")) {
				i += 2
			}
			return text[list[i+3].Start:]
		}
	}
	return text
}

// views are told with the database before every name: it goes, or a copy on scratch
// would read the live one.
func (r *reading) views() error {
	return r.rows(
		"SELECT table_name, view_definition, check_option, security_type FROM information_schema.views WHERE table_schema = {here} ORDER BY table_name",
		func(v []sql.RawBytes) {
			text, ok := unqualified(string(v[1]), r.d.name)
			if !ok {
				r.s.Others = append(r.s.Others, &sqlschema.Other{Kind: sqlschema.OtherView, Name: string(v[0])})
				return
			}
			text = fmt.Sprintf("CREATE SQL SECURITY %s VIEW %s AS %s", v[3], quote(string(v[0])), text)
			if option := string(v[2]); option != "NONE" {
				text += " WITH " + option + " CHECK OPTION"
			}
			r.s.Views = append(r.s.Views,
				&sqlschema.View{Name: string(v[0]), SQL: sqlschema.SQL{Text: text, Canon: viewKey}})
		},
	)
}

// viewKey is the form of a view by which it is compared: the server puts brackets around
// what is joined once it has read its own words.
func viewKey(text string) string {
	words := canonWords(text)
	for i := 0; i+1 < len(words); i++ {
		if words[i] != "from" || words[i+1] != "(" || i+2 < len(words) && words[i+2] == "select" {
			continue
		}
		depth := 0
		for j := i + 1; j < len(words); j++ {
			switch words[j] {
			case "(":
				depth++
			case ")":
				depth--
			}
			if depth == 0 {
				words = slices.Concat(words[:i+1], words[i+2:j], words[j+1:])
				i--
				break
			}
		}
	}
	return strings.Join(words, " ")
}

// routines are functions and procedures, which stand before tables that use them.
func (r *reading) routines() error {
	type routine struct{ name, kind string }
	var list []routine
	err := r.rows(
		"SELECT routine_name, routine_type FROM information_schema.routines WHERE routine_schema = {here} ORDER BY routine_type, routine_name",
		func(v []sql.RawBytes) {
			list = append(list, routine{string(v[0]), string(v[1])})
		},
	)
	if err != nil {
		return err
	}
	for _, f := range list {
		o := &sqlschema.Other{Kind: strings.ToLower(f.kind), Name: f.name}
		rows, err := r.d.Select(r.ctx, "SHOW CREATE "+f.kind+" "+quote(f.name))
		if err != nil {
			return err
		}
		if text := rows[0][2]; text != "" { // else one may not see it
			o.Make = []string{inMode(undefined(text), rows[0][1], r.mode)}
		}
		r.s.Others = append(r.s.Others, o)
	}
	return nil
}

// events are what runs by itself. Those of a copy on scratch never do.
func (r *reading) events() error {
	var names []string
	err := r.rows("SELECT event_name FROM information_schema.events WHERE event_schema = {here} ORDER BY event_name",
		func(v []sql.RawBytes) { names = append(names, string(v[0])) })
	if err != nil {
		return err
	}
	for _, name := range names {
		e, err := r.d.showEvent(r.ctx, name)
		if err != nil {
			return err
		}
		o := &sqlschema.Other{Kind: "event", Name: name}
		if e.sql != "" { // else one may not see it
			o.Make = []string{e.within(undefined(e.sql), r.mode)}
		}
		r.s.Others = append(r.s.Others, o)
	}
	return nil
}

// undefined is the statement that makes a routine without the one who defined it: whoever
// makes it does.
func undefined(text string) string {
	list := tokens(text)
	if len(list) > 6 && list[1].Is("DEFINER") {
		for i, t := range list[2:] {
			if t.Is("FUNCTION") || t.Is("PROCEDURE") || t.Is("AGGREGATE") || t.Is("TRIGGER") {
				return "CREATE " + text[list[i+2].Start:]
			}
		}
	}
	return text
}

// whole reads what only SHOW CREATE tells: partitions, histories of rows, sequences.
func (r *reading) whole() error {
	for _, name := range r.plain {
		rows, err := r.d.Select(r.ctx, "SHOW CREATE TABLE "+quote(name))
		if err != nil {
			return err
		}
		t := r.of[name]
		t.Text = rows[0][1]
		if i := strings.LastIndex(t.Text, " PARTITION BY "); i >= 0 {
			t.Options.Behind += t.Text[i:]
		}
		if strings.Contains(t.Text, "WITH SYSTEM VERSIONING") {
			t.Options.Behind += " WITH SYSTEM VERSIONING"
		}
	}
	for _, o := range r.s.Others {
		if o.Kind != "sequence" {
			continue
		}
		rows, err := r.d.Select(r.ctx, "SHOW CREATE SEQUENCE "+quote(o.Name))
		if err != nil {
			return err
		}
		o.Make = []string{rows[0][1]}
	}
	return nil
}
