package suite

// This file makes random models, as text of the language, and random rows that
// they allow. Everything that follows is the program's own way from there.

import (
	"fmt"
	"slices"
	"strings"

	"pgregory.net/rapid"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/testserver"
)

// model is one random model; its fields live in a pool of names, so that the
// models of a pair have much in common.
type model struct {
	name   string
	away   bool // it lies in another schema, where there are several
	fields []field
	lines  []string
}

type field struct {
	name, typ string
	clauses   []string
}

func (f field) required() bool { return !slices.Contains(f.clauses, "optional") }

// generated tells whether the database works the field out.
func (f field) generated() bool { return f.source() != "" }

// source is the field from which a generated one is worked out.
func (f field) source() string {
	for _, c := range f.clauses {
		if _, expression, is := strings.Cut(c, " as {"); is && strings.HasPrefix(c, "generated") {
			name, _, _ := strings.Cut(expression, "}")
			return name
		}
	}
	return ""
}

// integral tells whether another field can be worked out from the field.
func (f field) integral() bool {
	return !f.generated() && (f.typ == "smallint" || f.typ == "integer" || f.typ == "bigint")
}

// derived is models in which some fields are worked out from others.
func derived(t *rapid.T, models []model) []model {
	for i := range models {
		models[i].derive(t)
	}
	return models
}

// derive makes, now and then, a field of whole numbers one that is worked out from
// another, and one whose other is gone a plain one.
func (m *model) derive(t *rapid.T) {
	for i, f := range m.fields {
		if s := f.source(); s != "" {
			if at := slices.IndexFunc(m.fields, func(o field) bool { return o.name == s }); at < 0 ||
				!m.fields[at].integral() || m.fields[at].required() != f.required() ||
				rapid.IntRange(0, 5).Draw(t, f.name+" plain again") == 0 {
				m.fields[i].clauses = slices.DeleteFunc(slices.Clone(f.clauses),
					func(c string) bool { return strings.HasPrefix(c, "generated") })
			}
			continue
		}
		if !f.integral() || rapid.IntRange(0, 3).Draw(t, f.name+" worked out") > 0 ||
			slices.ContainsFunc(m.fields, func(o field) bool { return o.source() == f.name }) {
			continue
		}
		for _, o := range m.fields {
			if o.name != f.name && o.integral() {
				g := field{name: f.name, typ: "bigint"}
				if !o.required() {
					g.clauses = append(g.clauses, "optional")
				}
				g.clauses = append(
					g.clauses,
					"generated "+rapid.SampledFrom([]string{"", "stored "}).
						Draw(t, "how "+f.name)+
						"as {"+o.name+"} / 2",
				)
				m.fields[i] = g
				break
			}
		}
	}
}

// rules are the naming rules of a project without settings.
func rules(e engine.Engine) declare.Rules {
	return declare.Rules{Schemas: map[string]bool{e.Name(): e.Caps().Schemas}}
}

// cutTable cuts the name of a column behind its table.
func cutTable(name string) (table, column string) {
	table, column, _ = schema.CutTable(name,
		func(table string) bool { return strings.HasPrefix(table, testserver.OtherSchema+".") })
	return table, column
}

func (f field) line() string { return f.name + " " + f.typ + " " + strings.Join(f.clauses, " ") }

var modelNames = []string{"Collector", "Taxon", "Specimen", "Sheet", "Loan", "Locality"}

var fieldNames = []string{
	"name", "label", "code", "weight", "height", "seen_on", "opened", "noted", "rarity", "order", "notes", "mark",
	"count",
}

var scalarTypes = []string{
	"text", "text(20)", "text(8)", "smallint", "integer", "bigint", "decimal(8,2)", "decimal(20,4)", "double",
	"boolean", "date", "time", "timestamp", "datetime", "uuid", "json", "bytes", "choice(low, mid, high)",
	"choice(low, mid)", "choice(low, mid, high, top)", "Rarity",
}

// rarities are what the choice Rarity, which is kept as an enum type, may be.
var rarities = []string{"low, mid, high", "low, mid, high, top", "mid, low, high", "low, mid", "nil, low, mid, high"}

