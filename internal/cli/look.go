package cli

// This file is the command look: the live tables, and one of them whole, with rows.

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/project"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

func (a *app) lookCommand() *cli.Command {
	o := lookOptions{}
	return &cli.Command{
		Name: "look", ArgsUsage: "[TABLE]", Usage: "show the live tables, or one table in full with a few rows",
		Description: "With --where, --order or --columns, the rows alone. A column may be written as\n{field}.\n\n  erbario look specimens --where \"{label} LIKE 'HB%'\" --order '{id} DESC'",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "rows", Usage: "show `N` rows of the table", Destination: &o.rows, Value: 5},
			&cli.StringFlag{Name: "where", Usage: "only rows for which this `SQL` is true", Destination: &o.where},
			&cli.StringFlag{Name: "order", Usage: "order the rows by this `SQL`", Destination: &o.order},
			&cli.StringSliceFlag{Name: "columns", Usage: "only these columns: `NAMES` separated by commas",
				Destination: &o.columns},
			&cli.BoolFlag{Name: "sql", Usage: "the statements that create a view, a function, a table or another object",
				Destination: &o.sql},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.reading(ctx, c, 1, func(_ *project.Project, l *live) error {
				s, err := l.db.Inspect(ctx)
				if err != nil {
					return err
				}
				if o.sql {
					return a.lookSQL(ctx, l, s, c.Args().First())
				}
				if name := c.Args().First(); name != "" {
					return a.lookTable(ctx, l, s, name, o)
				}
				if o.rowsAlone() {
					return wrongUse("--where, --order and --columns need a table: erbario look TABLE")
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
					table = append(table,
						[]string{cell(t.Name), plural(len(t.Columns), "column", "columns"), cell(size)})
				}
				views := []string{}
				for _, v := range s.Views {
					n, err := l.db.Count(ctx, "SELECT 1 FROM "+l.engine.SQL().QuoteTable(v.Name))
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

// lookOptions say which rows of a table are shown.
type lookOptions struct {
	rows         int
	sql          bool
	where, order string
	columns      []string
}

// rowsAlone tells that the rows are asked for, and not the table.
func (o lookOptions) rowsAlone() bool { return o.where != "" || o.order != "" || len(o.columns) > 0 }

// countOf counts the rows of a table; where the server does not let it be read, unread
// says so.
func countOf(ctx context.Context, l *live, table string) (n int64, unread string, err error) {
	n, err = l.db.Count(ctx, "SELECT 1 FROM "+l.engine.SQL().QuoteTable(table))
	if err == nil || ctx.Err() != nil || errors.Is(err, engine.ErrLost) || errors.Is(err, engine.ErrBusy) {
		return n, "", err
	}
	return 0, "its rows cannot be read: " + err.Error(), nil
}

// grid shows rows side by side under their columns' names; where that is wider
// than the terminal, a line for each column and the rows beside each other.
func (a *app) grid(r engine.Rows) {
	width := a.out.width() - 2
	at := func(most int) [][]string {
		grid := [][]string{r.Columns}
		for _, row := range r.Values {
			one := make([]string, len(row))
			for i, v := range row {
				one[i] = short(cell(v), most)
			}
			grid = append(grid, one)
		}
		return grid
	}
	across := func(most int) bool { // it fits beside each other
		for _, line := range columns(at(most)) {
			if runewidth.StringWidth(line) > width {
				return false
			}
		}
		return true
	}
	if !across(cellWidth) {
		down := func(most, from, to int) []string { // rows from..to, each a column
			turned := make([][]string, len(r.Columns))
			grid := at(most)
			for _, row := range append([][]string{grid[0]}, grid[1+from:1+to]...) {
				for i := range turned {
					turned[i] = append(turned[i], row[i])
				}
			}
			return columns(turned)
		}
		fit := func(most, from, to int) bool {
			return !slices.ContainsFunc(down(most, from, to),
				func(line string) bool { return runewidth.StringWidth(line) > width })
		}
		for from := 0; from < len(r.Values); {
			to := len(r.Values)
			for to > from+1 && !fit(cellWidth, from, to) { // in a narrow window fewer beside each other
				to--
			}
			if from > 0 {
				a.out.line("")
			}
			for _, line := range down(widest(cellWidth, func(most int) bool { return fit(most, from, to) }), from, to) {
				a.out.line("  " + line)
			}
			from = to
		}
		return
	}
	lines := columns(at(widest(cellWidth, across)))
	a.out.line("  " + a.out.paint(styleHead, lines[0]))
	for _, line := range lines[1:] {
		a.out.line("  " + line)
	}
}

// cellWidth is how much of a value is shown at least.
const cellWidth = 28

// widest is the most characters of a value, from some on, for which a table fits.
func widest(from int, fits func(most int) bool) int {
	for _, more := range []int{500, 240, 160, 120, 90, 70, 60, 50, 44, 40, 36, 32, 30, 28, 26, 24, 22} {
		if more > from && fits(more) {
			return more
		}
	}
	return from
}

// lookView shows the columns of a view, a few rows, and its query.
func (a *app) lookView(ctx context.Context, l *live, v *sqlschema.View, o lookOptions) error {
	n, some, err := a.rowsOf(ctx, l, v.Name, nil, nil, o)
	if err != nil {
		return fmt.Errorf("the view %s: %w", v.Name, err)
	}
	if a.json {
		return a.document(map[string]any{
			"database": l.Name,
			"view":     v.Name,
			"rows":     n,
			"columns":  some.Columns,
			"values":   append([][]string{}, some.Values...),
			"sql":      v.SQL.Text,
		})
	}
	a.out.line(a.out.paint(styleHead, cell(v.Name)) + "  " + a.out.paint(styleDim, "view, "+rows(n)))
	if !o.rowsAlone() {
		for _, c := range some.Columns {
			a.out.line("  " + cell(c))
		}
		for _, g := range v.Triggers {
			a.out.line("  " + cell(g.Name) + "  " + triggerWhen(g))
		}
		a.out.line("")
		for line := range strings.Lines(clean(strings.TrimSpace(v.SQL.Text))) {
			a.out.line("  " + a.out.paint(styleDim, strings.TrimRight(line, "\n")))
		}
	}
	a.someRows(some, o)
	return nil
}

// someRows shows rows below what was told of their table.
func (a *app) someRows(some engine.Rows, o lookOptions) {
	if len(some.Values) == 0 {
		return
	}
	if !o.rowsAlone() {
		a.out.line("")
	}
	a.grid(some)
}

// rowsOf counts the rows that are asked for, and gives the first of them. all are the
// columns of a table, w what the models declare of it; nil: it is a view, or outside of them.
func (a *app) rowsOf(ctx context.Context, l *live, name string, all []*sqlschema.Column, w *sqlschema.Table,
	o lookOptions) (int64, engine.Rows, error) {
	column := func(field string) string {
		if w != nil {
			for _, c := range w.Columns {
				if c.Field() == field {
					return c.Name
				}
			}
		}
		return field
	}
	var unknown []string
	quote := func(field string) string {
		c := column(field)
		if all != nil &&
			!slices.ContainsFunc(all, func(o *sqlschema.Column) bool { return strings.EqualFold(o.Name, c) }) {
			unknown = append(unknown, field)
		}
		return l.engine.SQL().Quote(c)
	}
	var names []string
	for _, c := range o.columns {
		for one := range strings.SplitSeq(c, ",") {
			names = append(names, quote(strings.Trim(strings.TrimSpace(one), "{}")))
		}
	}
	if len(names) == 0 {
		for _, c := range all {
			if !schema.Own(c.Name) {
				names = append(names, l.engine.SQL().Quote(c.Name))
			}
		}
	}
	if len(names) == 0 {
		names = []string{"*"}
	}
	from, order := " FROM "+l.engine.SQL().QuoteTable(name), ""
	for _, part := range []struct{ flag, sql string }{{"where", o.where}, {"order", o.order}} {
		if part.sql == "" {
			continue
		}
		if err := oneExpression(l.engine.SQL(), part.sql); err != nil {
			return 0, engine.Rows{}, wrongUse("--%s: %v", part.flag, err)
		}
		sql := schema.Braces(part.sql, quote)
		if part.flag == "where" {
			from += " WHERE (" + sql + "\n)"
		} else {
			order = " ORDER BY " + sql
		}
	}
	if len(unknown) > 0 {
		var known []string
		for _, c := range all {
			known = append(known, c.Name)
		}
		return 0, engine.Rows{}, wrongUse("%s has no column %q%s", name, unknown[0], meant(unknown[0], known))
	}
	n, err := l.db.Count(ctx, "SELECT 1"+from)
	if err != nil && o.where != "" {
		return 0, engine.Rows{}, fmt.Errorf("--where %s fails: %w", o.where, err)
	}
	if err != nil {
		return 0, engine.Rows{}, err
	}
	// With a limit of its own, since a server may leave the order of an inner query out.
	query := fmt.Sprintf("SELECT %s%s%s LIMIT %d", strings.Join(names, ", "), from, order, max(o.rows, 1))
	some, err := l.db.Sample(ctx, query, max(o.rows, 1))
	if o.rows <= 0 {
		some.Values = nil
	}
	return n, some, err
}

// liveTable finds a live table by its name or its model's.
func (a *app) liveTable(p *project.Project, l *live, s *sqlschema.Schema, name string) (*sqlschema.Table, error) {
	if t := s.Find(name); t != nil {
		return t, nil
	}
	if w, err := a.wanted(p, l.engine); err == nil {
		for _, m := range w.Tables {
			if t := s.Table(m.Name); t != nil && m.Model() == name {
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

func (a *app) lookTable(ctx context.Context, l *live, s *sqlschema.Schema, name string, o lookOptions) error {
	p, err := a.project()
	if err != nil {
		return err
	}
	if v := s.View(name); v != nil {
		return a.lookView(ctx, l, v, o)
	}
	t, err := a.liveTable(p, l, s, name)
	if err != nil {
		return err
	}
	n, unread, err := countOf(ctx, l, t.Name)
	if err != nil {
		return err
	}
	size, some := unread, engine.Rows{Columns: []string{}}
	if unread == "" {
		var w *sqlschema.Table
		if wanted, _ := declaredQuietly(p, l.engine); wanted != nil {
			w = wanted.Table(t.Name)
		}
		found := n
		if found, some, err = a.rowsOf(ctx, l, t.Name, t.Columns, w, o); err != nil {
			return err
		}
		if size = rows(n); o.where != "" {
			size = thousands(found) + " of " + size
			n = found
		}
	}
	if a.json {
		document := map[string]any{
			"database": l.Name,
			"table":    t.Name,
			"rows":     n,
			"columns":  some.Columns,
			"values":   append([][]string{}, some.Values...),
		}
		if !o.rowsAlone() {
			parts := []jsonPart{}
			for _, part := range partsToLook(t) {
				parts = append(parts, part.jsonPart)
			}
			maps.Copy(document,
				map[string]any{"parts": parts, "sql": t.Text, "comment": t.Comment, "options": optionWords(t)})
		}
		if unread != "" {
			document["rows"], document["error"] = nil, unread
		}
		return a.document(document)
	}
	head := a.out.paint(styleHead, cell(t.Name)) + "  " + a.out.paint(styleDim, cell(size))
	if t.Comment != "" && !o.rowsAlone() {
		head += "  " + a.out.paint(styleDim, cell(fmt.Sprintf("%q", t.Comment)))
	}
	a.out.line(head)
	if !o.rowsAlone() {
		if words := optionWords(t); words != "" {
			a.out.line("  " + a.out.paint(styleDim, cell(words)))
		}
		a.parts(partsToLook(t))
	}
	a.someRows(some, o)
	return nil
}

// jsonPart is one part of a live table: a column, an index, a check, and so on.
type jsonPart struct {
	Kind  string `json:"kind"`
	Table string `json:"table"`
	Name  string `json:"name,omitempty"`
	What  string `json:"what"`
}

// lookPart is a part as look shows it. told: it is in the words of its column.
type lookPart struct {
	jsonPart
	column, told bool
}

// partsToLook are the parts of a live table: its columns, and below them what has a name of
// its own.
func partsToLook(t *sqlschema.Table) []lookPart {
	var columns, rest []lookPart
	for _, c := range diff.Tables(&sqlschema.Table{Name: t.Name}, t) {
		part := lookPart{
			jsonPart: jsonPart{Kind: c.Kind.Thing(), Table: t.Name, Name: c.Name, What: c.What},
			told:     !c.Told(),
		}
		switch o := c.Object.(type) {
		case *sqlschema.Column:
			if part.column = c.Kind == diff.AddColumn; !part.column {
				continue
			}
			if slices.Equal(t.Key(), []string{c.Name}) {
				part.What += ", primary key"
			}
			switch {
			case o.IdentityAlways:
				part.What += ", generated always"
			case o.Identity, t.PrimaryKey != nil && t.PrimaryKey.Autoincrement &&
				slices.Equal(t.Key(), []string{c.Name}):
				part.What += ", generated"
			}
		case *sqlschema.PrimaryKey:
			key := diff.PartWords(o.Columns)
			if part.Name, part.What = o.Name, "primary key "+key; slices.Equal(t.Key(), []string{key}) {
				continue // its column has it
			}
		case *sqlschema.Index:
			part.Name = o.Name
		case *sqlschema.Check:
			part.Name = o.Name
		case *sqlschema.ForeignKey:
			part.Name = o.Name
			if !part.told {
				part.What = strings.Join(o.Columns, ", ") + " " + part.What
			}
		case *sqlschema.Trigger:
			if o.Purpose == "" {
				part.What = triggerWhen(o)
			}
		default:
			continue // the comment of the table
		}
		if part.column {
			columns = append(columns, part)
		} else if !part.told {
			rest = append(rest, part)
		}
	}
	for _, o := range t.Others {
		rest = append(rest, lookPart{jsonPart: jsonPart{Kind: "constraint", Table: t.Name, Name: o.Name, What: o.Text}})
	}
	return append(columns, rest...)
}

// parts shows the parts of a table: names of columns under each other, and those of the
// rest, which are often long, under each other.
func (a *app) parts(list []lookPart) {
	var of [2][][]string
	for _, part := range list {
		at := 1
		if part.column {
			at = 0
		}
		if part.Name == "" {
			of[at] = append(of[at], []string{"  " + cell(part.What)})
			continue
		}
		of[at] = append(of[at], []string{"  " + cell(part.Name), cell(part.What)})
	}
	for i, table := range of {
		if i == 1 && len(table) > 0 {
			a.out.line("")
		}
		for _, line := range columns(table) {
			a.out.line(line)
		}
	}
}

// optionWords are the properties of a whole table; "" where it has none of its own.
func optionWords(t *sqlschema.Table) string {
	var out []string
	add := func(is bool, words string) {
		if is {
			out = append(out, words)
		}
	}
	o := t.Options
	add(o.Strict, "strict")
	add(o.WithoutRowid, "without rowid")
	add(o.Virtual != "", "virtual, using "+o.Virtual)
	add(o.Unlogged, "unlogged")
	add(t.PartOf != "", "a part of "+t.PartOf)
	add(o.Foreign && t.PartOf == "", "its rows are on another server")
	add(o.Behind != "", strings.TrimSpace(o.Behind))
	return strings.Join(out, ", ")
}

var triggerForm = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?is)\b(BEFORE|AFTER|INSTEAD\s+OF)\s+((?:INSERT|UPDATE|DELETE|TRUNCATE)(?:\s+OF\s+[^;]*?)?(?:\s+OR\s+(?:INSERT|UPDATE|DELETE|TRUNCATE)(?:\s+OF\s+[^;]*?)?)*)\s+ON\b`,
	)
})

// triggerWhen tells when a trigger runs, such as "trigger before insert or update".
func triggerWhen(g *sqlschema.Trigger) string {
	m := triggerForm().FindStringSubmatch(g.SQL.Text)
	if m == nil {
		return "trigger"
	}
	return "trigger " + strings.ToLower(strings.Join(strings.Fields(m[1]+" "+m[2]), " "))
}
