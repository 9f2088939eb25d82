package cli

// This file is the command diff: what would change.

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/plan"
	"erbario/internal/project"
	"erbario/internal/sqlschema"
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
	for _, c := range diff.Told(list) {
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
		j := jsonQuestion{
			About:   q.About,
			Text:    q.Text,
			Rows:    q.Rows,
			Flags:   []string{},
			Other:   q.Other,
			Columns: q.Sample.Columns,
			Values:  q.Sample.Values,
		}
		for _, c := range q.Choices {
			j.Flags = append(j.Flags, shellFlags(c.Flags))
		}
		out = append(out, j)
	}
	return out
}

// diffParts are what a diff shows only where somebody asks.
type diffParts struct{ sql, undeclared bool }

func (a *app) diffCommand() *cli.Command {
	var showSQL, exitCode, undeclared bool
	return &cli.Command{
		Name: "diff", Usage: "show what differs between the models and the live database",
		Description: "In two groups: what is drafted and pending, and what is not drafted yet. The signs\nare + added, ~ changed, - dropped. It only reads.\n\n  erbario diff --sql",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "sql", Usage: "also show the SQL of each step", Destination: &showSQL},
			&cli.BoolFlag{
				Name:        "exit-code",
				Usage:       "exit 3 if there is a difference or a pending migration",
				Destination: &exitCode,
			},
			&cli.BoolFlag{
				Name:        "undeclared",
				Usage:       "list what is in the database and declared nowhere",
				Destination: &undeclared,
			},
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
				hand, err := a.byHand(ctx, p, s, l.Database)
				if err != nil {
					return err
				}
				a.tellNewer(l.Name, s.Status.Newer)
				waiting := []string{}
				for _, m := range s.Status.Pending {
					waiting = append(waiting, m.ID)
				}
				differs := len(pl.Changes) > 0 || len(waiting) > 0
				if a.json {
					doc := map[string]any{
						"database": l.Name, "pending": waiting, "drafted": jsonChanges(s.Drafted(), nil),
						"changes": jsonChanges(pl.Changes, pl.Effects),
						"questions": jsonQuestions(
							pl.Questions,
						), "blocking": jsonWays(pl.InTheWay), "undeclared": len(pl.Undeclared),
						"changed_outside": jsonChanges(hand.changes, nil),
					}
					if len(hand.ways) > 0 {
						doc["fixes"] = hand.ways
					}
					if undeclared {
						doc["undeclared_list"] = jsonChanges(pl.Undeclared, nil)
					}
					if showSQL {
						doc["sql"] = stepsSQL(pl)
					}
					a.document(doc)
				} else {
					a.showDiff(l, s, pl, hand, diffParts{showSQL, undeclared})
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

func (a *app) showDiff(l *live, s *draft.State, pl *plan.Plan, hand *byHand, also diffParts) {
	showSQL, undeclared := also.sql, also.undeclared
	if l.absent {
		a.err.printf("%s does not exist yet: erbario apply creates it", l.Shown)
	}
	if len(s.Status.Pending) > 0 {
		a.out.line(a.out.paint(styleHead, "drafted and pending"))
		for _, m := range s.Status.Pending {
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
				a.out.raw(clean(sql) + ";")
			}
		}
	}
	if showSQL && len(pl.Questions) > 0 {
		a.err.line("the SQL for tables with a question is known once it is answered")
	}
	if undeclared && len(pl.Undeclared) > 0 {
		a.out.line("")
		a.out.line(a.out.paint(styleHead, "undeclared, left alone"))
		var table [][]string
		for _, c := range pl.Undeclared {
			table = append(table, []string{"  " + cell(c.Target()), c.Kind.Thing(), cell(c.What)})
		}
		for _, line := range columns(table) {
			a.out.line(line)
		}
	}
	switch {
	case len(pl.Changes) == 0 && len(s.Status.Pending) == 0:
		a.out.printf("%s matches the models", l.Name)
	case len(pl.Changes) == 0:
		a.out.line("")
		a.out.line("every difference is drafted")
	}
	if len(hand.changes) > 0 {
		a.out.line("")
		a.showByHand("", hand)
	}
	if n := len(pl.Undeclared); n > 0 && !undeclared {
		a.err.line(undeclaredWords(n) + " (--undeclared lists " + oneMany(n, "it", "them") + ")")
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
	case len(s.Status.Pending) > 0:
		a.next("erbario apply")
	}
}

// undeclaredWords counts what is left alone.
func undeclaredWords(n int) string {
	return plural(n, "undeclared object", "undeclared objects") + ", left alone"
}

// rowsShown is how many reference rows of a table are listed.
const rowsShown = 10

// rowWords are the changes of reference rows, of which there can be many.
var rowWords = map[diff.Kind]string{
	diff.AddRow:    "reference rows",
	diff.ChangeRow: "values of reference rows",
	diff.DropRow:   "reference rows",
}

// changes shows changes grouped by table.
func (a *app) changes(list []diff.Change, effects map[string]string) {
	var table []changeRow
	last, told := "", diff.Told(list)
	rows := map[[2]string]int{} // reference rows by table and what becomes of them
	for _, c := range told {
		if rowWords[c.Kind] != "" {
			rows[[2]string{c.Table, string(c.Kind)}]++
		}
	}
	shown := map[[2]string]int{}
	for _, c := range told {
		if c.Table != last {
			last = c.Table
			head := ""
			switch {
			case c.Kind == diff.AddTable:
				head = cmp.Or(effects[c.Table], "new")
			case c.Kind == diff.DropTable:
				head = "dropped"
				if e := effects[c.Table]; e != "" {
					head += "; " + e
				}
			default:
				head = effects[c.Table]
			}
			table = append(table, changeRow{head: true, cell: []string{c.Table, head}})
		}
		if words := rowWords[c.Kind]; words != "" {
			of := [2]string{c.Table, string(c.Kind)}
			if shown[of]++; rows[of] > rowsShown+1 && shown[of] > rowsShown {
				if shown[of] == rowsShown+1 {
					table = append(table, changeRow{
						sign: c.Kind.Sign(),
						cell: []string{fmt.Sprintf("and %s more %s", thousands(int64(rows[of]-rowsShown)), words)},
					})
				}
				continue
			}
		}
		switch t := c.Object.(type) {
		case *sqlschema.Table:
			for _, one := range partsOf(t) {
				table = append(table, changeRow{sign: c.Kind.Sign(), cell: one})
			}
			continue
		}
		name := c.Name
		switch c.Object.(type) {
		case *sqlschema.Index, *sqlschema.Check, *sqlschema.Trigger:
			name = ""
		}
		if name == "" {
			table = append(table, changeRow{sign: c.Kind.Sign(), cell: []string{c.What}})
		} else {
			table = append(table, changeRow{sign: c.Kind.Sign(), cell: []string{name, c.What}})
		}
		if c.Note != "" {
			table = append(table, changeRow{cell: []string{c.Note}})
		}
	}
	a.changeTable(table)
}

// changeRow is a line of a list of changes.
type changeRow struct {
	head bool // of a table
	sign string
	cell []string
}

// changeTable prints a list of changes.
func (a *app) changeTable(table []changeRow) {
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
func partsOf(t *sqlschema.Table) [][]string {
	var out [][]string
	if t.Options.Virtual != "" {
		out = append(out, []string{"virtual table using " + t.Options.Virtual})
	}
	for _, c := range diff.Tables(&sqlschema.Table{Name: t.Name}, t) {
		switch c.Object.(type) {
		case *sqlschema.Index, *sqlschema.Check, *sqlschema.Trigger:
			if c.Told() {
				out = append(out, []string{c.What})
			}
		case *sqlschema.Column:
			what := c.What
			if slices.Equal(t.Key(), []string{c.Name}) {
				what += ", primary key"
				if t.PrimaryKey.Autoincrement {
					what += ", generated"
				}
			}
			out = append(out, []string{c.Name, what})
		case *sqlschema.PrimaryKey:
			if len(t.Key()) > 1 {
				out = append(out, []string{"primary key " + strings.Join(t.Key(), ", ")})
			}
		case *sqlschema.ForeignKey:
			if c.Told() {
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
	for i, line := range columns(lines) {
		if flags := lines[i][0]; runewidth.StringWidth(line) > a.err.width() { // a flag is never cut
			a.err.raw(flags)
			line = "      " + lines[i][1]
		}
		a.err.line(line)
	}
}
