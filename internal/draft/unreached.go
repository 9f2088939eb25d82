package draft

// This file drafts for an engine of which no server can be reached. What its migrations
// make cannot be looked at then; it is worked out from what the models declare now and
// from the changes that the draft on another engine's database found: whatever that one
// changes, this one changes too. Nobody has proved such a draft. erbario prove --all does
// it later, and tells where the way back, or the end, is not as the models declare.

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/rows"
	"erbario/internal/runner"
	"erbario/internal/schema"
)

// Unreached is how an engine stands of which no server can be reached. declared is what
// the models declare for it, and changes lead to that on home, from where this one
// stands too.
func (home *State) Unreached(e engine.Engine, declared *schema.Schema, changes []diff.Change,
	files []*migration.Migration) (*State, error) {
	before := &schema.Schema{}
	if len(files) > 0 {
		var err error
		if before, err = (&earlier{engine: e, home: home.Engine, out: declared.Clone(), files: files}).without(changes); err != nil {
			return nil, err
		}
		for _, t := range before.Tables { // what went stood where it stands there, and children go along if they do there
			there := home.Upcoming.Table(t.Name)
			if there == nil {
				continue
			}
			at := func(c *schema.Column) int {
				return slices.IndexFunc(there.Columns,
					func(o *schema.Column) bool { return strings.EqualFold(o.Name, c.Name) })
			}
			slices.SortStableFunc(t.Columns, func(a, b *schema.Column) int { return at(a) - at(b) })
			t.Children = slices.ContainsFunc(there.Triggers,
				func(g *schema.Trigger) bool { return g.Purpose == schema.ForChildren })
			if t.Guard = slices.ContainsFunc(there.Triggers, func(g *schema.Trigger) bool { return g.Purpose == schema.ForGuard }); !t.Guard {
				t.GuardRole = ""
			}
		}
	}
	s := &State{Engine: e, unreached: true, home: home, Status: runner.StatusOf(files, nil, e)}
	s.Wanted, _ = e.DDL().Lower(declared)
	s.Live, _ = e.DDL().Lower(before)
	for _, c := range changes { // names that followed a renamed table or column
		t, k, old := s.Live.Table(c.Table), (*schema.Check)(nil), (*schema.Check)(nil)
		if c.Kind == diff.ChangeCheck {
			k, old = c.Object.(*schema.Check), c.Before.(*schema.Check)
		}
		if t == nil || k == nil || old.Name == "" {
			continue
		}
		for _, o := range t.Checks {
			if o.Name == k.Name {
				o.Name = old.Name
			}
		}
	}
	s.Upcoming, s.made = s.Live, s.Live
	s.refer = unreachedRows(e, s.Wanted, s.Live, changes, files)
	return s, nil
}

// unreachedRows are the reference rows as the engine's own migrations say that they are.
func unreachedRows(e engine.Engine, wanted, before *schema.Schema, changes []diff.Change,
	files []*migration.Migration) []plan.TableRows {
	line := migration.RowsOf(files, e)
	var out []plan.TableRows
	for _, t := range wanted.Tables {
		var known []string
		if at := line[strings.ToLower(t.Name)]; at != nil && rows.Has(t, at.By) &&
			(t.Rows == nil || slices.Equal(t.Rows.KeyParts(), at.By)) {
			known = at.Keys
		}
		if t.Outside || t.Rows == nil && len(known) == 0 {
			continue
		}
		r := plan.TableRows{Table: t.Name}
		if t.Rows == nil {
			r.By = line[strings.ToLower(t.Name)].By
		} else {
			r.By = t.Rows.KeyParts()
			there := before.Table(t.Name)
			for n := range t.Rows.Values {
				key := t.Rows.Key(n)
				row := rows.Row{Key: key, Declared: true, There: slices.Contains(known, key)}
				for _, c := range t.Rows.Columns {
					same := row.There && there != nil && there.Column(c) != nil && !slices.ContainsFunc(changes, func(x diff.Change) bool {
						col, ok := x.Object.(*schema.Column)
						return ok && x.Kind == diff.ChangeRow && x.Table == t.Name && x.Name == key && col.Name == c
					})
					row.Cells = append(row.Cells, rows.Cell{Column: c, Same: same})
				}
				r.Line = append(r.Line, row)
			}
		}
		for _, key := range known {
			if !slices.ContainsFunc(r.Line, func(o rows.Row) bool { return o.Key == key }) {
				r.Line = append(r.Line, rows.Row{Key: key, There: true})
			}
		}
		r.Here = r.Line
		out = append(out, r)
	}
	return out
}

