package cli

// This file is the commands diff and look: what is there, and what would change.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/plan"
	"erbario/internal/project"
	"erbario/internal/schema"
)

type jsonChange struct {
	Kind   string `json:"kind"`
	Table  string `json:"table"`
	Name   string `json:"name,omitempty"`
	What   string `json:"what,omitempty"`
	From   string `json:"from,omitempty"`
	To     string `json:"to,omitempty"`
	Effect string `json:"effect,omitempty"`
}

func jsonChanges(list []diff.Change, effects map[string]string) []jsonChange {
	out := []jsonChange{}
	for _, c := range list {
		out = append(out, jsonChange{string(c.Kind), c.Table, c.Name, c.What, c.From, c.To, effects[c.Table]})
	}
	return out
}

type jsonQuestion struct {
	About string   `json:"about"`
	Text  string   `json:"text"`
	Rows  int64    `json:"rows"`
	Flags []string `json:"flags"`
	Other string   `json:"other,omitempty"`
	// The first rows concerned, where they tell more than their number.
	Columns []string   `json:"columns,omitempty"`
	Values  [][]string `json:"values,omitempty"`
}

func jsonQuestions(list []plan.Question) []jsonQuestion {
	out := []jsonQuestion{}
	for _, q := range list {
		j := jsonQuestion{About: q.About, Text: q.Text, Rows: q.Rows, Flags: []string{}, Other: q.Other, Columns: q.Sample.Columns, Values: q.Sample.Values}
		for _, c := range q.Choices {
			j.Flags = append(j.Flags, shellFlags(c.Flags))
		}
		out = append(out, j)
	}
	return out
}

func (a *app) diffCommand() *cli.Command {
	var showSQL, exitCode, undeclared bool
	return &cli.Command{
		Name: "diff", Usage: "show what differs between the models and the live database",
		Description: "In two groups: what is drafted and waits, and what is not drafted yet.\n+ comes, ~ changes, - goes. It only reads.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "sql", Usage: "show the SQL of each step too", Destination: &showSQL},
			&cli.BoolFlag{Name: "exit-code", Usage: "exit 3 if there is a difference or something waits", Destination: &exitCode},
			&cli.BoolFlag{Name: "undeclared", Usage: "list what is in the database and no migration made", Destination: &undeclared},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.reading(ctx, c, 0, func(p *project.Project, l *live) error {
				s, err := a.state(ctx, p, l)
				if err != nil {
					return err
				}
				pl, err := s.Changes(ctx)
				if err != nil {
					return err
				}
				a.tellNewer(l.Name, s.Standing.Newer)
				waiting := []string{}
				for _, m := range s.Standing.Waiting {
					waiting = append(waiting, m.ID)
				}
				differs := len(pl.Changes) > 0 || len(waiting) > 0
				if a.json {
					doc := map[string]any{
						"database": l.Name, "waiting": waiting, "drafted": jsonChanges(s.Drafted(), nil), "changes": jsonChanges(pl.Changes, pl.Effects),
						"questions": jsonQuestions(pl.Questions), "in_the_way": jsonWays(pl.InTheWay), "undeclared": len(pl.Undeclared),
					}
					if undeclared {
						doc["undeclared_list"] = jsonChanges(pl.Undeclared, nil)
					}
					if showSQL {
						doc["sql"] = stepsSQL(pl)
					}
					a.document(doc)
				} else {
					a.showDiff(l, s, pl, showSQL, undeclared)
				}
				if exitCode && differs {
					return exit(exitDiffers)
				}
				return nil
			})
		},
	}
}

func stepsSQL(pl *plan.Plan) []string {
	out := []string{}
	for _, st := range pl.Steps {
		out = append(out, st.Apply...)
	}
	return out
}

