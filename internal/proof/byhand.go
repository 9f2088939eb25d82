package proof

// This file sees to the steps that a person wrote: what they touch is told by their words
// alone, so more tables have rows, rows are made to meet their conditions, and it is noted
// whether they changed any.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/engine/sqltok"
	"erbario/internal/migration"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// byHand is what is known of the steps of a migration that a person wrote.
type byHand struct {
	in       Input
	written  []bool         // by step
	steps    map[string]int // the statements, of either way, that are to change rows, and their steps, from 1
	forward  []string       // those of the way forward
	changed  map[string]bool
	routines map[string]bool
}

// newByHand reads the steps that a person wrote. file is the migration as it is in its
// file: the sums of what was drafted are of that.
func newByHand(in Input, file *migration.Migration) *byHand {
	h := &byHand{in: in, steps: map[string]int{}, changed: map[string]bool{}, routines: routines(in)}
	for i := range in.Migration.Steps {
		s := &in.Migration.Steps[i]
		h.written = append(h.written, written(in, file, &file.Steps[i]))
		if !h.written[i] {
			continue
		}
		for n, st := range append(slices.Clone(s.Apply), s.Undo...) {
			list := in.Engine.SQL().Lex(st.SQL)
			drafted := slices.ContainsFunc(sqltext.Touches(list, nil).Tables,
				func(t string) bool { return schema.Own(t) || strings.HasPrefix(t, "sqlite_") }) ||
				n >= len(s.Apply) && fills(list)
			if sqltext.ChangesRows(list) && !drafted {
				h.steps[st.SQL] = i + 1
				if n < len(s.Apply) {
					h.forward = append(h.forward, st.SQL)
				}
			}
		}
	}
	return h
}

// fills tells whether a statement gives a value to rows that have none, as undos are
// drafted that have to: there may well be no such row, and it replaces nothing.
func fills(list []sqltok.Token) bool {
	n := len(list)
	return n > 9 && list[0].Word() == "UPDATE" && list[2].Word() == "SET" && list[n-4].Word() == "WHERE" &&
		list[n-3].Name() == list[3].Name() && list[n-2].Word() == "IS" && list[n-1].Word() == "NULL"
}

// written tells whether a person wrote a step, or nobody can tell who did.
func written(in Input, m *migration.Migration, s *migration.Step) bool {
	return !in.Drafted && (m.ByHand || len(m.Drafted) == 0 || m.ByPerson(s))
}

// routines are the functions and procedures of a database, and those that the migration
// creates, in lower case.
func routines(in Input) map[string]bool {
	out := routinesOf(in.Start)
	for _, sql := range append(in.Migration.SQL(false), in.Migration.SQL(true)...) {
		list := in.Engine.SQL().Lex(sql)
		for i := 0; i+1 < len(list); i++ {
			if w := list[i].Word(); (w == "FUNCTION" || w == "PROCEDURE") && list[i+1].Named() {
				out[strings.ToLower(list[i+1].Name())] = true
			}
		}
	}
	return out
}

// routinesOf are the functions and procedures of a schema, in lower case.
func routinesOf(s *sqlschema.Schema) map[string]bool {
	out := map[string]bool{}
	for _, o := range s.Others {
		if o.Kind == "function" || o.Kind == "procedure" {
			name, _, _ := strings.Cut(o.Name, "(")
			out[strings.ToLower(strings.Trim(name, "\"`"))] = true
		}
	}
	return out
}

// touched are the tables, in lower case, that are to have rows: those that the migration
// names, and what steps by hand reach by way of them; all of them where that cannot be
// told.
func (p *prover) touched() map[string]bool {
	out := map[string]bool{}
	all := false
	for i := range p.Migration.Steps {
		s := &p.Migration.Steps[i]
		hand := p.hand.written[i]
		for _, st := range append(slices.Clone(s.Apply), s.Undo...) {
			t := sqltext.Touches(p.Engine.SQL().Lex(st.SQL), p.hand.routines)
			if hand && t.Unsure != "" && p.out.Unsure == "" {
				p.out.Unsure = fmt.Sprintf("step %d (%s)", i+1, t.Unsure)
				all = true
			}
			for _, name := range t.Tables {
				if schema.Own(name) {
					continue
				}
				out[strings.ToLower(name)] = true
				if hand {
					p.reach(strings.ToLower(name), out, &all)
				}
			}
		}
	}
	if all {
		for _, t := range p.Start.Tables {
			if !schema.Own(t.Name) {
				out[strings.ToLower(t.Name)] = true
			}
		}
	}
	return out
}

