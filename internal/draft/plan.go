package draft

// This file plans with what the state knows: renames are tried on scratch, and rows are asked about.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/plan"
	"erbario/internal/proof"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// plan plans the way from what is ahead to what is wanted.
func (s *State) plan(ctx context.Context, id string, r Request) (*plan.Plan, error) {
	if s.unreached {
		return s.planUnreached(id, r)
	}
	if s.tablesAlone {
		return s.planTables(ctx, id, r)
	}
	s.leaveBroken = r.LeaveBroken
	for name := range r.Answers.Drop {
		table, _, _ := s.cut(name)
		t := s.Upcoming.Table(table)
		s.sqlAsked = s.sqlAsked || t == nil || t.Options.Foreign
	}
	if err := s.readSQL(ctx); err != nil {
		return nil, err
	}
	if s.sql != nil {
		s.sql.there, s.sql.changes, s.sql.keep = s.sql.ahead, nil, migration.KeptNames(id, r.Form)
		if r.NoKeep {
			s.sql.keep = ""
		}
	}
	if s.sql != nil && s.sql.made != nil {
		r.Answers = s.dropped(r.Answers)
	}
	p, err := s.planTables(ctx, id, r)
	if err != nil {
		return nil, err
	}
	if s.sql != nil && !s.sqlLater {
		if err := s.planObjects(ctx, p, r.drafts()); err != nil {
			return p, err
		}
	}
	p.Breaks = s.breaks(p)
	return p, nil
}

// drafts tells whether a migration is asked for, and not only what would change: a new one has a
// title, one that is drafted again the id that it had.
func (r Request) drafts() bool { return r.Title != "" || r.ID != "" }

// planTables plans the way of the tables.
func (s *State) planTables(ctx context.Context, id string, r Request) (*plan.Plan, error) {
	from := s.Upcoming
	answers, err := r.Answers, error(nil)
	if s.stage == nil { // those of a half have their names from the whole
		if answers, err = s.names(r.Answers, r.Carried); err != nil {
			return nil, err
		}
		if answers.Rename, err = s.enumNames(answers.Rename); err != nil {
			return nil, err
		}
	}
	s.newNames = answers.Rename
	wanted := s.Wanted
	if len(r.Order) > 0 {
		if from, wanted, r.Order, err = ordered(from, wanted, r.Order); err != nil {
			return nil, err
		}
	}
	changes := diff.Schemas(from, wanted)
	refer, err := s.rows(ctx)
	if err != nil {
		return nil, err
	}
	if len(changes) == 0 && len(refer) == 0 && len(from.Others) == 0 && answers.None() && !r.drafts() {
		return &plan.Plan{}, nil
	}
	made := &sqlschema.Schema{}
	// Also a migration that only creates tables has to know what the others made: the
	// rest of what is declared and exists is found, and belongs into its file.
	if r.drafts() && len(from.Tables) > 0 || len(changes) == 0 && len(s.Wanted.Tables) > 0 ||
		slices.ContainsFunc(changes,
			func(c diff.Change) bool { return c.Kind != diff.AddTable || s.mentioned(c.Table) }) {
		if made, err = s.Made(ctx); err != nil {
			return nil, err
		}
	}
	n := s.renameSteps(from, made, answers)
	in := plan.Input{
		Engine:      s.Engine,
		EnumRenames: n.enums,
		Renames:     n.named,
		Kept:        migration.KeptNames(id, r.Form),
		Live:        from,
		Wanted:      wanted,
		Order:       r.Order,
		Made:        made,
		Answers:     answers,
		NoKeep:      r.NoKeep,
		Stage:       s.stage,
		Rows:        refer,
		TakeOver:    r.drafts() && len(s.Status.Pending) == 0,
		Lenient:     r.Carried,
		Unseen:      s.Unseen,
		Handled:     s.handled(),
	}
	s.asks(ctx, &in)
	if s.InUse {
		in.InUse = func(table string) bool {
			return !slices.ContainsFunc(r.Plain, func(n string) bool { return strings.EqualFold(n, table) })
		}
	}
	if !r.Now.IsZero() { // it becomes a file
		in.LeastLocking = s.gentle(ctx, from, r.Rows)
	}
	if in.NoDrop, err = s.trial(ctx, from, n.steps, &in.Live); err != nil {
		return nil, err
	}
	if len(n.made) > 0 {
		if _, err = s.trial(ctx, made, n.made, &in.Made); err != nil {
			return nil, err
		}
	}
	softDeletesAfter(from, in.Live, answers)
	softDeletesAfter(made, in.Made, answers)
	if in.Live == from && len(answers.Rename) == 0 { // else they are other ones by now
		in.Changes = changes
	}
	return plan.Make(in)
}