func (a *app) showDiff(l *live, s *draft.State, pl *plan.Plan, showSQL, undeclared bool) {
	if l.absent {
		a.err.printf("%s is not there yet: erbario apply makes it", l.Shown)
	}
	if len(s.Standing.Waiting) > 0 {
		a.out.line(a.out.paint(styleHead, "drafted, and waiting to be applied"))
		for _, m := range s.Standing.Waiting {
			a.out.line("  " + m.ID)
		}
		a.changes(s.Drafted(), nil)
		if len(pl.Changes) > 0 {
			a.out.line("")
			a.out.line(a.out.paint(styleHead, "not drafted yet"))
		}
	}
	a.changes(pl.Changes, pl.Effects)
	if showSQL && len(pl.Steps) > 0 {
		a.out.line("")
		for _, st := range pl.Steps {
			for _, sql := range st.Apply {
				a.out.line(clean(sql) + ";")
			}
		}
	}
	if showSQL && len(pl.Questions) > 0 {
		a.err.line("the SQL for tables with a question is known once it is answered")
	}
	if undeclared && len(pl.Undeclared) > 0 {
		a.out.line("")
		a.out.line(a.out.paint(styleHead, "undeclared, and left alone"))
		var table [][]string
		for _, c := range pl.Undeclared {
			table = append(table, []string{"  " + cell(c.Target()), strings.TrimPrefix(string(c.Kind), "drop "), cell(c.What)})
		}
		for _, line := range columns(table) {
			a.out.line(line)
		}
	}
	switch {
	case len(pl.Changes) == 0 && len(s.Standing.Waiting) == 0:
		a.out.printf("%s is as the models declare", l.Name)
	case len(pl.Changes) == 0:
		a.out.line("")
		a.out.line("all that differs is drafted")
	}
	if n := len(pl.Undeclared); n > 0 && !undeclared {
		a.err.printf("%s in the database that no migration made, left alone (--undeclared lists it)", plural(n, "thing", "things"))
	}
	if len(pl.Questions) > 0 {
		a.err.line("")
	}
	a.questions(pl.Questions)
	if len(pl.InTheWay) > 0 {
		a.err.line("")
	}
	a.ways(pl.InTheWay)
	switch {
	case len(pl.Changes) > 0:
		a.next("erbario draft TITLE")
	case len(s.Standing.Waiting) > 0:
		a.next("erbario apply")
	}
}

// changes shows changes grouped by table.
func (a *app) changes(list []diff.Change, effects map[string]string) {
	type row struct {
		head bool
		sign string
		cell []string
	}
	var table []row
	last := ""
	for _, c := range list {
		if c.Table != last {
			last = c.Table
			head := ""
			switch {
			case c.Kind == diff.AddTable:
				head = cmp.Or(effects[c.Table], "new")
			case c.Kind == diff.DropTable:
				head = "goes"
				if e := effects[c.Table]; e != "" {
					head += "; " + e
				}
			default:
				head = effects[c.Table]
			}
			table = append(table, row{head: true, cell: []string{c.Table, head}})
		}
		switch t := c.Object.(type) {
		case *schema.Table:
			for _, one := range partsOf(t) {
				table = append(table, row{sign: c.Kind.Sign(), cell: one})
			}
			continue
		}
		if c.What == "" {
			continue // told with the column it belongs to
		}
		name := c.Name
		switch c.Object.(type) {
		case *schema.Index, *schema.Check, *schema.Trigger:
			name = ""
		}
		if name == "" {
			table = append(table, row{sign: c.Kind.Sign(), cell: []string{c.What}})
		} else {
			table = append(table, row{sign: c.Kind.Sign(), cell: []string{name, c.What}})
		}
		if c.Note != "" {
			table = append(table, row{cell: []string{c.Note}})
		}
	}
	width := 0
	for _, r := range table {
		if !r.head && len(r.cell) == 2 {
			width = max(width, len([]rune(r.cell[0])))
		}
	}
	width = min(width, 30)
	for i, r := range table {
		if r.head {
			if i > 0 {
				a.out.line("")
			}
			text := a.out.paint(styleHead, cell(r.cell[0]))
			if r.cell[1] != "" {
				text += "  " + a.out.paint(styleDim, cell(r.cell[1]))
			}
			a.out.line(text)
			continue
		}
		text := cell(r.cell[0])
		if len(r.cell) == 2 {
			text = fmt.Sprintf("%-*s  %s", width, cell(r.cell[0]), cell(r.cell[1]))
		}
		if r.sign == "" {
			a.out.line("    " + a.out.paint(styleDim, text))
			continue
		}
		a.out.line("  " + a.out.sign(r.sign, strings.TrimRight(text, " ")))
	}
}