// reach adds what a change of a table's rows can change beside it: the tables behind a
// view, those whose references go along, and those that triggers name.
func (p *prover) reach(name string, out map[string]bool, all *bool) {
	add := func(n string) {
		if n = strings.ToLower(n); !out[n] && !schema.Own(n) {
			out[n] = true
			p.reach(n, out, all)
		}
	}
	if v := p.Start.View(name); v != nil {
		for _, n := range sqltext.Touches(p.Engine.SQL().Lex(v.SQL.Text), nil).Tables {
			add(n)
		}
	}
	for _, o := range p.Start.Tables {
		for _, k := range o.ForeignKeys {
			if strings.EqualFold(k.Table, name) && k.OnDelete != schema.Restrict && k.OnDelete != schema.NoAction {
				add(o.Name)
			}
		}
	}
	t := p.Start.Table(name)
	if t == nil {
		return
	}
	for _, g := range t.Triggers {
		if g.Purpose.OfTrigger() && g.Purpose != schema.ForChildren && g.Purpose != schema.ForGuardChildren {
			continue // ours: it changes nothing else
		}
		found := sqltext.Touches(p.Engine.SQL().Lex(g.SQL.Text), nil)
		for _, n := range found.Tables {
			add(n)
		}
		*all = *all ||
			slices.ContainsFunc(p.Engine.SQL().Lex(g.SQL.Text),
				func(t sqltok.Token) bool { return t.Word() == "EXECUTE" || t.Word() == "CALL" })
	}
}

// hints are values, by column in lower case, that meet the conditions of the steps by hand
// on a table: constants with which a column is compared. An undo has the rows that its
// step changed: rows made to look like those would be its only by chance.
func (h *byHand) hints(table string) map[string][]string {
	out := map[string][]string{}
	for _, sql := range h.forward {
		list := h.in.Engine.SQL().Lex(sql)
		if !slices.ContainsFunc(sqltext.Touches(list, nil).Tables,
			func(n string) bool { return strings.EqualFold(n, table) }) {
			continue
		}
		where := false
		for i := 0; i+2 < len(list); i++ {
			switch list[i].Word() {
			case "WHERE", "ON", "WHEN", "AND", "OR":
				where = true
			case "SET":
				where = false
			}
			if !where || !list[i].Named() {
				continue
			}
			name := strings.ToLower(list[i].Name())
			constant := func(j int) (string, bool) {
				if j >= len(list) {
					return "", false
				}
				t := list[j]
				switch b := t.Text[0]; {
				case b == '\'' || b >= '0' && b <= '9':
					return t.Text, true
				default:
					return t.Text, t.Word() == "TRUE" || t.Word() == "FALSE"
				}
			}
			add := func(values ...string) { out[name] = append(out[name], values...) }
			switch op := list[i+1]; {
			case op.Text == "=" || op.Text == "<=" || op.Text == ">=" || op.Word() == "LIKE":
				if v, ok := constant(i + 2); ok {
					add(strings.ReplaceAll(v, "%", ""))
				}
			case op.Text == "<" || op.Text == ">" || op.Text == "<>" || op.Text == "!=":
				if v, ok := constant(i + 2); ok && v[0] != '\'' {
					add(v+" "+map[string]string{"<": "- 1"}[op.Text],
						v+map[string]string{">": " + 1", "<>": " + 1", "!=": " + 1"}[op.Text])
				}
			case op.Word() == "IN" && list[i+2].Text == "(", op.Word() == "BETWEEN":
				if v, ok := constant(i + 3); ok && op.Word() == "IN" {
					add(v)
				} else if v, ok := constant(i + 2); ok {
					add(v)
				}
			case op.Word() == "IS" && list[i+2].Word() == "NULL":
				add("NULL")
			}
		}
	}
	return out
}

// watch is the database of a proof that notes which steps by hand change rows.
func (h *byHand) watch(db engine.Database) engine.Database {
	if len(h.steps) == 0 {
		return db
	}
	return &watched{Database: db, hand: h}
}

// idle are the steps that were to change rows and changed none.
func (h *byHand) idle() []int {
	var out []int
	for sql, n := range h.steps {
		if !h.changed[sql] && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

// watched is a database that notes which steps by hand change rows.
type watched struct {
	engine.Database
	hand *byHand
}

// Unwrap is the database itself.
func (w *watched) Unwrap() engine.Database { return w.Database }

// Step runs one statement of a migration.
func (w *watched) Step(ctx context.Context, sql string) error {
	if _, ok := w.hand.steps[sql]; !ok || w.hand.changed[sql] {
		return w.Database.Step(ctx, sql)
	}
	before, err := w.rows(ctx)
	if err != nil {
		return err
	}
	if err := w.Database.Step(ctx, sql); err != nil {
		return err
	}
	after, err := w.rows(ctx)
	w.hand.changed[sql] = err != nil || before != after
	return err
}

// rows are all rows of all tables, as one text.
func (w *watched) rows(ctx context.Context) (string, error) {
	s, err := w.Inspect(ctx)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	for _, t := range s.Tables {
		if schema.Own(t.Name) || t.Options.Virtual != "" && len(t.Held) == 0 {
			continue
		}
		rows, err := w.Sample(ctx, "SELECT * FROM "+w.hand.in.Engine.SQL().QuoteTable(t.Name), 0)
		if err != nil {
			return "", err
		}
		var list []string
		for _, r := range rows.Values {
			list = append(list, strings.Join(r, ", "))
		}
		slices.Sort(list)
		b.WriteString(t.Name + "\n" + strings.Join(list, "\n") + "\n")
	}
	return b.String(), nil
}