// asks gives a plan the ways in which it asks the database. Where migrations are pending, what
// they will make does not exist yet, and has no rows.
func (s *State) asks(ctx context.Context, in *plan.Input) {
	if line, err := s.line(); err == nil {
		in.FoundTriggers, in.FoundTables = migration.FoundTriggers(line, s.Engine), migration.FoundTables(line)
		in.InSQL, in.Lacks = map[string]bool{}, map[string]bool{}
		for _, l := range s.Missing {
			if l.Kind == "table" {
				in.Lacks[strings.ToLower(l.Name)] = true
			}
		}
		for key := range migration.ObjectsOf(line, s.Engine) {
			if key.Kind == "table" {
				in.InSQL[strings.ToLower(key.Name)] = true
			}
		}
		for _, key := range s.triggersInSQL() {
			in.FoundTriggers[strings.ToLower(key.Name)] = true
		}
	}
	if s.unasked {
		in.Count = func(string) (int64, error) { return 0, nil }
		in.Look = func(string) (int64, engine.Rows, error) { return 0, engine.Rows{}, nil }
		in.Size = in.Count
		return
	}
	in.Count = func(q string) (int64, error) {
		n, err := s.DB.Count(ctx, q)
		if err != nil && len(s.Status.Pending) > 0 {
			return 0, nil
		}
		return n, err
	}
	in.Look = func(q string) (int64, engine.Rows, error) {
		n, rows, err := engine.InTheWay(ctx, s.DB, q)
		if err != nil && len(s.Status.Pending) > 0 {
			return 0, engine.Rows{}, nil
		}
		return n, rows, err
	}
	in.Size = func(table string) (int64, error) { return s.DB.TableSize(ctx, table) }
}

// renaming is the renames of a draft, as steps.
type renaming struct {
	steps []engine.Step // all of them
	made  []engine.Step // of what a migration made
	enums map[plan.Rename]engine.Step
	named map[plan.Rename][]engine.Step
}

// renameSteps gives the renames that were answered as steps; made is what migrations made of from.
func (s *State) renameSteps(from, made *sqlschema.Schema, answers plan.Answers) *renaming {
	n := &renaming{enums: map[plan.Rename]engine.Step{}, named: map[plan.Rename][]engine.Step{}}
	renamed, madeRenamed := from, made // by what was renamed before
	there := made.Clone()              // the same, by names alone
	for _, r := range answers.Rename {
		if r.Value != "" {
			s.renameValue(n, from, made, r, answers.Rename)
			continue
		}
		n.named[r], renamed = s.Engine.DDL().Rename(renamed, r.Table, r.Column, r.To)
		n.steps = append(n.steps, n.named[r]...)
		if has(there, r.Table, r.Column) {
			if t := there.Table(r.Table); r.Column == "" {
				t.Name = r.To
			} else {
				t.Column(r.Column).Name = r.To
			}
			var steps []engine.Step
			steps, madeRenamed = s.Engine.DDL().Rename(madeRenamed, r.Table, r.Column, r.To)
			n.made = append(n.made, steps...)
		}
	}
	for _, o := range s.Wanted.Others { // an enum type that has to be made again
		old := from.Enum(o.Name)
		if o.Kind != sqlschema.EnumType || old == nil {
			continue
		}
		values := slices.Clone(old.Values)
		for _, r := range answers.Rename {
			if n.enums[r].Apply == nil {
				continue
			}
			if i := slices.Index(values, r.Value); i >= 0 &&
				slices.Equal(n.enums[r].Apply, engine.EnumsOf(s.Engine).RenameValue(o.Name, r.Value, r.To)) {
				values[i] = r.To
			}
		}
		if !plan.OnlyAdded(values, o.Values) {
			n.steps = append(n.steps, engine.Step{
				Title: "set the enum type " + o.Name + " apart",
				Apply: engine.EnumsOf(s.Engine).Rename(o.Name, schema.Apart(o.Name)),
			})
		}
	}
	return n
}

// renameValue adds the rename of a value of an enum type, which may have been said of another
// column of the type already.
func (s *State) renameValue(n *renaming, from, made *sqlschema.Schema, r plan.Rename, all []plan.Rename) {
	step, ok := plan.EnumRename(s.Engine, from, r, all)
	if !ok {
		return
	}
	n.enums[r] = step
	if slices.ContainsFunc(n.steps, func(o engine.Step) bool { return slices.Equal(o.Apply, step.Apply) }) {
		return
	}
	n.steps = append(n.steps, step)
	if _, ok := plan.EnumRename(s.Engine, made, r, all); ok {
		n.made = append(n.made, step)
	}
}

