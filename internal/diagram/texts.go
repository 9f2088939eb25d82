package diagram

// This file writes a graph as text for other programs: DOT, the entity-relationship form that
// viewers of Markdown draw, and JSON.

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"unicode"
)

// DOT is the graph in the language of Graphviz, which gives it places of its own.
func (g *Graph) DOT() string {
	var w strings.Builder
	w.WriteString("// " + madeBy + "\ndigraph models {\n\trankdir=LR\n")
	w.WriteString("\tnode [shape=plain fontname=\"Helvetica\" fontsize=11]\n\tedge [color=\"#8a8f94\" dir=both]\n")
	draw := func(b *Box, indent string) {
		fmt.Fprintf(&w, "%s%s [label=<%s>]\n", indent, dotID(b.Table), b.dotTable())
	}
	for i, group := range append([]string{""}, g.Groups...) {
		indent := "\t"
		if i > 0 && len(g.Groups) > 1 {
			fmt.Fprintf(&w, "\tsubgraph %s {\n\t\tlabel=%s color=\"#c9c5ba\"\n", dotID("cluster_"+group), dotID(group))
			indent = "\t\t"
		}
		for _, b := range g.Boxes {
			if b.Group == group {
				draw(b, indent)
			}
		}
		if indent == "\t\t" {
			w.WriteString("\t}\n")
		}
	}
	for _, l := range g.Lines {
		head, tail := "tee", "crow"
		if l.Optional {
			head = "teeodot"
		}
		if l.One {
			tail = "tee"
		}
		more := ""
		switch l.Sign {
		case "+":
			more = ` color="#1f7a4d" label="+"`
		case "~":
			more = ` color="#9a6700" label="~"`
		case "-":
			more = ` color="#b3261e" style=dashed label="-"`
		}
		// What is referred to is first, as in the picture.
		fmt.Fprintf(&w, "\t%s:f%d -> %s:f%d [arrowtail=%s arrowhead=%s%s]\n", dotID(l.To.Table), l.ToField,
			dotID(l.From.Table), l.Field, head, tail, more)
	}
	w.WriteString("}\n")
	return w.String()
}

func dotID(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", " ").Replace(s) + `"`
}

func (b *Box) dotTable() string {
	var w strings.Builder
	colour := map[string]string{"+": "#1f7a4d", "~": "#9a6700", "-": "#b3261e"}
	paint := func(s, sign string) string {
		if c := colour[sign]; c != "" {
			return `<font color="` + c + `">` + s + "</font>"
		}
		return s
	}
	w.WriteString(`<table border="0" cellborder="1" cellspacing="0" cellpadding="4">`)
	fmt.Fprintf(&w, `<tr><td colspan="2" bgcolor="#dfe7ea">%s</td></tr>`,
		paint("<b>"+escaped(b.sign()+b.Name)+"</b>", b.Sign))
	for i, f := range b.Fields {
		name := escaped(f.label())
		if f.Key {
			name = "<b>" + name + "</b>"
		}
		fmt.Fprintf(&w, `<tr><td align="left" port="f%d">%s</td><td align="left">%s</td></tr>`, i, paint(name, f.Sign),
			escaped(f.about()))
	}
	for _, n := range b.Notes {
		fmt.Fprintf(&w, `<tr><td align="left" colspan="2">%s</td></tr>`, escaped(n))
	}
	w.WriteString("</table>")
	return w.String()
}

// Mermaid is the graph in the entity-relationship form that viewers of Markdown draw.
func (g *Graph) Mermaid() string {
	var w strings.Builder
	w.WriteString("%% " + madeBy + "\nerDiagram\n")
	names := map[*Box]string{}
	taken := map[string]bool{}
	for _, b := range g.Boxes {
		name := word(b.Name)
		for taken[name] {
			name += "_"
		}
		names[b], taken[name] = name, true
	}
	for _, b := range g.Boxes {
		shown := b.sign() + b.Name
		if shown == names[b] {
			fmt.Fprintf(&w, "    %s {\n", names[b])
		} else {
			fmt.Fprintf(&w, "    %s[\"%s\"] {\n", names[b], said(shown))
		}
		for _, f := range b.Fields {
			line := "        " + word(f.Type) + " " + word(f.Column)
			var keys []string
			if f.Key {
				keys = append(keys, "PK")
			}
			if f.Refers != "" {
				keys = append(keys, "FK")
			}
			if f.Unique {
				keys = append(keys, "UK")
			}
			if len(keys) > 0 {
				line += " " + strings.Join(keys, ", ")
			}
			var notes []string
			if f.Sign != "" {
				notes = append(notes, f.Sign)
			}
			if f.Was != "" {
				notes = append(notes, "was "+f.Was)
			}
			if f.Change != "" {
				notes = append(notes, f.Change)
			}
			if f.Optional {
				notes = append(notes, "optional")
			}
			if len(notes) > 0 {
				line += ` "` + said(strings.Join(notes, " ")) + `"`
			}
			w.WriteString(line + "\n")
		}
		w.WriteString("    }\n")
	}
	for _, l := range g.Lines {
		to, from := "||", "o{"
		if l.Optional {
			to = "|o"
		}
		if l.One {
			from = "o|"
		}
		label := strings.Join(l.Columns, ", ")
		if l.Sign != "" {
			label = l.Sign + " " + label
		}
		fmt.Fprintf(&w, "    %s %s--%s %s : \"%s\"\n", names[l.To], to, from, names[l.From], said(label))
	}
	return w.String()
}

// word is a name or a type as that form can have it: letters, digits and _, a letter first.
func word(s string) string {
	var w strings.Builder
	for _, r := range s {
		switch {
		case r < unicode.MaxASCII && (unicode.IsLetter(r) || unicode.IsDigit(r)) || r == '_':
			w.WriteRune(r)
		case r == '(' || r == ',' || r == ' ' || r == '-' || r == '.':
			w.WriteByte('_')
		case r > unicode.MaxASCII:
			w.WriteString("u" + strconv.FormatInt(int64(r), 16))
		}
	}
	out := strings.Trim(w.String(), "_")
	if out == "" || !unicode.IsLetter(rune(out[0])) {
		out = "n" + out
	}
	return out
}

// said is a text in quotes there.
func said(s string) string {
	return strings.NewReplacer(`"`, "'", "\n", " ", "#", " ", ";", ",").Replace(s)
}

