package draft

// This file fills what rows lack that an undo kept whole, before they return to their
// table: where people change their minds about the migration that created it, the table is
// created as the models declare it now, and the rows are as they were.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// KeptFill is a value for a column of kept rows.
type KeptFill struct {
	Table  string            // as the models call it
	Column *sqlschema.Column // as they declare it
	SQL    string            // over a kept row, whose columns have their new names
	From   string            // the kept table that SQL reads as {from}; "": none
	Has    bool              // the rows have the column, and its values are replaced
	Loses  bool              // the values that are replaced cannot be told from the new ones, and stay kept
}

// keptRows are rows of a table that an undo kept whole.
type keptRows struct {
	*State
	kept, wanted *sqlschema.Table
	called       map[string]string  // the new names of their columns
	byKey        []*sqlschema.Table // values of other columns, kept by the keys of these rows
	// renamed gives the new name of a value of a choice, where somebody said one.
	renamed func(column, value string) (string, bool)
	// alone tells that values of single columns are kept, and not the rows whole; adds,
	// which columns the new migration adds then.
	alone bool
	adds  func(column string) bool
}

// fills gives the fills of what the rows lack, and the questions about it. It takes the
// answers that it uses out of answers.
func (k *keptRows) fills(ctx context.Context,
	answers map[string]plan.Fill) (out []KeptFill, questions []plan.Question, err error) {
	for _, w := range k.wanted.Columns {
		if w.Generated != nil || w.Identity || k.alone && !k.adds(w.Name) {
			continue
		}
		name := k.wanted.Name + "." + w.Name
		var answer *plan.Fill
		if f, ok := answers[name]; ok {
			answer = &f
		}
		at := slices.IndexFunc(k.kept.Columns, func(c *sqlschema.Column) bool { return k.called[c.Name] == w.Name })
		f, q, used := (*KeptFill)(nil), (*plan.Question)(nil), false
		if at >= 0 {
			f, q, used, err = k.replaced(ctx, k.kept.Columns[at], w, answer)
		} else if w.NotNull && w.Default == nil && !k.alone {
			f, q, used, err = k.missing(ctx, w, answer)
		}
		if err != nil {
			return nil, nil, err
		}
		if used {
			delete(answers, name)
		}
		if f != nil {
			f.Table, f.Column = k.wanted.Name, w
			out = append(out, *f)
		}
		if q != nil {
			q.About = name
			questions = append(questions, *q)
		}
	}
	return out, questions, nil
}

func (k *keptRows) count(ctx context.Context, where string) (int64, error) {
	return k.DB.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s", k.Engine.SQL().Quote(k.kept.Name), where))
}

// replaced is the fill of a column that the rows have, with another type or optional.
func (k *keptRows) replaced(ctx context.Context, has, w *sqlschema.Column,
	answer *plan.Fill) (*KeptFill, *plan.Question, bool, error) {
	name, old, now := k.wanted.Name+"."+w.Name, k.Engine.SQL().Quote(has.Name), k.Engine.SQL().Quote(w.Name)
	value, asText := now, false
	if !sameKept(has, w) && k.alone {
		return nil, nil, false, nil // the database converts what comes back into the table
	}
	if !sameKept(has, w) {
		conv, ok := k.Engine.DDL().Convert(has, w)
		// An expression says what all of them become.
		ok = ok && has.Name == w.Name && (answer == nil || answer.Literal)
		n, err := int64(0), error(nil)
		if ok {
			n, err = k.misfits(ctx, w, conv)
		} else {
			n, err = k.count(ctx, old+" IS NOT NULL")
		}
		switch {
		case err != nil:
			return nil, nil, false, err
		case n > 0 && answer != nil:
			return &KeptFill{SQL: answer.SQL, Has: true, Loses: true}, nil, true, nil
		case n > 0:
			return nil, &plan.Question{
				Rows: n,
				Text: fmt.Sprintf("%s changes from %s to %s, and %s a value that cannot be converted", name,
					has.SQLType, w.SQLType, words.Have(n)),
				Choices: []plan.Choice{
					{
						Words: "an expression over the row",
						Flags: []string{fmt.Sprintf("--fill %s=sql:EXPRESSION", name)},
					},
				},
			}, false, nil
		case !ok:
			value = "NULL"
		case w.Values != nil: // what the values become is made of texts, since the type may come later
			text := *w
			text.Values, text.Type, text.SQLType = nil, schema.Type{Kind: schema.Text}, "text"
			if conv, ok := k.Engine.DDL().Convert(has, &text); ok && conv.SQL != "" {
				value = conv.SQL
			}
			asText = true
		case conv.SQL != "":
			value = conv.SQL
		}
	}
	used := false
	if value == now {
		v, loses, q, err := k.held(ctx, has, w, answer)
		if err != nil || q != nil {
			return nil, q, false, err
		}
		if value = v; loses {
			return &KeptFill{SQL: value, Has: true, Loses: true}, nil, true, nil
		}
	}
	if w.NotNull && !k.alone { // the table has its own way for what has no value
		n, err := k.count(ctx, old+" IS NULL")
		if err != nil {
			return nil, nil, false, err
		}
		if n > 0 && answer == nil {
			return nil, noValue(k.wanted, w.Name, n), false, nil
		}
		if used = n > 0; used {
			value = "coalesce(" + value + ", (" + answer.SQL + "))"
		}
	}
	if value == now && !asText {
		return nil, nil, used, nil
	}
	return &KeptFill{SQL: value, Has: true}, nil, used, nil
}

