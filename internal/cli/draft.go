package cli

// This file is the commands draft and prove.

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/project"
	"erbario/internal/proof"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/words"
)

// answerFlags are the flags by which questions are answered.
type answerFlags struct {
	rename, fill, drop []string
}

// answers reads the flags. A literal is written as the column's type wants it,
// so the wanted schema is needed to read it.
func (f answerFlags) answers(s *draft.State) (plan.Answers, []string, error) {
	out := plan.Answers{Fill: map[string]plan.Fill{}, Drop: map[string]bool{}}
	var said []string
	for _, r := range f.rename {
		old, to, ok := strings.Cut(r, "=")
		parts := strings.Split(old, ".")
		if !ok || to == "" || len(parts) > 3 || slices.Contains(parts, "") {
			return out, nil, wrongUse("--rename %s: write TABLE=NEW, TABLE.COLUMN=NEW or TABLE.COLUMN.VALUE=NEW", r)
		}
		parts = append(parts, "", "")
		out.Rename = append(out.Rename, plan.Rename{Table: parts[0], Column: parts[1], Value: parts[2], To: to})
		said = append(said, "--rename "+r)
	}
	for _, r := range f.fill {
		name, value, ok := strings.Cut(r, "=")
		if !ok || !strings.Contains(name, ".") {
			return out, nil, wrongUse("--fill %s: write TABLE.COLUMN=VALUE, or TABLE.COLUMN=sql:EXPRESSION", r)
		}
		fill, err := literalFor(s, name, value)
		if err != nil {
			return out, nil, wrongUse("--fill %s: %v", r, err)
		}
		out.Fill[name] = fill
		said = append(said, "--fill "+r)
	}
	for _, d := range f.drop {
		if d == "" {
			return out, nil, wrongUse("--drop: write a table, or TABLE.COLUMN")
		}
		out.Drop[d] = true
		said = append(said, "--drop "+d)
	}
	return out, said, nil
}

// literalFor reads a value given on the command line as one of the column.
func literalFor(s *draft.State, name, value string) (plan.Fill, error) {
	if sql, ok := strings.CutPrefix(value, "sql:"); ok {
		for _, p := range s.Engine.Split(sql + ";") {
			if p.Comment || p.Bad != "" || p.Text != strings.TrimSpace(sql) {
				return plan.Fill{}, fmt.Errorf("write one expression, without ; and comments")
			}
		}
		return plan.Fill{SQL: sql}, nil
	}
	table, column, _ := strings.Cut(name, ".")
	var col *schema.Column
	for _, t := range s.Wanted.Tables {
		if t.Model != table && !strings.EqualFold(t.Name, table) {
			continue
		}
		for _, c := range t.Columns {
			if c.Field == column || strings.EqualFold(c.Name, column) {
				col = c
			}
		}
	}
	if col == nil {
		return plan.Fill{}, fmt.Errorf("the models have no column %s", name)
	}
	v := schema.Value{Kind: schema.TextValue, Text: value}
	switch k := col.Type.Kind; {
	case value == "now" && (k == schema.Timestamp || k == schema.Datetime):
		v.Kind = schema.NowValue
	case value == "today" && k == schema.Date:
		v.Kind = schema.TodayValue
	case k.Number():
		v.Kind = schema.NumberValue
		if !number(value) {
			return plan.Fill{}, fmt.Errorf("%q is not a number; for an expression write sql:EXPRESSION", value)
		}
	case k == schema.Boolean:
		v.Kind = schema.BooleanValue
		if value != "true" && value != "false" {
			return plan.Fill{}, fmt.Errorf("write true or false, not %q", value)
		}
	case k == schema.Choice && !slices.Contains(col.Type.Choices, value):
		return plan.Fill{}, fmt.Errorf("%q is none of %s", value, strings.Join(col.Type.Choices, ", "))
	}
	sql, err := s.Engine.Literal(v, col.Type)
	return plan.Fill{SQL: sql, Literal: true}, err
}