// planUnreached plans without a database: there are no rows to ask.
func (s *State) planUnreached(id string, r Request) (*plan.Plan, error) {
	in := plan.Input{
		Engine:  s.Engine,
		Kept:    migration.KeptNames(id, r.Form),
		Live:    s.Live,
		Wanted:  s.Wanted,
		Made:    s.made,
		Answers: r.Answers,
		NoKeep:  r.NoKeep,
		Lenient: true,
	}
	in.Rows = s.refer
	in.Answers.Fill = map[string]plan.Fill{}
	for key, f := range r.Answers.Fill {
		table, column, _ := strings.Cut(key, ".")
		if table = s.table(table); !f.Literal {
			f.SQL = s.inBraces(table, f.SQL)
		}
		in.Answers.Fill[table+"."+s.column(table, column)] = f
	}
	there, err := s.home.names(r.Answers, true)
	if err != nil {
		return nil, err
	}
	if there.Rename, err = s.enumNames(there.Rename); err != nil {
		return nil, err
	}
	in.Answers.Rename, in.Answers.Drop = nil, there.Drop
	for _, n := range there.Rename { // what is there has the new names already
		if t := s.Wanted.Table(n.Table); n.Column != "" && n.Value == "" && t != nil && t.LiveView != "" {
			return nil, fmt.Errorf("%s has a view, whose columns must be checked", t.Name)
		}
		in.Answers.Rename = append(in.Answers.Rename, n)
		step, ok := plan.EnumRename(s.Engine, in.Live, n, there.Rename)
		if !ok {
			continue
		}
		if in.EnumRenames == nil {
			in.EnumRenames, in.Live = map[plan.Rename]engine.Step{}, in.Live.Clone()
		}
		in.EnumRenames[n] = step
		renameEnumValue(in.Live, in.Live.Table(n.Table).Column(n.Column), n)
	}
	for _, o := range s.Wanted.Others { // an enum type that has to be made again is set apart
		if old := in.Live.Enum(o.Name); o.Kind == schema.EnumType && old != nil &&
			!plan.OnlyAdded(old.Values, o.Values) {
			in.Live = in.Live.Clone()
			setEnumApart(s.Engine, in.Live, o.Name)
		}
	}
	if s.InUse {
		in.InUse = func(table string) bool {
			return !slices.ContainsFunc(r.Plain, func(n string) bool { return strings.EqualFold(n, table) })
		}
	}
	return plan.Make(in)
}

// setEnumApart gives an enum type the name under which it waits to be dropped.
func setEnumApart(e engine.Engine, s *schema.Schema, name string) {
	for _, t := range s.Tables {
		for _, c := range t.Columns {
			if c.Values != nil && c.SQLType == e.SQL().Quote(name) {
				c.SQLType = e.SQL().Quote(plan.Apart(name))
			}
		}
	}
	s.Others = slices.Clone(s.Others)
	for i, o := range s.Others {
		if o.Kind == schema.EnumType && o.Name == name {
			now := *o
			now.Name = plan.Apart(name)
			s.Others[i] = &now
		}
	}
}

// renameEnumValue gives a value of an enum type, and of all its columns, another name.
func renameEnumValue(s *schema.Schema, of *schema.Column, n plan.Rename) {
	renamed := func(list []string) []string {
		list = slices.Clone(list)
		if i := slices.Index(list, n.Value); i >= 0 {
			list[i] = n.To
		}
		return list
	}
	sqlType, values := of.SQLType, of.Values
	for _, t := range s.Tables {
		for _, c := range t.Columns {
			if c.SQLType == sqlType {
				c.Values, c.Type.Choices = renamed(c.Values), renamed(c.Type.Choices)
			}
		}
	}
	s.Others = slices.Clone(s.Others)
	for i, o := range s.Others {
		if o.Kind == schema.EnumType && slices.Equal(o.Values, values) {
			now := *o
			now.Values = renamed(o.Values)
			s.Others[i] = &now
		}
	}
}

