package draft

// This file asks about values that rows held in what a change had made, where the models no longer declare it.

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// orphans asks about values that rows held in what the old migrations made and
// the models no longer declare, and about those that such rows lack now. It takes the
// answers about them out.
func (s *State) orphans(ctx context.Context, again Again,
	in plan.Answers) (out plan.Answers, to *Handover, questions []plan.Question, err error) {
	o := &orphaning{State: s, ctx: ctx, again: again, in: in, fill: map[string]plan.Fill{},
		drop: maps.Clone(in.Drop), used: map[int]bool{},
		to: &Handover{
			Tables:  map[string]string{},
			Columns: map[string]map[string]string{},
			Fills:   map[string][]KeptFill{},
			answers: map[string]bool{},
		}}
	if o.drop == nil {
		o.drop = map[string]bool{}
	}
	for k, v := range in.Fill {
		if table, _, _ := s.cut(k); !v.Literal {
			v.SQL = s.inBraces(s.table(table), v.SQL)
		}
		o.fill[k] = v
	}
	out = in
	out.Rename = nil
	for _, m := range again.Old {
		list, err := runner.ArchivedBy(ctx, s.DB, m)
		if err != nil {
			return out, o.to, nil, err
		}
		o.all = append(o.all, list...)
	}
	for _, aside := range o.all {
		if kept := s.Live.Table(aside.Name); kept != nil {
			if err := o.table(kept, aside.Table); err != nil {
				return out, o.to, nil, err
			}
		}
	}
	for i, r := range in.Rename {
		if !o.used[i] {
			out.Rename = append(out.Rename, r)
		}
	}
	out.Fill, out.Drop = o.fill, o.drop
	return out, o.to, o.questions, nil
}

// orphaning is the search for orphans.
type orphaning struct {
	*State
	ctx       context.Context
	again     Again
	in        plan.Answers
	all       []runner.Archived // what the undo of the old migrations put aside
	fill      map[string]plan.Fill
	drop      map[string]bool
	used      map[int]bool // renames of in
	to        *Handover
	questions []plan.Question
}

// rename is the answer that a table, or a column, is called otherwise now.
func (o *orphaning) rename(table, column string) (name string, ok bool) {
	for i, r := range o.in.Rename {
		if r.Value == "" && strings.EqualFold(r.Column, column) &&
			(strings.EqualFold(r.Table, table) || strings.EqualFold(o.State.table(r.Table), table)) {
			o.used[i] = true
			o.to.answers[strings.TrimSuffix("--rename "+table+"."+column, ".")] = true
			return r.To, true
		}
	}
	return "", false
}

// dropped tells whether an answer lets a table or a column go, and takes it out.
func (o *orphaning) dropped(name string) bool {
	if !o.drop[name] {
		return false
	}
	delete(o.drop, name)
	return true
}

// table asks about the rows of a table that were put aside.
func (o *orphaning) table(kept *sqlschema.Table, table string) error {
	wanted := o.Wanted.Table(table)
	if wanted == nil && o.Live.Table(table) == nil {
		if name, ok := o.rename(table, ""); ok {
			o.to.Tables[table] = o.State.table(name)
			if wanted = o.Wanted.Table(o.to.Tables[table]); wanted != nil && o.ownRows(wanted, o.all) {
				return fmt.Errorf("--rename %s=%s: %s has rows of its own, which are restored: "+
					"give up %s with --drop %s, or declare it under a free name",
					table, name, wanted.Name, table, table)
			}
		} else if !o.dropped(table) {
			o.questions = append(o.questions, o.orphanTable(o.ctx, kept, table, o.all))
		}
	}
	if wanted == nil {
		return nil
	}
	t := &orphanedTable{
		orphaning: o, kept: kept, wanted: wanted, name: table,
		called: map[string]string{}, byKey: runner.ByKey(kept, wanted),
		created: o.Upcoming.Table(table) == nil && o.Upcoming.Table(wanted.Name) == nil,
	}
	asked := len(o.questions)
	for _, c := range kept.Columns {
		if t.byKey && strings.HasPrefix(c.Name, "key_") {
			continue
		}
		if err := t.column(c); err != nil {
			return err
		}
	}
	// The answer to a question about a name decides what is lacking.
	if len(o.questions) > asked || !t.byKey && !t.created {
		return nil
	}
	return t.lacking()
}

