package draft

// This file drafts for an engine of which no server can be reached. What its migrations
// make cannot be looked at then; it is worked out from what the models declare now and
// from the changes that the draft on another engine's database found: whatever that one
// changes, this one changes too. Nobody has proved such a draft. erbario prove --all does
// it later, and tells where the way back, or the end, is not as the models declare.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/plan"
	"erbario/internal/rows"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Unreached is how an engine stands of which no server can be reached. declared is what
// the models declare for it, and changes lead to that on home, from where this one
// stands too.
func (home *State) Unreached(e runner.Engine, declared *schema.Schema, changes []diff.Change,
	files []*migration.Migration) (*State, error) {
	if at := slices.IndexFunc(declared.Tables, func(t *schema.Table) bool { return t.Schema != "" }); at >= 0 {
		return nil, fmt.Errorf("%s lies in a schema of its own, and its changes are found in a database alone",
			declared.Tables[at].Name)
	}
	for _, m := range files {
		if len(m.Schemas) > 0 {
			return nil, fmt.Errorf("%s has tables in schemas of their own, whose changes are found in a database alone",
				m.ID)
		}
	}
	declared, changes = home.modelsAlone(declared, changes)
	before := &schema.Schema{}
	if len(files) > 0 {
		var err error
		if before, err = (&earlier{engine: e, home: home.Engine, out: declared.Clone(), files: files}).without(
			changes); err != nil {
			return nil, err
		}
		for _, t := range before.Tables { // what went stood where it stands there, and children go along if they do there
			there := home.Upcoming.Table(t.Name)
			if there == nil {
				continue
			}
			at := func(c *schema.Column) int {
				return slices.IndexFunc(there.Columns,
					func(o *sqlschema.Column) bool { return strings.EqualFold(o.Name, c.Name) })
			}
			slices.SortStableFunc(t.Columns, func(a, b *schema.Column) int { return at(a) - at(b) })
			t.Children = slices.ContainsFunc(there.Triggers,
				func(g *sqlschema.Trigger) bool { return g.Purpose == schema.ForChildren })
			if t.Guard = slices.ContainsFunc(there.Triggers,
				func(g *sqlschema.Trigger) bool { return g.Purpose == schema.ForGuard }); !t.Guard {
				t.GuardRole = ""
			}
		}
	}
	s := &State{Engine: e, unreached: true, home: home, Status: runner.StatusOf(files, nil, e)}
	s.Wanted, _ = e.DDL().Lower(declared)
	s.Live, _ = e.DDL().Lower(before)
	for _, c := range changes { // names that followed a renamed table or column
		t, k, old := s.Live.Table(c.Table), (*sqlschema.Check)(nil), (*sqlschema.Check)(nil)
		if c.Kind == diff.ChangeCheck {
			k, old = c.Object.(*sqlschema.Check), c.Before.(*sqlschema.Check)
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

// modelsAlone leaves out the tables that are declared in SQL, which only a server of the engine could make, with
// the references to them and the changes of them.
func (home *State) modelsAlone(declared *schema.Schema, changes []diff.Change) (*schema.Schema, []diff.Change) {
	inSQL := map[string]bool{}
	for _, t := range declared.Tables {
		inSQL[strings.ToLower(t.Name)] = t.InSQL
	}
	for _, o := range home.Wanted.Objects {
		if objects.IsTable(o) {
			inSQL[strings.ToLower(o.Name)] = true
		}
	}
	if line, err := home.line(); err == nil { // those that go
		for key := range migration.ObjectsOf(line, home.Engine) {
			if key.Kind == "table" && declared.Table(key.Name) == nil {
				inSQL[strings.ToLower(key.Name)] = true
			}
		}
	}
	out := declared.Clone()
	out.Tables = slices.DeleteFunc(out.Tables, func(t *schema.Table) bool { return t.InSQL })
	for _, t := range out.Tables {
		t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys,
			func(k *schema.ForeignKey) bool { return inSQL[strings.ToLower(k.Table)] })
	}
	return out, slices.DeleteFunc(ofTables(changes), func(c diff.Change) bool {
		k, refers := c.Object.(*sqlschema.ForeignKey)
		return inSQL[strings.ToLower(c.Table)] || refers && inSQL[strings.ToLower(k.Table)]
	})
}

// unreachedRows are the reference rows as the engine's own migrations say that they are.
func unreachedRows(e runner.Engine, wanted, before *sqlschema.Schema, changes []diff.Change,
	files []*migration.Migration) []plan.TableRows {
	line := migration.RowsOf(files, e)
	var out []plan.TableRows
	for _, t := range wanted.Tables {
		var known []string
		if at := line[strings.ToLower(t.Name)]; at != nil && rows.Has(t, at.By) &&
			(t.Rows() == nil || slices.Equal(t.Rows().KeyParts(), at.By)) {
			known = at.Keys
		}
		if t.Elsewhere() || t.Rows() == nil && len(known) == 0 {
			continue
		}
		r := plan.TableRows{Table: t.Name}
		if t.Rows() == nil {
			r.By = line[strings.ToLower(t.Name)].By
		} else {
			r.By = t.Rows().KeyParts()
			there := before.Table(t.Name)
			for n := range t.Rows().Values {
				key := t.Rows().Key(n)
				row := rows.Row{Key: key, Declared: true, There: slices.Contains(known, key)}
				for _, c := range t.Rows().Columns {
					same := row.There && there != nil && there.Column(c) != nil &&
						!slices.ContainsFunc(changes, func(x diff.Change) bool {
							col, ok := x.Object.(*sqlschema.Column)
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
		table, column, _ := s.cut(key)
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
		t := s.Wanted.Table(n.Table)
		if n.Column != "" && n.Value == "" && t != nil && t.Declared != nil && t.Declared.LiveView != "" {
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
		if old := in.Live.Enum(o.Name); o.Kind == sqlschema.EnumType && old != nil &&
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
func setEnumApart(e runner.Engine, s *sqlschema.Schema, name string) {
	for _, t := range s.Tables {
		for _, c := range t.Columns {
			if c.Values != nil && c.SQLType == e.SQL().QuoteTable(name) {
				c.SQLType = e.SQL().QuoteTable(schema.Apart(name))
			}
		}
	}
	s.Others = slices.Clone(s.Others)
	for i, o := range s.Others {
		if o.Kind == sqlschema.EnumType && o.Name == name {
			now := *o
			now.Name = schema.Apart(name)
			s.Others[i] = &now
		}
	}
}

// renameEnumValue gives a value of an enum type, and of all its columns, another name.
func renameEnumValue(s *sqlschema.Schema, of *sqlschema.Column, n plan.Rename) {
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
		if o.Kind == sqlschema.EnumType && slices.Equal(o.Values, values) {
			now := *o
			now.Values = renamed(o.Values)
			s.Others[i] = &now
		}
	}
}