func number(s string) bool {
	s = strings.TrimPrefix(s, "-")
	whole, frac, point := strings.Cut(s, ".")
	digits := func(s string) bool {
		return s != "" && strings.Trim(s, "0123456789") == ""
	}
	return digits(whole) && (!point || digits(frac))
}

func (a *app) draftCommand() *cli.Command {
	var f answerFlags
	var byHand, apply bool
	return &cli.Command{
		Name: "draft", ArgsUsage: "TITLE…", Usage: "write the migration that closes the difference, proved first",
		Description: "What only a person can decide is asked, each question with the flag that\nanswers it (exit 4). The migration is run forward, back and forward again on\nscratch before it is written.\n\n  erbario draft label specimens --fill specimens.label=unlabelled",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "rename", Usage: "a table, column or choice has another name: `TABLE.OLD=NEW`", Destination: &f.rename},
			&cli.StringSliceFlag{Name: "fill", Usage: "for rows that have none; also =sql:EXPRESSION: `TABLE.COLUMN=VALUE`", Destination: &f.fill},
			&cli.StringSliceFlag{Name: "drop", Usage: "this table, or TABLE.COLUMN, may go: `NAME`", Destination: &f.drop},
			&cli.BoolFlag{Name: "apply", Usage: "apply it at once", Destination: &apply},
			&cli.BoolFlag{Name: "by-hand", Usage: "write an empty one to fill in", Destination: &byHand},
		},
		DisableSliceFlagSeparator: true,
		Action: func(ctx context.Context, c *cli.Command) error {
			title := strings.Join(c.Args().Slice(), " ")
			if strings.TrimSpace(title) == "" {
				return wrongUse("erbario draft needs a title, such as: erbario draft first sheets")
			}
			p, err := a.project()
			if err != nil {
				return err
			}
			l, err := a.open(ctx, p, a.database, engine.ReadOnly, false)
			if err != nil {
				return err
			}
			defer l.Close()
			s, err := a.state(ctx, p, l)
			if err != nil {
				return err
			}
			if err := s.Standing.Problem(); err != nil {
				return err
			}
			if byHand {
				return a.draftByHand(p, s, title)
			}
			answers, said, err := f.answers(s)
			if err != nil {
				return err
			}
			d, err := s.Make(ctx, draft.Request{Title: title, Answers: answers, Said: said, Now: time.Now(), Rows: !l.Protected})
			if err != nil {
				return err
			}
			if err := a.refused(l, d); err != nil {
				return err
			}
			if d.Migration == nil {
				if a.json {
					return a.document(map[string]any{"database": l.Name, "migration": nil, "changes": []jsonChange{}})
				}
				if len(s.Standing.Waiting) > 0 {
					a.out.line("nothing to draft: all that differs is drafted and waits")
					a.next("erbario apply")
				} else {
					a.out.printf("nothing to draft: %s is as the models declare", l.Name)
				}
				return nil
			}
			m := d.Migration
			if err := project.WriteFile(filepath.Join(p.MigrationsDir(), m.FileName()), m.Text); err != nil {
				return err
			}
			if a.json {
				doc := map[string]any{"database": l.Name, "migration": m.ID, "file": fileOf(m), "changes": jsonChanges(d.Plan.Changes, d.Plan.Effects), "steps": len(m.Steps), "proof": m.Proof, "applied": false}
				if apply {
					l.Close()
					if err := a.applyQuietly(ctx, p, l.Name); err != nil {
						return err
					}
					doc["applied"] = true
				}
				return a.document(doc)
			}
			a.out.line(a.out.sign("+", fileOf(m)))
			for i, st := range m.Steps {
				note := ""
				if st.Note != "" {
					note = a.out.paint(styleDim, "  ("+cell(st.Note)+")")
				}
				a.out.printf("  step %d  %s%s", i+1, cell(st.Title), note)
				if len(st.Loses) > 0 && st.Kept {
					a.out.printf("          %s: what it holds is kept, and comes back with the undo", cell(strings.Join(st.Loses, ", ")))
				}
			}
			a.out.line("  " + m.Proof)
			if apply {
				l.Close()
				return a.apply(ctx, p, l.Name, applyOptions{wait: time.Minute})
			}
			a.next("erbario apply")
			return nil
		},
	}
}