var typeDefaults = map[string]string{
	"text": `"a 'b' c"`, "text(20)": `"pressed"`, "text(8)": `"new"`, "smallint": "7", "integer": "-3", "bigint": "9000000000", "decimal(8,2)": "2.5", "decimal(20,4)": "1.25",
	"double": "0.5", "boolean": "true", "date": "2026-01-31", "time": `"08:30:00"`, "timestamp": "now", "datetime": `"2026-01-31 08:30:00"`, "json": `{"a":1}`,
	"choice(low, mid, high)": "mid", "choice(low, mid)": "low", "choice(low, mid, high, top)": "high", "Rarity": "mid", "uuid": "new uuid",
}

func drawField(t *rapid.T, name string, models []string) field {
	f := field{name: name}
	if len(models) > 0 && rapid.IntRange(0, 5).Draw(t, "ref") == 0 {
		f.typ = "references " + rapid.SampledFrom(models).Draw(t, "target")
		if rapid.Bool().Draw(t, "opt") {
			f.clauses = append(f.clauses, "optional")
			if rapid.Bool().Draw(t, "setnull") {
				f.clauses = append(f.clauses, "on delete set null")
			}
		} else if rapid.Bool().Draw(t, "cascade") {
			f.clauses = append(f.clauses, "on delete cascade")
		}
		return f
	}
	f.typ = rapid.SampledFrom(scalarTypes).Draw(t, "type")
	if rapid.Bool().Draw(t, "optional") {
		f.clauses = append(f.clauses, "optional")
	}
	if d := typeDefaults[f.typ]; d != "" && rapid.IntRange(0, 2).Draw(t, "default") == 0 {
		f.clauses = append(f.clauses, "default "+d)
	}
	pick := func(n int, clause string) {
		if rapid.IntRange(0, n).Draw(t, clause) == 0 {
			f.clauses = append(f.clauses, clause)
		}
	}
	switch {
	case strings.HasPrefix(f.typ, "text"):
		pick(5, "unique")
		pick(5, "nonblank")
		pick(6, "immutable")
	case f.typ == "integer", f.typ == "smallint", f.typ == "bigint":
		pick(5, "range -500..")
		pick(5, "unique")
		pick(6, "check {"+name+"} <> 13")
	case f.typ == "date":
		pick(5, "index")
	case f.typ == "timestamp" && !slices.ContainsFunc(f.clauses, func(c string) bool { return strings.HasPrefix(c, "default") }):
		pick(3, "stamped")
	}
	// What takes the rest of the line stands last.
	slices.SortStableFunc(f.clauses, func(a, b string) int { return last(a) - last(b) })
	return f
}

func last(clause string) int {
	if strings.HasPrefix(clause, "check") {
		return 1
	}
	return 0
}

func drawModel(t *rapid.T, name string, models []string) model {
	m := model{name: name, away: rapid.IntRange(0, 3).Draw(t, name+" away") == 0}
	for _, n := range rapid.SliceOfNDistinct(rapid.SampledFrom(fieldNames), 1, 5, rapid.ID[string]).Draw(t, "fields of "+name) {
		m.fields = append(m.fields, drawField(t, n, models))
	}
	m.drawLines(t)
	return m
}

func (m *model) drawLines(t *rapid.T) {
	m.lines = nil
	a := rapid.SampledFrom(m.fields).Draw(t, "indexed")
	switch rapid.IntRange(0, 6).Draw(t, "line") {
	case 0:
		m.lines = append(m.lines, "timestamps")
	case 1:
		m.lines = append(m.lines, "index "+m.quoted(a)+" desc")
	case 2:
		if len(m.fields) > 1 {
			m.lines = append(m.lines,
				"index "+m.quoted(m.fields[0])+", "+m.quoted(m.fields[1])+" where {"+a.name+"} is not null")
		}
	case 3:
		m.lines = append(m.lines, "check known: {"+a.name+"} is not null or 1 = 1")
	}
	if soft := rapid.SampledFrom([]string{"", "", "soft delete", "soft delete with view", "soft delete with children", "soft delete with view with children", "soft delete with guard", "soft delete with children with guard"}).Draw(t, "soft delete"); soft != "" {
		m.lines = append(m.lines, soft)
	}
}