// partsOf lists the parts of a whole table as lines of a diff.
func partsOf(t *schema.Table) [][]string {
	var out [][]string
	for _, c := range diff.Tables(&schema.Table{Name: t.Name}, t) {
		switch c.Object.(type) {
		case *schema.Index, *schema.Check, *schema.Trigger:
			if c.What != "" {
				out = append(out, []string{c.What})
			}
		case *schema.Column:
			what := c.What
			if slices.Equal(t.Key(), []string{c.Name}) {
				what += ", key"
				if t.PrimaryKey.Autoincrement {
					what += ", generated"
				}
			}
			out = append(out, []string{c.Name, what})
		case *schema.PrimaryKey:
			if len(t.Key()) > 1 {
				out = append(out, []string{"key " + strings.Join(t.Key(), ", ")})
			}
		case *schema.ForeignKey:
			if c.What != "" {
				out = append(out, []string{c.Name, c.What})
			}
		}
	}
	return out
}

// questions shows what only a person can decide, with the flags that answer.
func (a *app) questions(list []plan.Question) {
	if len(list) == 0 {
		return
	}
	for i, q := range list {
		a.err.printf("%s %s", a.err.paint(styleWarn, fmt.Sprintf("question %d:", i+1)), cell(q.Text))
		for _, line := range sample(q.Sample, "    ") {
			a.err.line(a.err.paint(styleDim, line))
		}
		a.more(q.Rows, q.Sample)
		a.choices(q.Choices)
		if q.Other != "" {
			a.err.printf("    %s", cell(q.Other))
		}
	}
}

// choices shows the flags that answer something.
func (a *app) choices(list []plan.Choice) {
	var lines [][]string
	for _, c := range list {
		lines = append(lines, []string{"    " + cell(shellFlags(c.Flags)), c.Words})
	}
	for _, line := range columns(lines) {
		a.err.line(line)
	}
}

func (a *app) lookCommand() *cli.Command {
	count := 5
	return &cli.Command{
		Name: "look", ArgsUsage: "[TABLE]", Usage: "show the live tables; or one table whole, with a few rows",
		Flags: []cli.Flag{&cli.IntFlag{Name: "rows", Usage: "show so many rows of the table (`N`)", Destination: &count, Value: 5}},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.reading(ctx, c, 1, func(_ *project.Project, l *live) error {
				s, err := l.db.Inspect(ctx)
				if err != nil {
					return err
				}
				if name := c.Args().First(); name != "" {
					return a.lookTable(ctx, l, s, name, count)
				}
				type jsonTable struct {
					Name    string `json:"name"`
					Columns int    `json:"columns"`
					Rows    *int64 `json:"rows"`
					Error   string `json:"error,omitempty"`
				}
				list := []jsonTable{}
				var table [][]string
				for _, t := range s.Tables {
					if schema.Own(t.Name) {
						continue
					}
					n, unread, err := countOf(ctx, l, t.Name)
					if err != nil {
						return err
					}
					one, size := jsonTable{Name: t.Name, Columns: len(t.Columns)}, unread
					if unread == "" {
						one.Rows, size = &n, rows(n)
					}
					one.Error = unread
					list = append(list, one)
					table = append(table, []string{cell(t.Name), plural(len(t.Columns), "column", "columns"), cell(size)})
				}
				views := []string{}
				for _, v := range s.Views {
					n, err := l.db.Count(ctx, "SELECT 1 FROM "+l.engine.Quote(v.Name))
					size := rows(n)
					if err != nil {
						size = "does not work: " + err.Error()
					}
					views = append(views, v.Name)
					table = append(table, []string{cell(v.Name), "view", cell(size)})
				}
				if a.json {
					return a.document(map[string]any{"database": l.Name, "tables": list, "views": views})
				}
				if len(table) == 0 {
					a.out.printf("%s holds no table yet", l.Name)
				}
				for _, line := range columns(table) {
					a.out.line(line)
				}
				return nil
			})
		},
	}
}

// countOf counts the rows of a table; where the server does not let it be read, unread
// says so.
func countOf(ctx context.Context, l *live, table string) (n int64, unread string, err error) {
	n, err = l.db.Count(ctx, "SELECT 1 FROM "+l.engine.Quote(table))
	if err == nil || ctx.Err() != nil || errors.Is(err, engine.ErrLost) || errors.Is(err, engine.ErrBusy) {
		return n, "", err
	}
	return 0, "its rows cannot be read: " + err.Error(), nil
}