// held is the value of a column of the same type whose values have other limits now: a choice
// that lost some, a range. Those that are renamed have their new names; of what is not
// allowed any more it asks, or takes the answer, which loses the old values.
func (k *keptRows) held(ctx context.Context, has, w *sqlschema.Column,
	answer *plan.Fill) (value string, loses bool, q *plan.Question, err error) {
	e, now := k.Engine, k.Engine.SQL().Quote(w.Name)
	var must []string
	for _, c := range k.wanted.Checks {
		if c.Column == w.Name &&
			(c.Purpose == schema.ForChoice || c.Purpose == schema.ForRange || c.Purpose == schema.ForNonblank) {
			must = append(must, "("+c.SQL.Text+")")
		}
	}
	if len(w.Values) > 0 && has.Values == nil {
		var list []string
		for _, v := range w.Values {
			list = append(list, e.SQL().Text(v))
		}
		must = append(must, now+" IN ("+strings.Join(list, ", ")+")")
	}
	if len(must) == 0 {
		return now, false, nil, nil
	}
	fits := strings.Join(must, " AND ")
	bad := func(value string) string {
		return fmt.Sprintf(
			"(SELECT %s AS %s, %s AS erbario_was FROM (SELECT %s AS %s FROM %s) AS r) AS q WHERE %s IS NOT NULL AND NOT (%s)",
			value, now, now, e.SQL().Quote(has.Name), now, e.SQL().Quote(k.kept.Name), now, fits)
	}
	gone, err := k.DB.Select(ctx, "SELECT DISTINCT erbario_was FROM "+bad(now))
	if err != nil || len(gone) == 0 {
		return now, false, nil, err
	}
	cases := ""
	for _, g := range gone {
		if to, ok := k.renamed(w.Name, g[0]); ok {
			cases += fmt.Sprintf(" WHEN %s THEN %s", e.SQL().Text(g[0]), e.SQL().Text(to))
		}
	}
	otherwise := func(value string) string {
		if cases == "" {
			return value
		}
		return "CASE " + now + cases + " ELSE " + value + " END"
	}
	if value = otherwise(now); cases != "" {
		if gone, err = k.DB.Select(ctx, "SELECT DISTINCT erbario_was FROM "+bad(value)); err != nil || len(gone) == 0 {
			return value, false, nil, err
		}
	}
	if answer != nil {
		return otherwise(
			"CASE WHEN " + now + " IS NULL OR " + fits + " THEN " + now + " ELSE (" + answer.SQL + ") END",
		), true, nil, nil
	}
	n, err := k.DB.Count(ctx, "SELECT 1 FROM "+bad(value))
	if err != nil {
		return "", false, nil, err
	}
	name := k.wanted.Name + "." + w.Name
	q = &plan.Question{Rows: n, Text: fmt.Sprintf("%s no longer allows what %s", name, words.Have(n))}
	if len(gone) == 1 && gone[0][0] != "" {
		for _, c := range w.Type.Choices {
			q.Choices = append(q.Choices, plan.Choice{
				Words: fmt.Sprintf("%s is renamed to %s", gone[0][0], c),
				Flags: []string{fmt.Sprintf("--rename %s.%s=%s", name, gone[0][0], c)},
			})
		}
	}
	q.Choices = append(q.Choices,
		plan.Choice{Words: "one value for those rows", Flags: []string{"--fill " + name + "=VALUE"}},
		plan.Choice{Words: "an expression over those rows", Flags: []string{"--fill " + name + "=sql:EXPRESSION"}})
	return "", false, q, nil
}

