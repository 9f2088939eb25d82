package draft

// This file gives rows that an undo kept what they lack to be rows of their table again:
// where people change their minds about the very migration that created it, the table
// comes back as the models declare it now, and the rows as they were.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/words"
)

// Given is a value for a field of kept rows.
type Given struct {
	Table  string         // as the models call it
	Column *schema.Column // as they declare it
	SQL    string         // over a kept row, whose columns have the names of now
	Has    bool           // the rows have such a column, and its values are replaced
	Loses  bool           // by which some are lost: they stay kept

	beside string // the kept table of values that SQL reads, as its name was then
}

// besideName stands in the SQL of a Given for the kept table that it reads.
const besideName = "{beside}"

// lacking tells what kept rows of a table lack; as gives the names of their columns as
// they are called now. It takes the answers that it uses out of fill.
func (s *State) lacking(ctx context.Context, aside runner.PutAside, all []runner.PutAside, wanted *schema.Table, as map[string]string, fill map[string]plan.Fill) (out []Given, questions []plan.Question, err error) {
	kept, e := s.Live.Table(aside.Name), s.Engine
	count := func(where string) (int64, error) {
		return s.DB.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s", e.Quote(kept.Name), where))
	}
	for _, w := range wanted.Columns {
		if w.Generated != nil || w.Identity {
			continue
		}
		name := wanted.Name + "." + w.Name
		f, filled := fill[name]
		var has *schema.Column
		for _, c := range kept.Columns {
			if as[c.Name] == w.Name {
				has = c
			}
		}
		value, where, beside := "NULL", "true", ""
		if has != nil {
			conv, ok, n := engine.Conversion{}, true, int64(0)
			if !sameKept(has, w) {
				if conv, ok = e.Convert(has, w); ok && (filled && !f.Literal || has.Name != w.Name) {
					ok = false // an expression says what all of them become
				}
				if !ok {
					n, err = count(e.Quote(has.Name) + " IS NOT NULL")
				} else {
					n, err = s.misfits(ctx, kept, has, wanted, conv)
				}
				if err != nil {
					return nil, nil, err
				}
			}
			switch {
			case n > 0 && filled:
				out = append(out, Given{Table: wanted.Name, Column: w, SQL: f.SQL, Has: true, Loses: true})
				delete(fill, name)
				continue
			case n > 0:
				questions = append(questions, plan.Question{About: name, Rows: n, Text: fmt.Sprintf("%s changes from %s to %s, and %s a value that cannot be turned", name, has.SQLType, w.SQLType, words.Have(n)),
					Choices: []plan.Choice{{Words: "an expression over the row", Flag: fmt.Sprintf("--fill '%s=sql:EXPRESSION'", name)}}})
				continue
			case conv.SQL != "":
				value = conv.SQL
			default:
				value = e.Quote(w.Name)
			}
			where = e.Quote(has.Name) + " IS NULL"
		} else if at := slices.IndexFunc(all, func(o runner.PutAside) bool { return o.Table == aside.Table && s.keyed(o, kept, w.Name) }); at >= 0 {
			// The column came with another of the migrations, which kept it by key.
			beside = all[at].Name
			var match, match2 []string
			for _, c := range s.Live.Table(beside).Columns {
				if key, ok := strings.CutPrefix(c.Name, "key_"); ok {
					match = append(match, fmt.Sprintf("beside.%s = %s.%s", e.Quote(c.Name), e.Quote(kept.Name), e.Quote(key)))
					match2 = append(match2, fmt.Sprintf("beside.%s = %s", e.Quote(c.Name), e.Quote(key)))
				}
			}
			of := "(SELECT max(beside." + e.Quote(w.Name) + ") FROM %s AS beside WHERE %s)"
			value = fmt.Sprintf(of, besideName, strings.Join(match2, " AND "))
			where = fmt.Sprintf(of, e.Quote(beside), strings.Join(match, " AND ")) + " IS NULL"
		}
		if w.NotNull && (has != nil || w.Default == nil) {
			n, err := count(where)
			switch {
			case err != nil:
				return nil, nil, err
			case n > 0 && !filled:
				questions = append(questions, plan.Question{About: name, Rows: n, Text: fmt.Sprintf("%s is required, and %s no value for it", name, words.Have(n)), Choices: plan.ValueChoices(name)})
				continue
			case n > 0 && value == "NULL":
				value = f.SQL
			case n > 0:
				value = fmt.Sprintf("coalesce(%s, (%s))", value, f.SQL)
			}
			if n > 0 {
				delete(fill, name)
			}
		}
		if value != "NULL" && value != e.Quote(w.Name) && (w.NotNull || has != nil) {
			out = append(out, Given{Table: wanted.Name, Column: w, SQL: value, Has: has != nil, beside: beside})
		}
	}
	return out, questions, nil
}