// grid shows rows side by side under their columns' names; where that is wider
// than the terminal, a line for each column and the rows beside each other.
func (a *app) grid(r engine.Rows) {
	grid := [][]string{r.Columns}
	for _, row := range r.Values {
		one := make([]string, len(row))
		for i, v := range row {
			one[i] = short(cell(v), 28)
		}
		grid = append(grid, one)
	}
	widest := 0
	lines := columns(grid)
	for _, line := range lines {
		widest = max(widest, runewidth.StringWidth(line)+2)
	}
	if widest > a.out.width() {
		turned := make([][]string, len(r.Columns))
		for i := range turned {
			for _, row := range grid {
				turned[i] = append(turned[i], row[i])
			}
		}
		for _, line := range columns(turned) {
			a.out.line("  " + line)
		}
		return
	}
	a.out.line("  " + a.out.paint(styleHead, lines[0]))
	for _, line := range lines[1:] {
		a.out.line("  " + line)
	}
}

// lookView shows a few rows of a view.
func (a *app) lookView(ctx context.Context, l *live, v *schema.View, count int) error {
	from := "SELECT * FROM " + l.engine.Quote(v.Name)
	n, err := l.db.Count(ctx, from)
	if err != nil {
		return fmt.Errorf("the view %s does not work: %w", v.Name, err)
	}
	some, err := l.db.Sample(ctx, from, max(count, 1))
	if err != nil {
		return err
	}
	if a.json {
		return a.document(map[string]any{"database": l.Name, "view": v.Name, "rows": n, "columns": some.Columns, "values": append([][]string{}, some.Values...), "sql": v.SQL.Text})
	}
	a.out.line(a.out.paint(styleHead, cell(v.Name)) + "  " + a.out.paint(styleDim, "view, "+rows(n)))
	if len(some.Values) > 0 && count > 0 {
		a.grid(some)
	}
	return nil
}

// liveTable finds a live table by its name or its model's.
func (a *app) liveTable(p *project.Project, l *live, s *schema.Schema, name string) (*schema.Table, error) {
	if t := s.Table(name); t != nil {
		return t, nil
	}
	if w, err := a.wanted(p, l.engine); err == nil {
		for _, m := range w.Tables {
			if t := s.Table(m.Name); t != nil && m.Model == name {
				return t, nil
			}
		}
	}
	var known []string
	for _, o := range s.Tables {
		known = append(known, o.Name)
	}
	return nil, fmt.Errorf("%s has no table %q%s", l.Name, name, meant(name, known))
}

func (a *app) lookTable(ctx context.Context, l *live, s *schema.Schema, name string, count int) error {
	p, err := a.project()
	if err != nil {
		return err
	}
	if v := s.View(name); v != nil {
		return a.lookView(ctx, l, v, count)
	}
	t, err := a.liveTable(p, l, s, name)
	if err != nil {
		return err
	}
	n, unread, err := countOf(ctx, l, t.Name)
	if err != nil {
		return err
	}
	var names []string
	for _, c := range t.Columns {
		names = append(names, l.engine.Quote(c.Name))
	}
	size, sampleRows := unread, engine.Rows{Columns: []string{}}
	if unread == "" {
		size = rows(n)
		if sampleRows, err = l.db.Sample(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+l.engine.Quote(t.Name), max(count, 1)); err != nil {
			return err
		}
	}
	if count <= 0 {
		sampleRows.Values = nil
	}
	if a.json {
		var parts []jsonChange
		for _, c := range diff.Tables(&schema.Table{Name: t.Name}, t) {
			if c.What != "" {
				parts = append(parts, jsonChange{Kind: strings.TrimPrefix(string(c.Kind), "add "), Table: t.Name, Name: c.Name, What: c.What})
			}
		}
		values := sampleRows.Values
		if values == nil {
			values = [][]string{}
		}
		document := map[string]any{"database": l.Name, "table": t.Name, "rows": n, "parts": parts, "columns": sampleRows.Columns, "values": values, "sql": t.Text}
		if unread != "" {
			document["rows"], document["error"] = nil, unread
		}
		return a.document(document)
	}
	a.out.line(a.out.paint(styleHead, cell(t.Name)) + "  " + a.out.paint(styleDim, cell(size)))
	var table [][]string
	for _, part := range partsOf(t) {
		if len(part) == 1 {
			part = []string{"", part[0]}
		}
		table = append(table, []string{"  " + cell(part[0]), cell(part[1])})
	}
	for _, line := range columns(table) {
		a.out.line(line)
	}
	if len(sampleRows.Values) > 0 {
		a.out.line("")
		a.grid(sampleRows)
	}
	return nil
}