// refused tells why a draft was not written, or nil.
func (a *app) refused(l *live, d *draft.Draft) error {
	switch {
	case len(d.Plan.Questions) > 0:
		if a.json {
			a.document(map[string]any{"database": l.Name, "migration": nil, "changes": jsonChanges(d.Plan.Changes, d.Plan.Effects), "questions": jsonQuestions(d.Plan.Questions)})
			return exit(exitQuestion)
		}
		a.questions(d.Plan.Questions)
		return &exitError{code: exitQuestion, err: fmt.Errorf("%s to answer: nothing was written", plural(len(d.Plan.Questions), "question", "questions"))}
	case d.Outcome != nil && len(d.Outcome.Differ) > 0:
		if a.json {
			a.document(map[string]any{"database": l.Name, "migration": nil, "not_proved": d.Outcome.Differ})
			return exit(exitFailed)
		}
		for _, x := range d.Outcome.Differ {
			a.err.line("  " + clean(x))
		}
		return fmt.Errorf("the migration could not be proved: nothing was written")
	case len(d.InTheWay) > 0:
		type way struct {
			Sentence string     `json:"sentence"`
			Rows     int64      `json:"rows"`
			Columns  []string   `json:"columns"`
			Values   [][]string `json:"values"`
		}
		var list []way
		for _, w := range d.InTheWay {
			list = append(list, way{w.Sentence, w.Count, w.Sample.Columns, w.Sample.Values})
			if !a.json {
				a.inTheWay(w)
			}
		}
		if a.json {
			a.document(map[string]any{"database": l.Name, "migration": nil, "in_the_way": list})
			return exit(exitFailed)
		}
		return fmt.Errorf("rows of %s stand in the way: change them, or the models; nothing was written", l.Name)
	}
	return nil
}

// inTheWay shows rows that stand against a requirement.
func (a *app) inTheWay(w *runner.InTheWay) {
	a.err.line(a.err.paint(styleBad, "in the way: ") + clean(w.Sentence))
	for _, line := range sample(w.Sample, "    ") {
		a.err.line(line)
	}
	if n := w.Count - int64(len(w.Sample.Values)); n > 0 {
		a.err.printf("    and %s more", words.Thousands(n))
	}
}

func (a *app) draftByHand(p *project.Project, s *draft.State, title string) error {
	m := s.ByHand(draft.Request{Title: title, Now: time.Now()})
	path := filepath.Join(p.MigrationsDir(), m.FileName())
	if err := project.WriteFile(path, m.Text); err != nil {
		return err
	}
	if a.json {
		return a.document(map[string]any{"migration": m.ID, "file": fileOf(m)})
	}
	a.out.line(a.out.sign("+", fileOf(m)))
	a.next("fill in apply and undo, then erbario prove")
	return nil
}

func (a *app) proveCommand() *cli.Command {
	var all bool
	return &cli.Command{
		Name: "prove", ArgsUsage: "[ID]", Usage: "run a migration forward, back and forward again on scratch, with rows",
		Description: "Without ID, the newest. The outcome is written into the file's head. --all runs\nevery migration from nothing and holds the end against the models (exit 3 where\nthey differ): a check for CI that needs no database.",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "all of them, from nothing, and the end against the models", Destination: &all}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := atMost(c, 1); err != nil {
				return err
			}
			if all && c.Args().Present() {
				return wrongUse("--all proves every migration: leave %s out", c.Args().First())
			}
			p, err := a.project()
			if err != nil {
				return err
			}
			var list []engine.Engine
			if all {
				list = p.Engines()
				if len(list) == 0 {
					return fmt.Errorf("no database of the project has a URL that is known here, so no engine is known")
				}
			} else {
				d, err := p.Database(a.database)
				if err != nil {
					return err
				}
				e, err := d.Engine()
				if err != nil {
					return err
				}
				list = []engine.Engine{e}
			}
			var proved []jsonProof
			var failed, differs error
			for _, e := range list {
				done, difference, err := a.prove(ctx, p, e, c.Args().First(), all)
				proved = append(proved, done...)
				if err != nil && failed == nil {
					failed = err
				}
				if difference != nil {
					differs = difference
				}
			}
			if a.json {
				if proved == nil {
					proved = []jsonProof{}
				}
				a.document(map[string]any{"proofs": proved, "models_agree": differs == nil})
			}
			if failed != nil {
				return failed
			}
			return differs
		},
	}
}