// Markdown is a page of Markdown with the graph in a fence.
func (g *Graph) Markdown(title string) string {
	title = strings.Join(strings.Fields(title), " ")
	return "# " + title + "\n\n" + g.Summary() + ".\n\n```mermaid\n" + g.Mermaid() + "```\n"
}

// JSON is the graph with the places of the layout.
func (g *Graph) JSON() string {
	text, _ := json.MarshalIndent(g.Document(), "", "  ") // of maps, lists, texts and numbers alone
	return string(text) + "\n"
}

// Document is the graph as plain values for JSON.
func (g *Graph) Document() map[string]any {
	boxes, lines := []map[string]any{}, []map[string]any{}
	for _, b := range g.Boxes {
		fields := []map[string]any{}
		for _, f := range b.Fields {
			one := map[string]any{"name": f.Name, "column": f.Column, "type": f.Type, "key": f.Key,
				"optional": f.Optional, "unique": f.Unique}
			put(one, "refers_to", f.Refers)
			put(one, "sign", f.Sign)
			put(one, "was", f.Was)
			put(one, "change", f.Change)
			fields = append(fields, one)
		}
		one := map[string]any{"model": b.Name, "table": b.Table, "fields": fields, "x": b.X, "y": b.Y, "width": b.Width,
			"height": b.Height}
		put(one, "comment", b.Comment)
		put(one, "group", b.Group)
		put(one, "sign", b.Sign)
		if len(b.Notes) > 0 {
			one["notes"] = b.Notes
		}
		boxes = append(boxes, one)
	}
	for _, l := range g.Lines {
		points := [][2]int{}
		for _, p := range l.Points {
			points = append(points, [2]int{p.X, p.Y})
		}
		one := map[string]any{"from": l.From.Table, "to": l.To.Table, "columns": l.Columns, "optional": l.Optional,
			"one": l.One, "points": points}
		put(one, "on_delete", strings.ToLower(string(l.OnDelete)))
		put(one, "sign", l.Sign)
		lines = append(lines, one)
	}
	return map[string]any{"made": madeBy, "width": g.Width, "height": g.Height, "boxes": boxes, "lines": lines}
}

func put(into map[string]any, name, value string) {
	if value != "" {
		into[name] = value
	}
}