func (m *model) quoted(f field) string { return f.name }

func text(models []model) string {
	var b strings.Builder
	parts, used := 0, false
	for _, m := range models {
		parts += len(m.fields) + len(m.lines)
		used = used || slices.ContainsFunc(m.fields, func(f field) bool { return f.typ == "Rarity" })
	}
	if used {
		fmt.Fprintf(&b, "choice Rarity as enum: %s\n\n", rarities[parts%len(rarities)])
	}
	for _, m := range models {
		fmt.Fprintf(&b, "model %s\n", m.name)
		if m.away {
			fmt.Fprintf(&b, "    on postgres: schema %q\n", testserver.OtherSchema)
		}
		for _, f := range m.fields {
			fmt.Fprintf(&b, "    %s\n", strings.TrimSpace(f.line()))
		}
		for _, l := range m.lines {
			fmt.Fprintf(&b, "    %s\n", l)
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// drawSchema makes one to four models that may refer to each other.
func drawSchema(t *rapid.T) []model {
	names := rapid.SliceOfNDistinct(rapid.SampledFrom(modelNames), 1, 4, rapid.ID[string]).Draw(t, "models")
	var out []model
	for _, n := range names {
		out = append(out, drawModel(t, n, names))
	}
	return out
}

// evolve changes some models into others: fields come, go and change, models
// come and go.
func evolve(t *rapid.T, from []model) []model {
	var names []string
	for _, m := range from {
		names = append(names, m.name)
	}
	gone := ""
	if len(names) > 1 && rapid.IntRange(0, 4).Draw(t, "model goes") == 0 {
		gone = rapid.SampledFrom(names).Draw(t, "gone")
		names = slices.DeleteFunc(names, func(n string) bool { return n == gone })
	}
	var fresh string
	if rapid.IntRange(0, 3).Draw(t, "model comes") == 0 {
		fresh = rapid.SampledFrom(modelNames).Draw(t, "fresh")
		if slices.Contains(names, fresh) || fresh == gone {
			fresh = ""
		} else {
			names = append(names, fresh)
		}
	}
	var out []model
	for _, m := range from {
		if m.name == gone {
			continue
		}
		n := model{name: m.name, lines: m.lines, away: m.away != (rapid.IntRange(0, 11).Draw(t, "moves") == 0)}
		for _, f := range m.fields {
			if strings.HasPrefix(f.typ, "references ") && strings.TrimPrefix(f.typ, "references ") == gone {
				continue
			}
			switch rapid.IntRange(0, 7).Draw(t, "change "+f.name) {
			case 0: // goes
			case 1: // another field of the same name
				n.fields = append(n.fields, drawField(t, f.name, names))
			case 2: // optional or not
				if f.generated() {
					n.fields = append(n.fields, f)
					continue
				}
				g := field{name: f.name, typ: f.typ}
				for _, c := range f.clauses {
					if c != "optional" && !strings.Contains(c, "set null") {
						g.clauses = append(g.clauses, c)
					}
				}
				if f.required() {
					g.clauses = append([]string{"optional"}, g.clauses...)
				}
				n.fields = append(n.fields, g)
			default:
				n.fields = append(n.fields, f)
			}
		}
		for _, name := range fieldNames {
			if !slices.ContainsFunc(n.fields, func(f field) bool { return f.name == name }) &&
				(len(n.fields) == 0 || rapid.IntRange(0, 12).Draw(t, "new "+name) == 0) {
				n.fields = append(n.fields, drawField(t, name, names))
			}
		}
		keep := true
		for _, l := range m.lines {
			for _, w := range fieldNames {
				if slices.ContainsFunc(m.fields, func(f field) bool { return f.name == w }) &&
					!slices.ContainsFunc(n.fields, func(f field) bool { return f.name == w }) &&
					strings.Contains(l, w) {
					keep = false
				}
			}
		}
		if !keep || rapid.IntRange(0, 4).Draw(t, "lines change") == 0 {
			n.drawLines(t)
		}
		out = append(out, n)
	}
	if fresh != "" {
		out = append(out, drawModel(t, fresh, names))
	}
	return out
}
