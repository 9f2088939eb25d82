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
	out, to = in, &Handover{
		Tables:  map[string]string{},
		Columns: map[string]map[string]string{},
		Fills:   map[string][]KeptFill{},
		answers: map[string]bool{},
	}
	out.Rename = nil
	fill, drop := map[string]plan.Fill{}, map[string]bool{}
	for k, v := range in.Fill {
		if table, _, _ := strings.Cut(k, "."); !v.Literal {
			v.SQL = s.inBraces(s.table(table), v.SQL)
		}
		fill[k] = v
	}
	for k, v := range in.Drop {
		drop[k] = v
	}
	used := map[int]bool{}
	find := func(table, column string) (name string, ok bool) {
		for i, r := range in.Rename {
			if r.Value == "" && strings.EqualFold(r.Column, column) &&
				(strings.EqualFold(r.Table, table) || strings.EqualFold(s.table(r.Table), table)) {
				used[i] = true
				to.answers[strings.TrimSuffix("--rename "+table+"."+column, ".")] = true
				return r.To, true
			}
		}
		return "", false
	}
	var all []runner.Archived
	for _, m := range again.Old {
		list, err := runner.ArchivedBy(ctx, s.DB, m)
		if err != nil {
			return out, to, nil, err
		}
		all = append(all, list...)
	}
	for _, aside := range all {
		kept, table := s.Live.Table(aside.Name), aside.Table
		if kept == nil {
			continue
		}
		wanted := s.Wanted.Table(table)
		if wanted == nil && s.Live.Table(table) == nil {
			name, ok := find(table, "")
			switch {
			case ok:
				to.Tables[table] = s.table(name)
				if wanted = s.Wanted.Table(to.Tables[table]); wanted != nil && s.ownRows(wanted, all) {
					return out, to, nil, fmt.Errorf(
						"--rename %s=%s: %s has rows of its own, which are restored: give up %s with --drop %s, or declare it under a free name",
						table, name, wanted.Name, table, table)
				}
			case drop[table]:
				delete(drop, table)
			default:
				questions = append(questions, s.orphanTable(ctx, kept, table, all))
			}
		}
		if wanted == nil {
			continue
		}
		called, byKey, asked := map[string]string{}, runner.ByKey(kept, wanted), len(questions)
		created := s.Upcoming.Table(table) == nil && s.Upcoming.Table(wanted.Name) == nil // by the new migration
		rename := func(c, now string) {
			if to.Columns[kept.Name] == nil {
				to.Columns[kept.Name] = map[string]string{}
			}
			called[c], to.Columns[kept.Name][c] = now, now
			if f, ok := fill[table+"."+c]; ok && wanted.Column(c) == nil {
				delete(fill, table+"."+c)
				fill[wanted.Name+"."+now] = f
			}
		}
		for _, c := range kept.Columns {
			if byKey && strings.HasPrefix(c.Name, "key_") {
				continue
			}
			called[c.Name] = c.Name
			name := table + "." + c.Name
			if t := s.Upcoming.Table(table); t != nil && t.Column(c.Name) != nil && !sameKept(c, t.Column(c.Name)) {
				if drop[name] {
					delete(drop, name)
					continue
				}
				q, err := s.otherType(ctx, kept, t, c)
				if err != nil {
					return out, to, nil, err
				}
				if q != nil {
					questions = append(questions, *q)
				}
				continue
			}
			stays := wanted.Column(c.Name) != nil ||
				s.Upcoming.Table(table) != nil && s.Upcoming.Table(table).Column(c.Name) != nil
			if stays && (!created || byKey) {
				continue
			}
			// Also one whose name another field has now; several renames may have become one.
			now, ok := find(table, c.Name)
			for range in.Rename {
				if next, more := find(table, now); ok && more && wanted.Column(s.column(wanted.Name, now)) == nil {
					now = next
				}
			}
			if now = s.column(wanted.Name, now); ok && wanted.Column(now) != nil {
				for other, taken := range to.Columns[kept.Name] {
					if taken == now && other != c.Name {
						return out, to, nil, fmt.Errorf("--rename %s=%s: %s is to be called %s already", name, now,
							other, now)
					}
				}
				rename(c.Name, now)
				continue
			}
			if stays {
				continue
			}
			if drop[name] {
				delete(drop, name)
				continue
			}
			q, err := s.orphanColumn(ctx, kept, wanted, table, c, slices.Collect(maps.Values(to.Columns[kept.Name])))
			if err != nil {
				return out, to, nil, err
			}
			if q != nil {
				questions = append(questions, *q)
			}
		}
		// The answer to a question about a name decides what is lacking.
		if len(questions) > asked || !byKey && !created {
			continue
		}
		rows := keptRows{State: s, kept: kept, wanted: wanted, called: called, alone: byKey}
		rows.renamed = func(column, value string) (string, bool) {
			for i, r := range in.Rename {
				if r.Value == value && strings.EqualFold(s.column(wanted.Name, r.Column), column) &&
					(strings.EqualFold(r.Table, table) || strings.EqualFold(s.table(r.Table), wanted.Name)) {
					used[i] = true
					to.answers["--rename "+wanted.Name+"."+column+"."+value] = true
					return r.To, true
				}
			}
			return "", false
		}
		rows.adds = func(column string) bool {
			t := s.Upcoming.Table(wanted.Name)
			return t != nil && t.Column(column) == nil
		}
		for _, o := range all {
			if t := s.Live.Table(o.Name); t != nil && o.Table == table && runner.ByKey(t, wanted) {
				rows.byKey = append(rows.byKey, t)
			}
		}
		given := fill
		if byKey { // what was said to the old ones is for rows that have no value
			given = map[string]plan.Fill{}
			for _, flag := range again.Now {
				key := s.flagKey(flag)
				if f, ok := fill[strings.TrimPrefix(key, "--fill ")]; ok && strings.HasPrefix(key, "--fill ") {
					given[strings.TrimPrefix(key, "--fill ")] = f
				}
			}
		}
		had := maps.Clone(given)
		list, more, err := rows.fills(ctx, given)
		if err != nil {
			return out, to, nil, err
		}
		for key := range had { // a required one needs it for rows elsewhere, too
			_, left := given[key]
			if c := wanted.Column(strings.TrimPrefix(key, wanted.Name+".")); byKey && !left && c != nil &&
				(!c.NotNull || c.Default != nil) {
				delete(fill, key)
			}
		}
		to.Fills[kept.Name] = list
		for _, f := range list {
			to.answers["--fill "+f.Table+"."+f.Column.Name] = true
		}
		questions = append(questions, more...)
	}
	for i, r := range in.Rename {
		if !used[i] {
			out.Rename = append(out.Rename, r)
		}
	}
	out.Fill, out.Drop = fill, drop
	return out, to, questions, nil
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