type jsonProof struct {
	Migration string   `json:"migration"`
	Engine    string   `json:"engine"`
	Proved    bool     `json:"proved"`
	Outcome   string   `json:"outcome"`
	Differ    []string `json:"differ,omitempty"`
}

// prove proves one migration or all, and tells whether the end is as the models
// declare.
func (a *app) prove(ctx context.Context, p *project.Project, e engine.Engine, id string, all bool) (out []jsonProof, difference, err error) {
	files, err := p.Migrations(e)
	if err != nil {
		return nil, nil, err
	}
	if len(files) == 0 && !all {
		return nil, nil, fmt.Errorf("there is no migration yet: write one with erbario draft TITLE")
	}
	todo := files
	if !all {
		m := files[len(files)-1]
		if id != "" {
			if m, err = migration.Find(files, id); err != nil {
				return nil, nil, err
			}
		}
		todo = []*migration.Migration{m}
	}
	db, err := e.Scratch(ctx)
	if err != nil {
		return nil, nil, err
	}
	defer db.Close()
	failed := 0
	for _, m := range files {
		if err := runner.MakeFound(ctx, db, m); err != nil {
			return out, nil, err
		}
		start, err := db.Inspect(ctx)
		if err != nil {
			return out, nil, err
		}
		if slices.Contains(todo, m) {
			o, err := proof.Prove(ctx, proof.Input{Engine: e, Start: start, Migration: m})
			if err != nil {
				return out, nil, err
			}
			m.SetProof(o.Sentence())
			if text := migration.WithHead(m); text != m.Text {
				if err := project.WriteFile(m.Path, text); err != nil {
					return out, nil, err
				}
				m.Text = text
			}
			ok := len(o.Differ) == 0
			out = append(out, jsonProof{m.ID, e.Name(), ok, m.Proof, o.Differ})
			if !ok {
				failed++
			}
			if !a.json {
				a.showProof(m, o)
			}
			if !all {
				break
			}
		}
		if err := proof.Run(ctx, db, e, m, false); err != nil {
			return out, nil, fmt.Errorf("%w; what follows cannot be proved", err)
		}
	}
	if failed > 0 {
		return out, nil, fmt.Errorf("%s not proved", plural(failed, "migration is", "migrations are"))
	}
	if !all {
		return out, nil, nil
	}
	wanted, err := a.wanted(p, e)
	if err != nil {
		return out, nil, err
	}
	end, err := db.Inspect(ctx)
	if err != nil {
		return out, nil, err
	}
	changes := diff.Schemas(end, wanted)
	if len(changes) == 0 {
		if !a.json {
			a.out.printf("%s from nothing end as the models declare", plural(len(files), "migration", "migrations"))
		}
		return out, nil, nil
	}
	if !a.json {
		a.out.line("")
		a.out.line(a.out.paint(styleHead, "the models declare more than the migrations make"))
		a.changes(changes, nil)
		a.next("erbario draft TITLE")
	}
	return out, &exitError{code: exitDiffers, err: fmt.Errorf("the end of the %s migrations differs from the models in %s", e.Name(), plural(len(changes), "change", "changes"))}, nil
}

func (a *app) showProof(m *migration.Migration, o *proof.Outcome) {
	sign := "+"
	if len(o.Differ) > 0 {
		sign = "-"
	}
	a.out.line(a.out.sign(sign, m.ID))
	a.out.line("  " + clean(o.Sentence()))
	for _, d := range o.Differ[min(1, len(o.Differ)):] {
		a.out.line("  " + clean(d))
	}
}
