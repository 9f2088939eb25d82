package editor

// This file says what is under the cursor: what each engine stores for a line, what refers to it, and what a
// word of the language means.

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/lang"
	"erbario/internal/sqlschema"
)

func (w *workspace) hover(d *document, p position) any {
	if !w.modelFile(d) {
		return nil
	}
	off := d.unix(p)
	m := w.names().at(w.rel(d.path), off)
	var text string
	var from, to int
	if m != nil {
		text, from, to = w.about(*m), m.pos.Off, m.pos.End
	} else {
		text, from, to = w.aboutWord(d, p)
	}
	if text == "" {
		return nil
	}
	out := &hover{Contents: markup{"markdown", text}}
	at := d.spanOf(from, to)
	if m == nil {
		at = d.span(from, to)
	}
	out.Range = &at
	return out
}

// about says what a name is.
func (w *workspace) about(m mention) string {
	var b strings.Builder
	x := w.names()
	switch m.kind {
	case aModel:
		fmt.Fprintf(&b, "**model %s**\n", m.name.name)
		w.tables(&b, m.name.name, nil)
		w.referring(&b, m.name.name)
	case aField:
		_, f := x.owner(m.owner, m.name.name)
		if f == nil {
			return ""
		}
		fmt.Fprintf(&b, "**%s.%s**  %s\n", m.owner, m.name.name, typeWords(f))
		w.tables(&b, m.owner, f)
	case aChoice, aValue:
		of := m.name.name
		if m.kind == aValue {
			of = m.owner
		}
		block := x.choices[of]
		if block == nil {
			return ""
		}
		var values []string
		for _, v := range block.Values {
			values = append(values, v.Name)
		}
		fmt.Fprintf(&b, "**choice %s**: %s\n", of, strings.Join(values, ", "))
	case aShape:
		fmt.Fprintf(&b, "**shape %s**\n", m.name.name)
	default:
		return ""
	}
	return strings.TrimRight(b.String(), "\n")
}

// tables adds what each engine stores for a model, or for one of its fields.
func (w *workspace) tables(b *strings.Builder, model string, f *lang.Field) {
	for _, name := range slices.Sorted(maps.Keys(w.of)) {
		view := w.of[name]
		for _, t := range view.wanted.Tables {
			if t.Declared == nil || t.Declared.Model != model {
				continue
			}
			create := statement(view, t)
			if f == nil {
				fmt.Fprintf(b, "\n%s: table `%s`, %d columns\n", name, t.Name, len(t.Columns))
				continue
			}
			for _, c := range t.Columns {
				if c.Declared != nil && c.Declared.Field == f.Name.Name {
					fmt.Fprintf(b, "\n%s: `%s.%s`\n```sql\n%s\n```\n", name, t.Name, c.Name,
						columnSQL(create, view, t, c))
				}
			}
		}
	}
}

// statement is the statement that creates a table.
func statement(view engineView, t *sqlschema.Table) string {
	for _, s := range view.engine.DDL().CreateAll(&sqlschema.Schema{Tables: []*sqlschema.Table{t}}) {
		if strings.HasPrefix(strings.TrimSpace(s.SQL), "CREATE TABLE") {
			return s.SQL
		}
	}
	return ""
}

// columnSQL is the part of a statement that creates a column: from its name to the next.
func columnSQL(create string, view engineView, t *sqlschema.Table, c *sqlschema.Column) string {
	begins := func(line string) bool {
		line = strings.TrimSpace(line)
		return slices.ContainsFunc(t.Columns, func(o *sqlschema.Column) bool {
			return strings.HasPrefix(line, view.engine.SQL().Quote(o.Name)+" ")
		})
	}
	var out []string
	for line := range strings.Lines(create) {
		line = strings.TrimRight(line, "\n")
		own := strings.HasPrefix(strings.TrimSpace(line), view.engine.SQL().Quote(c.Name)+" ")
		switch {
		case own:
			out = []string{strings.TrimSpace(line)}
		case len(out) > 0 && (begins(line) || !strings.HasPrefix(line, "        ")):
			return strings.TrimSuffix(strings.Join(out, "\n"), ",")
		case len(out) > 0:
			out = append(out, "    "+strings.TrimSpace(line))
		}
	}
	if len(out) == 0 {
		return c.Name + " " + c.SQLType
	}
	return strings.TrimSuffix(strings.Join(out, "\n"), ",")
}

// referring adds what refers to a model.
func (w *workspace) referring(b *strings.Builder, model string) {
	var list []string
	x := w.names()
	for _, name := range known(x.models) {
		for _, f := range x.fields(name) {
			if f.Type.Ref != nil && f.Type.Ref.Model.Name == model {
				list = append(list, name+"."+f.Name.Name)
			}
		}
	}
	if len(list) > 0 {
		fmt.Fprintf(b, "\nreferred to by %s\n", strings.Join(list, ", "))
	}
}

// aboutWord says what a word of the language means, at its place.
func (w *workspace) aboutWord(d *document, p position) (text string, from, to int) {
	off := d.offset(p)
	line := d.position(off).Line
	begin, end := off, off
	for begin > d.lines[line] && isWord(d.text[begin-1]) {
		begin--
	}
	for end < d.lineEnd(line) && isWord(d.text[end]) {
		end++
	}
	if begin == end {
		return "", 0, 0
	}
	word := d.text[begin:end]
	t := d.typingAt(d.position(begin))
	next := typedWords(d.text[end:d.lineEnd(line)])
	pairs := []string{word}
	if len(next) > 0 {
		pairs = append([]string{word + " " + next[0]}, pairs...)
	}
	if n := len(t.words); n > 0 {
		pairs = append(pairs, t.words[n-1]+" "+word)
	}
	places := []string{"clause", "action", "value", "type"}
	switch {
	case t.block == "":
		places = []string{"block"}
	case len(t.words) == 0:
		places = []string{"line"}
	case len(t.words) == 1:
		places = []string{"type", "line"}
	}
	for _, place := range places {
		for _, w := range pairs {
			if s := explain(place, w); s != "" {
				return "**" + w + "**: " + s, begin, end
			}
		}
	}
	return "", 0, 0
}