// orphanedTable is a table whose rows, or some values of them, were put aside.
type orphanedTable struct {
	*orphaning
	kept, wanted *sqlschema.Table
	name         string            // before
	called       map[string]string // the columns kept, by what they are called now
	byKey        bool              // the rows are there, and only values of them were kept
	created      bool              // by the new migration
}

// column asks about one of the columns that were kept.
func (t *orphanedTable) column(c *sqlschema.Column) error {
	t.called[c.Name] = c.Name
	name := t.name + "." + c.Name
	ask := func(q *plan.Question, err error) error {
		if q != nil && err == nil {
			t.questions = append(t.questions, *q)
		}
		return err
	}
	upcoming := t.Upcoming.Table(t.name)
	if upcoming != nil && upcoming.Column(c.Name) != nil && !sameKept(c, upcoming.Column(c.Name)) {
		if t.dropped(name) {
			return nil
		}
		return ask(t.otherType(t.ctx, t.kept, upcoming, c))
	}
	stays := t.wanted.Column(c.Name) != nil || upcoming != nil && upcoming.Column(c.Name) != nil
	if stays && (!t.created || t.byKey) {
		return nil
	}
	// Also one whose name another field has now; several renames may have become one.
	now, ok := t.rename(t.name, c.Name)
	for range t.in.Rename {
		if next, more := t.rename(t.name, now); ok && more &&
			t.wanted.Column(t.State.column(t.wanted.Name, now)) == nil {
			now = next
		}
	}
	if now = t.State.column(t.wanted.Name, now); ok && t.wanted.Column(now) != nil {
		return t.isCalled(c.Name, now)
	}
	if stays || t.dropped(name) {
		return nil
	}
	taken := slices.Collect(maps.Values(t.to.Columns[t.kept.Name]))
	return ask(t.orphanColumn(t.ctx, t.kept, t.wanted, t.name, c, taken))
}

// isCalled notes that a column is called otherwise now.
func (t *orphanedTable) isCalled(column, now string) error {
	names := t.to.Columns[t.kept.Name]
	for other, taken := range names {
		if taken == now && other != column {
			return fmt.Errorf("--rename %s.%s=%s: %s is to be called %s already", t.name, column, now, other, now)
		}
	}
	if names == nil {
		names = map[string]string{}
		t.to.Columns[t.kept.Name] = names
	}
	t.called[column], names[column] = now, now
	if f, ok := t.fill[t.name+"."+column]; ok && t.wanted.Column(column) == nil {
		delete(t.fill, t.name+"."+column)
		t.fill[t.wanted.Name+"."+now] = f
	}
	return nil
}

// lacking asks about what the rows lack.
func (t *orphanedTable) lacking() error {
	rows := keptRows{State: t.State, kept: t.kept, wanted: t.wanted, called: t.called, alone: t.byKey}
	rows.renamed = func(column, value string) (string, bool) {
		for i, r := range t.in.Rename {
			if r.Value == value && strings.EqualFold(t.State.column(t.wanted.Name, r.Column), column) &&
				(strings.EqualFold(r.Table, t.name) || strings.EqualFold(t.State.table(r.Table), t.wanted.Name)) {
				t.used[i] = true
				t.to.answers["--rename "+t.wanted.Name+"."+column+"."+value] = true
				return r.To, true
			}
		}
		return "", false
	}
	rows.adds = func(column string) bool {
		now := t.Upcoming.Table(t.wanted.Name)
		return now != nil && now.Column(column) == nil
	}
	for _, o := range t.all {
		if live := t.Live.Table(o.Name); live != nil && o.Table == t.name && runner.ByKey(live, t.wanted) {
			rows.byKey = append(rows.byKey, live)
		}
	}
	given := t.fill
	if t.byKey { // what was said to the old ones is for rows that have no value
		given = map[string]plan.Fill{}
		for _, flag := range t.again.Now {
			key, isFill := strings.CutPrefix(t.flagKey(flag), "--fill ")
			if f, ok := t.fill[key]; ok && isFill {
				given[key] = f
			}
		}
	}
	had := maps.Clone(given)
	list, more, err := rows.fills(t.ctx, given)
	if err != nil {
		return err
	}
	for key := range had { // a required one needs it for rows elsewhere, too
		_, left := given[key]
		if c := t.wanted.Column(strings.TrimPrefix(key, t.wanted.Name+".")); t.byKey && !left && c != nil &&
			(!c.NotNull || c.Default != nil) {
			delete(t.fill, key)
		}
	}
	t.to.Fills[t.kept.Name] = list
	for _, f := range list {
		t.to.answers["--fill "+f.Table+"."+f.Column.Name] = true
	}
	t.questions = append(t.questions, more...)
	return nil
}