// missing is the fill of a required column that the rows do not have. Another of the
// migrations may have added it, whose undo kept its values by key.
func (k *keptRows) missing(ctx context.Context, w *sqlschema.Column,
	answer *plan.Fill) (*KeptFill, *plan.Question, bool, error) {
	f, none := &KeptFill{}, "true"
	for _, t := range k.byKey {
		if c := t.Column(w.Name); c == nil || !sameKept(c, w) {
			continue
		}
		read := func(from, row string) string {
			var match []string
			for _, c := range t.Columns {
				if key, ok := strings.CutPrefix(c.Name, "key_"); ok && k.kept.Column(key) != nil {
					match = append(match, "v."+k.Engine.SQL().Quote(c.Name)+" = "+row+k.Engine.SQL().Quote(key))
				}
			}
			return fmt.Sprintf("(SELECT v.%s FROM %s AS v WHERE %s LIMIT 1)", k.Engine.SQL().Quote(w.Name), from,
				strings.Join(match, " AND "))
		}
		f.From, f.SQL = t.Name, read("{from}", "")
		none = read(k.Engine.SQL().QuoteTable(t.Name), k.Engine.SQL().Quote(k.kept.Name)+".") + " IS NULL"
	}
	n, err := k.count(ctx, none)
	switch {
	case err != nil:
		return nil, nil, false, err
	case n == 0 && f.SQL == "":
		return nil, nil, false, nil
	case n == 0:
		return f, nil, false, nil
	case answer == nil:
		return nil, noValue(k.wanted, w.Name, n), false, nil
	case f.SQL == "":
		f.SQL = answer.SQL
	default:
		f.SQL = "coalesce(" + f.SQL + ", (" + answer.SQL + "))"
	}
	return f, nil, true, nil
}

// noValue asks what value rows are to have in a column that is required.
func noValue(t *sqlschema.Table, column string, rows int64) *plan.Question {
	return &plan.Question{
		Rows:    rows,
		Text:    fmt.Sprintf("%s.%s is required, and %s no value for it", t.Name, column, words.Have(rows)),
		Choices: plan.ValueChoices(t, column, rows),
	}
}

// misfits counts the rows whose value of a column is lost by its conversion.
func (k *keptRows) misfits(ctx context.Context, w *sqlschema.Column, conv engine.Conversion) (n int64, err error) {
	to := k.kept.Clone()
	to.Text = ""
	has := *to.Column(w.Name)
	*to.Column(w.Name) = sqlschema.Column{Name: w.Name, Type: w.Type, SQLType: w.SQLType, Collation: w.Collation}
	for _, c := range k.wanted.Checks {
		if c.Column == w.Name && c.Purpose == schema.ForType {
			to.Checks = append(to.Checks, c)
		}
	}
	a := engine.Between(k.kept, to)
	if conv.SQL != "" {
		a.Forward[w.Name] = engine.Source{SQL: conv.SQL, Converts: true}
	}
	if back, ok := k.Engine.DDL().Convert(w, &has); ok && back.SQL != "" {
		a.Back[w.Name] = engine.Source{SQL: back.SQL, Converts: true}
	}
	for _, r := range k.Engine.DDL().Alter(a).BeforeApply {
		if r.About != w.Name {
			continue
		}
		one, err := k.DB.Count(ctx, r.Query)
		if err != nil {
			return 0, err
		}
		n = max(n, one)
	}
	return n, nil
}

// fillKept writes fills into a kept table, each worked out over the rows as they were.
func (h *Handover) fillKept(ctx context.Context, db engine.Database, e runner.Engine, name string,
	list []KeptFill) error {
	live, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	kept := live.Table(name)
	if kept == nil {
		return nil
	}
	// The values get columns of their own first, and then the names of those they replace.
	fresh := func(f KeptFill) string {
		if f.Has {
			return schema.Cut(schema.OwnPrefix + "new_" + f.Column.Name)
		}
		return f.Column.Name
	}
	to := kept.Clone()
	to.Text = ""
	a := engine.Between(kept, to)
	var names []string
	for _, f := range list {
		c := &sqlschema.Column{
			Name:      fresh(f),
			Type:      f.Column.Type,
			SQLType:   f.Column.SQLType,
			Collation: f.Column.Collation,
		}
		if f.Column.Values != nil { // the new migration may create the enum type
			c.Type, c.SQLType = schema.Type{Kind: schema.Text}, "text"
		}
		to.Columns = append(to.Columns, c)
		a.Forward[c.Name] = engine.Source{SQL: f.SQL}
		names = append(names, f.Column.Name)
	}
	for _, s := range e.DDL().Alter(a).Steps {
		if err := runner.StepAll(ctx, db, s.Apply); err != nil {
			return fmt.Errorf("the rows of %s that are restored cannot be given %s: %w", list[0].Table,
				strings.Join(names, ", "), err)
		}
		h.Done(func(ctx context.Context) error { return runner.StepAll(ctx, db, s.Undo) })
	}
	for _, f := range list {
		if !f.Has {
			continue
		}
		old := runner.Replaced(f.Column.Name)
		if f.Loses {
			old = schema.Cut("old_" + f.Column.Name)
		}
		for _, n := range [][2]string{{f.Column.Name, old}, {fresh(f), f.Column.Name}} {
			if err := runner.RenameKept(ctx, db, e, name, n[0], n[1]); err != nil {
				return err
			}
			h.Done(func(ctx context.Context) error { return runner.RenameKept(ctx, db, e, name, n[1], n[0]) })
		}
	}
	return nil
}