// earlier takes changes out of what is declared: what was declared before them. Of what
// was there before, another engine's words are all that is known; values, and names by
// the rules, are read from them.
type earlier struct {
	engine engine.Engine
	home   engine.Engine // whose words they are
	out    *schema.Schema
	files  []*migration.Migration // of engine
}

// enum is the enum type that the files gave a column last, where that is one.
func (w *earlier) enum(table, column string) string {
	if name, made := w.typeIn(table, column); made {
		return name
	}
	return ""
}

// typeIn is the name of the type that the files gave a column last, empty where they do not
// tell, and whether they made a type of that name.
func (w *earlier) typeIn(table, column string) (string, bool) {
	if !w.engine.Caps().Enums {
		return "", false
	}
	x := regexp.QuoteMeta(w.engine.SQL().Quote(column))
	words := regexp.MustCompile(
		`(?m)(?:^    ` + x + ` |ADD COLUMN ` + x + ` |ALTER COLUMN ` + x + ` TYPE )(\w+|"[^"]+")`,
	)
	name, made := "", map[string]bool{}
	for _, m := range w.files {
		for _, sql := range m.SQL(false) {
			tables := sqltext.Touches(w.engine.SQL().Lex(sql),
				nil).Tables // the first is the one that the statement makes or changes
			if list := words.FindAllStringSubmatch(sql, -1); list != nil && len(tables) > 0 && tables[0] == table {
				name = strings.Trim(list[len(list)-1][1], `"`)
			}
			for _, word := range strings.Fields(sql) {
				word = strings.Trim(word, `"`)
				begin, _, _ := strings.Cut(engine.EnumsOf(w.engine).Make(word, []string{"x"})[0], "'")
				made[word] = made[word] || strings.HasPrefix(sql, begin)
			}
		}
	}
	return name, made[name]
}

func (w *earlier) without(changes []diff.Change) (*schema.Schema, error) {
	rank := func(c diff.Change) int { // tables first, and what shows them last
		switch c.Object.(type) {
		case *schema.View:
			return 2
		case *schema.Table:
			return 0
		}
		return 1
	}
	changes = slices.Clone(changes)
	slices.SortStableFunc(changes, func(a, b diff.Change) int { return rank(a) - rank(b) })
	for _, c := range changes {
		if !w.takeOut(c) {
			return nil, fmt.Errorf("%s cannot be calculated: %s", c.Target(), cmp.Or(c.What, string(c.Kind)))
		}
	}
	for _, t := range w.out.Tables { // a choice that becomes an enum type is none for an engine without any
		for _, c := range t.Columns {
			if c.Type.Enum == "" {
				continue
			}
			if name, made := w.typeIn(t.Name, c.Name); name != "" && !made {
				c.Type.Enum = ""
			}
		}
	}
	return w.out, nil
}

// takeOut takes one change out; false: that is not known.
func (w *earlier) takeOut(c diff.Change) bool {
	if v, ok := c.Object.(*schema.View); ok {
		t := w.out.Table(v.LiveOf)
		switch {
		case v.LiveOf == "":
			return false
		case t != nil && c.Kind == diff.AddView:
			t.LiveView = ""
		case t != nil && c.Kind == diff.DropView:
			t.LiveView = v.Name
		}
		return true
	}
	switch c.Kind {
	case diff.AddTable:
		w.out.Tables = slices.DeleteFunc(w.out.Tables,
			func(o *schema.Table) bool { return strings.EqualFold(o.Name, c.Table) })
		return true
	case diff.DropTable:
		return w.putTable(c.Object.(*schema.Table))
	case diff.AddRow, diff.ChangeRow, diff.DropRow: // told by the files
		return true
	}
	t := w.out.Table(c.Table)
	if t == nil {
		return false
	}
	switch object := c.Object.(type) {
	case *schema.Column:
		before, _ := c.Before.(*schema.Column)
		return w.column(t, c.Kind, object, before)
	case *schema.Index:
		switch c.Kind {
		case diff.AddIndex, diff.AddUnique:
			t.Indexes = slices.DeleteFunc(t.Indexes, func(o *schema.Index) bool { return strings.EqualFold(o.Name, object.Name) })
		case diff.DropIndex, diff.DropUnique:
			t.Indexes = append(t.Indexes, declaredIndex(object))
		default:
			for i, x := range t.Indexes {
				if strings.EqualFold(x.Name, object.Name) {
					t.Indexes[i] = declaredIndex(c.Before.(*schema.Index))
				}
			}
		}
		return true
	case *schema.ForeignKey:
		others := func(o *schema.ForeignKey) bool { return slices.EqualFunc(o.Columns, object.Columns, strings.EqualFold) }
		if c.Kind != diff.DropReference {
			t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys, others)
		}
		switch c.Kind {
		case diff.DropReference:
			t.ForeignKeys = append(t.ForeignKeys, declaredReference(t.Name, object))
		case diff.ChangeRef:
			t.ForeignKeys = append(t.ForeignKeys, declaredReference(t.Name, c.Before.(*schema.ForeignKey)))
		}
		return true
	case *schema.Check:
		before, _ := c.Before.(*schema.Check)
		return w.check(t, c.Kind, object, before)
	case *schema.Trigger:
		return trigger(t, object, c.Kind != diff.AddTrigger)
	case *schema.Table:
		switch c.Kind {
		case diff.AddComment:
			t.Comment = ""
			return true
		case diff.ChangeComment, diff.DropComment:
			t.Comment = c.From
			return true
		}
	}
	return false
}

