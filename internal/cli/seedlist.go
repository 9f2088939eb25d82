package cli

// This file lists the seeds of a project, the generators, and how each field of a seed is
// filled.

import (
	"encoding/hex"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"

	"erbario/internal/fake"
	"erbario/internal/project"
	"erbario/internal/seed"
)

// listGenerators shows what texts can be made, and what the names of fields suggest.
func (a *app) listGenerators() {
	type generator struct {
		Name  string   `json:"name"`
		About string   `json:"about"`
		Names []string `json:"field_names"`
	}
	names := map[string][]string{}
	for _, n := range seed.GuessedNames() {
		g, _, _ := strings.Cut(seed.GuessOf(n), " ")
		names[g] = append(names[g], n)
	}
	type numbers struct {
		Name string  `json:"field_name"`
		Low  float64 `json:"low"`
		High float64 `json:"high"`
	}
	docs, ranges := []generator{}, []numbers{}
	var about, fields, sizes [][]string
	for _, g := range fake.Generators() {
		docs = append(docs, generator{g.Name, g.About, append([]string{}, names[g.Name]...)})
		call := g.Name
		for _, arg := range g.Args {
			what := strings.ToUpper(arg.What)
			if arg.Optional {
				what = "[" + what + "]"
			}
			call += " " + what
		}
		about = append(about, []string{"  " + call, g.About})
		for i, n := range names[g.Name] {
			of := ""
			if i == 0 {
				of = g.Name
			}
			fields = append(fields, []string{"  " + n, of})
		}
	}
	for _, n := range seed.NumberNames() {
		low, high, _ := seed.NumberOf(n)
		ranges = append(ranges, numbers{n, low, high})
		if high > 0 { // a year is told from today
			sizes = append(sizes, []string{"  " + n, fmt.Sprintf("%g..%g", low, high)})
		}
	}
	if a.json {
		a.document(map[string]any{"generators": docs, "numbers": ranges})
		return
	}
	for i, part := range []struct {
		head string
		rows [][]string
	}{{"generators", about}, {"texts recognised by the field's name", fields},
		{"numbers recognised by the last word of the field's name", sizes}} {
		if i > 0 {
			a.out.line("")
		}
		a.out.line(a.out.paint(styleHead, part.head))
		for _, line := range columns(part.rows) {
			a.out.line(line)
		}
	}
}

func (a *app) listSeeds(p *project.Project) error {
	e, err := a.anyEngine(p)
	if err != nil {
		return err
	}
	d, err := a.models(p, e)
	if err != nil {
		return err
	}
	type listed struct {
		Name   string           `json:"name"`
		File   string           `json:"file"`
		Line   int              `json:"line"`
		Rows   int64            `json:"rows"`
		Tables map[string]int64 `json:"tables"`
	}
	docs, table := []listed{}, [][]string{{"seed", "rows", "", "at"}}
	for _, s := range d.Seeds {
		plan, mistakes := seed.New(d, s, seed.Options{Random: 1, Existing: &seed.Existing{Unknown: true}})
		if len(mistakes) > 0 {
			return a.mistaken(p, mistakes, fmt.Sprintf("the seed %s cannot be run", s.Name))
		}
		total, tables := plan.Rows()
		at := listed{Name: s.Name, File: s.Pos.Path, Line: s.Pos.Line, Rows: total, Tables: map[string]int64{}}
		var parts []string
		for _, t := range tables {
			at.Tables[t.Table.Name] = t.Rows
			parts = append(parts, thousands(t.Rows)+" "+t.Table.Name)
		}
		docs = append(docs, at)
		table = append(table,
			[]string{s.Name, thousands(total), strings.Join(parts, ", "), fmt.Sprintf("%s:%d", s.Pos.Path, s.Pos.Line)})
	}
	if a.json {
		return a.document(map[string]any{"seeds": docs})
	}
	if len(docs) == 0 {
		a.out.printf("the models have no seed: a block such as seed demo declares one")
		return nil
	}
	for i := range table { // what is made stands on lines of its own where it is long
		table[i] = []string{table[i][0], table[i][1], table[i][3], table[i][2]}
	}
	lines := columns(table)
	for i, l := range lines {
		if i == 0 {
			l = a.out.paint(styleDim, l)
		} else {
			l = wrapTail(l, table[i][3], a.out.width())
		}
		a.out.line(l)
	}
	a.next("erbario seed " + table[1][0] + " --preview 5")
	return nil
}