// ordered compares the order of the columns of some tables, too; it is an error where they
// stand as declared. The names may be those of models.
func ordered(live, wanted *sqlschema.Schema, names []string) (from, to *sqlschema.Schema, tables []string, err error) {
	from, to = live.Clone(), wanted.Clone()
	for _, name := range names {
		i := slices.IndexFunc(to.Tables,
			func(t *sqlschema.Table) bool { return t.Model() == name || strings.EqualFold(t.Name, name) })
		if i < 0 || from.Table(to.Tables[i].Name) == nil {
			return nil, nil, nil, fmt.Errorf("--order %s matches nothing: no such table in the database and the models",
				name)
		}
		w := to.Tables[i]
		old := from.Table(w.Name)
		old.Ordered, w.Ordered = true, true
		comes := slices.ContainsFunc(w.Columns, func(c *sqlschema.Column) bool { return old.Column(c.Name) == nil })
		moves := slices.ContainsFunc(diff.Tables(old, w),
			func(c diff.Change) bool { return c.Kind == diff.ChangeOrder })
		if !comes && !moves {
			return nil, nil, nil, fmt.Errorf("--order %s matches nothing: its columns are in the declared order", name)
		}
		tables = append(tables, w.Name)
	}
	return from, to, tables, nil
}

// enumNames orders the renames of values of enum types, which are made one after the
// other, and checks that the models declare them.
func (s *State) enumNames(list []plan.Rename) ([]plan.Rename, error) {
	var out []plan.Rename
	of := map[string][]plan.Rename{}
	var columns []string
	for _, r := range list {
		if _, ok := plan.EnumRename(s.Engine, s.Upcoming, r, list); !ok {
			out = append(out, r)
			continue
		}
		key := r.Table + "." + r.Column
		if of[key] == nil {
			columns = append(columns, key)
		}
		of[key] = append(of[key], r)
	}
	for _, key := range columns {
		values := of[key]
		old, now := s.Upcoming.Table(values[0].Table).Column(values[0].Column), s.declared(values[0], list)
		among := func(list []string, v string) bool { return slices.Contains(list, v) }
		for _, r := range values {
			frees := slices.ContainsFunc(values, func(o plan.Rename) bool { return o.Value == r.To })
			takes := slices.ContainsFunc(values, func(o plan.Rename) bool { return o.To == r.Value })
			if now == nil || !among(old.Values, r.Value) || among(old.Values, r.To) && !frees ||
				among(now.Values, r.Value) && !takes || !among(now.Values, r.To) {
				return nil, fmt.Errorf("--rename %s: %s has to lose the value %q and to have %q", r, key, r.Value, r.To)
			}
		}
		out = append(out, plan.ValuesInOrder(values, old.Values, now.Values)...)
	}
	return out, nil
}

// declared is the column that the models have for one whose value has another name.
func (s *State) declared(r plan.Rename, all []plan.Rename) *sqlschema.Column {
	table, column := plan.Answers{Rename: all}.After(r.Table, r.Column)
	if t := s.Wanted.Table(table); t != nil {
		return t.Column(column)
	}
	return nil
}

// softDeletesAfter notes which tables mark their deleted rows, and what are their views,
// where the names by which that is told are still those from before the renames.
func softDeletesAfter(before, after *sqlschema.Schema, renames plan.Answers) {
	if before == after {
		return
	}
	for _, t := range before.Tables {
		name, column := renames.After(t.Name, t.SoftDelete)
		if now := after.Table(name); now != nil && t.SoftDelete != "" && now.Column(column) != nil {
			now.SoftDelete = column
		}
	}
	for _, v := range before.Views {
		if now := after.View(v.Name); now != nil && v.LiveOf != "" {
			now.LiveOf, _ = renames.After(v.LiveOf, "")
		}
	}
}