// putTable declares a table again that is no longer declared.
func (w *earlier) putTable(old *schema.Table) bool {
	if old.Options.Virtual != "" || len(old.Others) > 0 {
		return false
	}
	t := &schema.Table{Name: old.Name, PrimaryKey: old.PrimaryKey, Comment: old.Comment}
	w.out.Tables = append(w.out.Tables, t)
	if t.PrimaryKey != nil {
		key := *t.PrimaryKey
		key.Autoincrement, key.Conflict, t.PrimaryKey = false, "", &key
	}
	ok := true
	for _, c := range old.Columns {
		ok = ok && w.column(t, diff.DropColumn, c, nil)
	}
	for _, x := range old.Indexes {
		t.Indexes = append(t.Indexes, declaredIndex(x))
	}
	for _, k := range old.ForeignKeys {
		t.ForeignKeys = append(t.ForeignKeys, declaredReference(t.Name, k))
	}
	for _, k := range old.Checks {
		ok = ok && w.check(t, diff.DropCheck, k, nil)
	}
	for _, g := range old.Triggers {
		ok = ok && trigger(t, g, true)
	}
	return ok
}

// column takes a change of a column out.
func (w *earlier) column(t *schema.Table, kind diff.Kind, c, before *schema.Column) bool {
	col := t.Column(c.Name)
	if kind == diff.DropColumn {
		if c.Type.Kind == schema.Native || c.Generated != nil {
			return false
		}
		o := *c
		o.Default, o.Collation = nil, ""
		o.Value = w.value(c.Default, c.Type)
		if c.Identity {
			o.Type = schema.Type{Kind: schema.Bigint}
		}
		t.Columns = append(t.Columns, &o)
		return true
	}
	if col == nil {
		return false
	}
	switch kind {
	case diff.AddColumn:
		takeColumn(t, col.Name)
	case diff.MakeRequired:
		col.NotNull = false
	case diff.MakeOptional:
		col.NotNull = true
	case diff.ChangeType:
		if before.Type.Kind == schema.Native {
			return false
		}
		col.Type = before.Type
	case diff.ChangeDefault:
		col.Value = w.value(before.Default, before.Type)
	case diff.AddComment:
		col.Comment = ""
	case diff.ChangeComment, diff.DropComment:
		col.Comment = cmp.Or(before, c).Comment
	default:
		return false
	}
	return true
}

// value reads a default in the words of the engine that it is of.
func (w *earlier) value(def *schema.SQL, t schema.Type) *schema.Value {
	if def == nil {
		return nil
	}
	text := strings.TrimSpace(def.Text)
	plain := text
	if in, ok := strings.CutPrefix(text, "'"); ok {
		plain = strings.ReplaceAll(strings.TrimSuffix(in, "'"), "''", "'")
	}
	list := []schema.Value{
		{Kind: schema.NowValue},
		{Kind: schema.TodayValue},
		{Kind: schema.UUIDValue},
		{Kind: schema.BooleanValue, Text: "true"},
		{Kind: schema.BooleanValue, Text: "false"},
	}
	for _, v := range append(list, schema.Value{Kind: schema.NumberValue, Text: text}, schema.Value{Kind: schema.NumberValue, Text: strings.TrimRight(strings.TrimRight(plain, "0"), ".")}, schema.Value{Kind: schema.TextValue, Text: plain}) {
		if v.Kind == schema.BooleanValue && t.Kind != schema.Boolean ||
			v.Kind == schema.NumberValue && !t.Kind.Number() {
			continue
		}
		sql, err := w.home.SQL().Literal(v, t)
		if err == nil && (sql == text || sql == "("+text+")") {
			return &v
		}
	}
	return &schema.Value{Kind: schema.SQLValue, Text: strings.TrimSuffix(strings.TrimPrefix(text, "("), ")")}
}