// filledColumn is how a column is filled, as JSON has it.
type filledColumn struct {
	Column  string        `json:"column"`
	From    []seed.Source `json:"from"`
	Empty   float64       `json:"empty_percent"`
	Samples []string      `json:"samples"`
}

// filled tells of each column where its values come from, how many are without, and three
// values that differ.
func (t *previewed) filled() []filledColumn {
	out := make([]filledColumn, len(t.names))
	for i, name := range t.names {
		c := filledColumn{Column: name, From: t.sources[i], Samples: []string{}}
		empty := 0
		for _, row := range t.rows {
			if row[i] == nil {
				empty++
			} else if s := shownValue(row[i]); len(c.Samples) < 3 && !slices.Contains(c.Samples, s) {
				c.Samples = append(c.Samples, s)
			}
		}
		if len(t.rows) > 0 {
			c.Empty = math.Round(float64(empty) * 100 / float64(len(t.rows)))
		}
		out[i] = c
	}
	return out
}

// shownValue is a value of a row as a preview shows it.
func shownValue(v any) string {
	switch v := v.(type) {
	case nil:
		return "·"
	case []byte:
		return "x'" + hex.EncodeToString(v) + "'"
	}
	return fmt.Sprint(v)
}

// fillings shows where the values of each column come from, as wide as the window is.
func (a *app) fillings(t *previewed) {
	grid := [][]string{{"column", "values from", "empty", "such as"}}
	list := t.filled()
	for _, c := range list {
		empty := ""
		if c.Empty > 0 {
			empty = fmt.Sprintf("%g %%", c.Empty)
		}
		var from []string
		for _, s := range c.From {
			from = append(from, sourceText(s))
		}
		grid = append(grid, []string{cell(c.Column), strings.Join(from, ", "), empty, ""})
	}
	left := 0
	for _, line := range columns(append(slices.Clone(grid), []string{"", "", "", "|"})) {
		left = max(left, runewidth.StringWidth(line)-1)
	}
	room := max(a.out.width()-2-left, 12)
	for i, c := range list {
		samples := c.Samples
		text := ""
		for n := len(samples); n > 0; n-- { // fewer of them rather than pieces
			fits := func(most int) bool {
				size := 3 * (n - 1)
				for _, s := range samples[:n] {
					size += min(runewidth.StringWidth(cell(s)), most)
				}
				return size <= room
			}
			most := widest(min(20, room), fits)
			if n == 1 {
				most = room
			} else if !fits(most) {
				continue
			}
			var parts []string
			for _, s := range samples[:n] {
				parts = append(parts, short(cell(s), most))
			}
			text = strings.Join(parts, " · ")
			break
		}
		grid[i+1][3] = text
	}
	for i, line := range columns(grid) {
		if i == 0 {
			line = a.out.paint(styleDim, line)
		}
		a.out.line("  " + line)
	}
}

// sourceText says where the values of a column come from.
func sourceText(s seed.Source) string {
	with := func(text string) string {
		if s.What == "" {
			return text
		}
		return text + ": " + s.What
	}
	switch s.Origin {
	case seed.FromSeed:
		return with("seed")
	case seed.FromModel:
		return with("model")
	case seed.FromDefault:
		return "default"
	case seed.FromAbove:
		return "row above: " + s.What
	case seed.FromRows:
		return "random " + s.What
	case seed.FromNumbers:
		return "numbered"
	case seed.FromDeletion:
		return "share of deleted"
	case seed.FromFields:
		return strings.ReplaceAll(s.What, " ", " × ")
	case seed.FromName:
		return with("guess")
	}
	return with("type")
}