// ownRows tells whether rows of a declared table are among what the undo put aside.
func (s *State) ownRows(t *sqlschema.Table, all []runner.Archived) bool {
	return slices.ContainsFunc(all, func(o runner.Archived) bool {
		kept := s.Live.Table(o.Name)
		return strings.EqualFold(o.Table, t.Name) && kept != nil && !runner.ByKey(kept, t)
	})
}

// orphanTable asks about a table that is no longer declared; all are what the undo put
// aside, and a table that is among it has rows of its own.
func (s *State) orphanTable(ctx context.Context, kept *sqlschema.Table, table string,
	all []runner.Archived) plan.Question {
	n, _ := s.DB.Count(ctx, "SELECT 1 FROM "+s.Engine.SQL().Quote(kept.Name))
	q := plan.Question{
		About: table,
		Rows:  n,
		Text: fmt.Sprintf("the table %s, which this change had created, is no longer declared, and it has %s", table,
			words.Rows(n)),
	}
	for _, t := range s.Wanted.Tables {
		shared := 0
		for _, c := range t.Columns {
			if kept.Column(c.Name) != nil {
				shared++
			}
		}
		if s.Upcoming.Table(t.Name) == nil && !s.ownRows(t, all) && shared*2 >= len(kept.Columns) {
			q.Choices = append(q.Choices, plan.Choice{
				Words: "renamed to " + t.Name,
				Flags: []string{fmt.Sprintf("--rename %s=%s", table, t.Name)},
			})
		}
	}
	q.Choices = append(q.Choices, plan.Choice{Words: "drop it; its rows stay kept", Flags: []string{"--drop " + table}})
	return q
}

// orphanColumn asks about a column that is no longer declared; taken are the names that
// others of its table get.
func (s *State) orphanColumn(ctx context.Context, kept, wanted *sqlschema.Table, table string, c *sqlschema.Column,
	taken []string) (*plan.Question, error) {
	n, err := s.DB.Count(
		ctx,
		fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL", s.Engine.SQL().Quote(kept.Name),
			s.Engine.SQL().Quote(c.Name)),
	)
	if err != nil || n == 0 {
		return nil, err
	}
	name := table + "." + c.Name
	q := &plan.Question{
		About: name,
		Rows:  n,
		Text: fmt.Sprintf("%s, which this change had added, is no longer declared, and %s a value in it", name,
			words.Have(n)),
	}
	for _, w := range wanted.Columns {
		if live := s.Upcoming.Table(wanted.Name); (live == nil || live.Column(w.Name) == nil) &&
			kept.Column(w.Name) == nil && !slices.Contains(taken, w.Name) && strings.EqualFold(w.SQLType, c.SQLType) {
			q.Choices = append(q.Choices, plan.Choice{
				Words: "renamed to " + w.Name,
				Flags: []string{fmt.Sprintf("--rename %s=%s", name, w.Name)},
			})
		}
	}
	q.Choices = append(q.Choices,
		plan.Choice{Words: "drop it; the values stay kept", Flags: []string{"--drop " + name}})
	return q, nil
}

// otherType asks about values of a column that another migration makes now, with another
// type.
func (s *State) otherType(ctx context.Context, kept, t *sqlschema.Table, c *sqlschema.Column) (*plan.Question, error) {
	n, err := s.DB.Count(
		ctx,
		fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL", s.Engine.SQL().Quote(kept.Name),
			s.Engine.SQL().Quote(c.Name)),
	)
	if err != nil || n == 0 {
		return nil, err
	}
	name := t.Name + "." + c.Name
	return &plan.Question{About: name, Rows: n,
		Text: fmt.Sprintf(
			"%s, which this change had added as %s, is added as %s by another migration, and %s a value in it", name,
			c.SQLType, t.Column(c.Name).SQLType, words.Have(n)),
		Choices: []plan.Choice{{Words: "the values stay kept", Flags: []string{"--drop " + name}}},
		Other:   "or give the field a new name, and answer --rename"}, nil
}