// declaredIndex is an index as a model would declare it.
func declaredIndex(x *schema.Index) *schema.Index {
	o := *x
	o.Constraint, o.Conflict, o.Parts = false, "", slices.Clone(x.Parts)
	for i, p := range o.Parts {
		switch {
		case strings.EqualFold(p.Collation, "nocase"):
			o.Parts[i].Collation = "ignoring case"
		case strings.EqualFold(p.Collation, "binary"):
			o.Parts[i].Collation = ""
		}
	}
	return &o
}

// declaredReference is a reference with the name that it has by the rules.
func declaredReference(table string, k *schema.ForeignKey) *schema.ForeignKey {
	o := *k
	o.Name = cmp.Or(k.Name, schema.ConstraintName(table, k.Columns, "fkey"))
	return &o
}

// takeColumn takes a column out of a declared table, with what stands on it.
func takeColumn(t *schema.Table, name string) {
	t.Columns = slices.DeleteFunc(t.Columns, func(o *schema.Column) bool { return o.Name == name })
	on := func(parts []schema.Part) bool { return slices.Contains(schema.Names(parts), name) }
	t.Indexes = slices.DeleteFunc(t.Indexes, func(x *schema.Index) bool { return on(x.Parts) })
	t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys,
		func(k *schema.ForeignKey) bool { return slices.Contains(k.Columns, name) })
	if t.SoftDelete == name {
		t.SoftDelete, t.LiveView, t.Children = "", "", false
	}
}

// check takes a change of a check out, where its field, its type or a line of the model
// says it.
func (w *earlier) check(t *schema.Table, kind diff.Kind, k, before *schema.Check) bool {
	c := t.Column(k.Column)
	was := before // what was there, if anything
	if kind == diff.DropCheck {
		was = k
	}
	again := func() { // a check as the other engine had it, under its name
		o := *was
		o.Conflict = ""
		t.Checks = append(t.Checks, &o)
	}
	switch {
	case k.Purpose == schema.ForType:
	case k.Purpose == schema.ForSoftDelete:
		if kind == diff.DropCheck {
			t.SoftDelete = k.Column
		}
	case k.Purpose != "" && k.Purpose != schema.ForCheck && c == nil: // of a column that came with it
	case k.Purpose == schema.ForNonblank:
		c.Nonblank = was != nil
	case k.Purpose == schema.ForRange:
		if c.Range = nil; was != nil {
			again()
		}
	case k.Purpose == schema.ForChoice:
		if was != nil {
			c.Type = schema.Type{Kind: schema.Choice, Choices: diff.Choices(was), Enum: w.enum(t.Name, c.Name)}
		} else if c.Type.Kind == schema.Choice { // a text, of whose type nothing else changed
			c.Type = schema.Type{Kind: schema.Text}
		}
	default:
		n := len(t.Checks)
		if kind != diff.DropCheck {
			t.Checks = slices.DeleteFunc(t.Checks,
				func(o *schema.Check) bool { return o.Name == k.Name && k.Name != "" })
			if len(t.Checks) == n && (c != nil || k.Column == "") {
				return false
			}
		}
		if was != nil {
			again()
		}
	}
	return true
}

// trigger takes a trigger of ours out that came, or puts one in that went or changed.
func trigger(t *schema.Table, g *schema.Trigger, was bool) bool {
	c := t.Column(g.Column)
	switch g.Purpose {
	case schema.ForChildren,
		schema.ForGuard,
		schema.ForGuardMark,
		schema.ForGuardAll,
		schema.ForGuardChildren: // the other engine's table tells
	case schema.ForImmutable:
		if c != nil { // else it came with its column
			c.Immutable = was
		}
	case schema.ForStamped:
		if c != nil {
			if c.Stamped = was; was {
				c.Value = nil
			}
		}
	default:
		return false
	}
	return true
}