// trial makes renames on scratch, so that the engine itself says what follows
// them, and tells whether something there is broken.
func (s *State) trial(ctx context.Context, from *sqlschema.Schema, renames []engine.Step,
	out **sqlschema.Schema) (broken bool, err error) {
	breakable := len(from.Views) > 0 ||
		slices.ContainsFunc(from.Tables, func(t *sqlschema.Table) bool { return len(t.Triggers) > 0 })
	var list []string
	if s.Engine.Caps().ChecksAll && breakable {
		if list, err = s.broken(ctx, from); err != nil {
			return false, err
		}
	}
	if len(renames) == 0 {
		return len(list) > 0, nil
	}
	m := &migration.Migration{}
	for _, r := range renames {
		m.Steps = append(m.Steps, migration.Step{Title: r.Title, Apply: statements(r.Apply)})
	}
	try := func() error {
		after, left, err := proof.After(ctx, s.Engine, from, nil, []*migration.Migration{m},
			func(db engine.Database) (err error) {
				if breakable && !s.Engine.Caps().ChecksAll {
					if list, err = engine.InvalidObjects(ctx, db); err != nil {
						return err
					}
				}
				if len(list) > 0 {
					return fmt.Errorf("nothing can be renamed while %s does not work: fix or drop it first", list[0])
				}
				return s.renameThere(ctx, db, from, renames)
			})
		if e := s.lacks(left); e != nil {
			return e
		}
		if err == nil {
			*out = after
		}
		return err
	}
	if err = try(); err != nil && len(list) == 0 && s.declaresViews() && !s.viewsFirst() {
		s.sql.viewsFirst = true // one shows the former name, and another reads it from there
		if try() == nil {
			err = nil
		} else {
			s.sql.viewsFirst = false
		}
	}
	return len(list) > 0, err
}

// declaresViews tells whether some of the views that exist are declared in SQL.
func (s *State) declaresViews() bool {
	return s.sql != nil && slices.ContainsFunc(s.sql.there, s.declaredView)
}

func (s *State) declaredView(o *objects.Object) bool {
	return o.Kind == "view" && (s.sql.line[o.ObjectKey] || objects.Source(s.Wanted.Objects, o) != nil)
}

// renameThere makes renames on scratch, where what is declared in SQL follows them.
func (s *State) renameThere(ctx context.Context, db engine.Database, from *sqlschema.Schema, list []engine.Step) error {
	run := func(db engine.Database) error {
		if s.sql != nil && s.sql.viewsFirst {
			for _, o := range s.sql.there {
				if s.declaredView(o) {
					_ = db.Exec(ctx, "DROP VIEW "+s.Engine.SQL().QuoteTable(o.Name)) // none that scratch lacks
				}
			}
		}
		for _, r := range list {
			for _, sql := range r.Apply {
				if err := db.Exec(ctx, sql); err != nil {
					return fmt.Errorf("%s: %w", r.Title, err)
				}
			}
		}
		return nil
	}
	if from != s.Upcoming {
		return run(db)
	}
	return s.follow(ctx, db, run, func(was, now *objects.Object) bool {
		return was.Kind == now.Kind && strings.Split(was.Name, " of ")[0] == strings.Split(now.Name, " of ")[0] &&
			(was.Of == now.Of || s.renamedTo(list, was.Of, now.Of))
	})
}

// renamedTo tells whether steps give a table a name.
func (s *State) renamedTo(list []engine.Step, table, to string) bool {
	for _, st := range list {
		for _, sql := range st.Apply {
			if r, ok := migration.ReadRename(s.Engine, sql); ok && r.Column == "" && strings.EqualFold(r.Table, table) {
				table = r.To
			}
		}
	}
	return table == to
}

// broken are the views and triggers of a schema that do not work: of the live one they are
// asked there.
func (s *State) broken(ctx context.Context, from *sqlschema.Schema) ([]string, error) {
	if from == s.Live {
		return engine.InvalidObjects(ctx, s.DB)
	}
	db, err := s.scratch(ctx, from)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	return engine.InvalidObjects(ctx, db)
}

// gentle gives a function that has the engine find out, on scratch, how gently it can
// make the changes of a plan, where that is to be said of each; nil: it is not.
func (s *State) gentle(ctx context.Context, from *sqlschema.Schema, rows bool) func(*plan.Plan) error {
	db, ok := engine.As[engine.OnlineDDL](s.DB)
	if !ok {
		return nil
	}
	return func(p *plan.Plan) error {
		if !slices.ContainsFunc(p.Steps, func(st engine.Step) bool {
			return slices.ContainsFunc(append(slices.Clone(st.Apply), st.Undo...), db.CanRunOnline)
		}) {
			return nil
		}
		m := planned("gentle", 0, s.Engine, p)
		in := proof.Input{Engine: s.Engine, Start: from, Migration: m, Drafted: true}
		if rows {
			in.Live = s.sample(ctx)
		}
		if err := proof.Gently(ctx, in); err != nil {
			return err
		}
		for i, st := range m.Steps {
			for j := range st.Apply {
				p.Steps[i].Apply[j] = st.Apply[j].SQL
			}
			for j := range st.Undo {
				p.Steps[i].Undo[j] = st.Undo[j].SQL
			}
		}
		return nil
	}
}