// misfits counts the kept rows whose value of a column does not come through its
// conversion.
func (s *State) misfits(ctx context.Context, kept *schema.Table, has *schema.Column, wanted *schema.Table, conv engine.Conversion) (n int64, err error) {
	w := wanted.Column(has.Name)
	to := kept.Clone()
	to.Text = ""
	*to.Column(has.Name) = schema.Column{Name: has.Name, Type: w.Type, SQLType: w.SQLType, Collation: w.Collation}
	for _, k := range wanted.Checks {
		if k.Column == w.Name && k.Purpose == schema.ForType {
			to.Checks = append(to.Checks, k)
		}
	}
	a := engine.Alteration{From: kept, To: to, Forward: map[string]engine.Source{}, Back: map[string]engine.Source{}, Parent: unknownParent}
	if conv.SQL != "" {
		a.Forward[w.Name] = engine.Source{SQL: conv.SQL, Converts: true}
	}
	if back, ok := s.Engine.Convert(w, has); ok && back.SQL != "" {
		a.Back[w.Name] = engine.Source{SQL: back.SQL, Converts: true}
	}
	for _, r := range s.Engine.Alter(a).BeforeApply {
		if r.About == w.Name {
			k, err := s.DB.Count(ctx, r.Query)
			if err != nil {
				return 0, err
			}
			n = max(n, k)
		}
	}
	return n, nil
}

func unknownParent(string, bool) engine.Parent { return engine.ParentUnknown }

// keyed tells whether what was put aside are values of a column by keys that the kept
// rows have.
func (s *State) keyed(o runner.PutAside, rows *schema.Table, column string) bool {
	t, some := s.Live.Table(o.Name), false
	if t == nil || t.Column(column) == nil {
		return false
	}
	for _, c := range t.Columns {
		if key, ok := strings.CutPrefix(c.Name, "key_"); ok {
			if some = true; rows.Column(key) == nil {
				return false
			}
		}
	}
	return some
}

// give writes values into kept rows, each worked out over them as they were. done is
// told how that is taken back.
func give(ctx context.Context, db engine.Database, e engine.Engine, kept *schema.Table, list []Given, done func(back func(context.Context) error)) error {
	run := func(ctx context.Context, list []string) error {
		for _, sql := range list {
			if err := db.Step(ctx, sql); err != nil {
				return err
			}
		}
		return nil
	}
	to := kept.Clone()
	to.Text = ""
	a := engine.Alteration{From: kept, To: to, Forward: map[string]engine.Source{}, Back: map[string]engine.Source{}, Parent: unknownParent}
	comes := func(g Given) string {
		if g.Has {
			return schema.Cut(schema.OwnPrefix + "new_" + g.Column.Name)
		}
		return g.Column.Name
	}
	var names []string
	for _, g := range list {
		c := &schema.Column{Name: comes(g), Type: g.Column.Type, SQLType: g.Column.SQLType, Collation: g.Column.Collation}
		if g.Column.Values != nil { // a type that the migration may make
			c.Type, c.SQLType = schema.Type{Kind: schema.Text}, "text"
		}
		to.Columns = append(to.Columns, c)
		a.Forward[c.Name] = engine.Source{SQL: g.SQL}
		names = append(names, g.Column.Name)
	}
	for _, s := range e.Alter(a).Steps {
		if err := run(ctx, s.Apply); err != nil {
			return fmt.Errorf("rows that come back to %s cannot have %s: %w", list[0].Table, strings.Join(names, ", "), err)
		}
		done(func(ctx context.Context) error { return run(ctx, s.Undo) })
	}
	for _, g := range list {
		if !g.Has {
			continue
		}
		was := runner.Replaced(g.Column.Name)
		if g.Loses {
			was = schema.Cut("old_" + g.Column.Name)
		}
		for _, n := range [][2]string{{g.Column.Name, was}, {comes(g), g.Column.Name}} {
			if err := runner.RenameKept(ctx, db, e, kept.Name, n[0], n[1]); err != nil {
				return err
			}
			done(func(ctx context.Context) error { return runner.RenameKept(ctx, db, e, kept.Name, n[1], n[0]) })
		}
	}
	return nil
}
