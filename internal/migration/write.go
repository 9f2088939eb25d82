package migration

// This file lays a migration out as a file.

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/words"
)

// unmarked keeps a name in a title from posing as the mode of its step.
var unmarked = func() *strings.Replacer {
	var list []string
	for _, k := range engine.Kinds {
		list = append(list, "("+string(k)+")", string(k))
	}
	return strings.NewReplacer(list...)
}()

// Write lays the migration out as a file and sets its Text.
func Write(m *Migration) string {
	var b strings.Builder
	writeHead(&b, m)
	need := func(before, when string, list []engine.Requirement) {
		for _, r := range list {
			must := "none of these may exist"
			if r.Wait {
				must = "wait until none of these exist"
			} else if r.Revives {
				must = "no deleted row may exist"
			}
			fmt.Fprintf(&b, "%s%s%s, %s  %s\n%s;\n",
				before, Marker, when, must, strconv.Quote(words.OneLine(r.Sentence)), r.Query)
		}
	}
	for _, f := range m.Found {
		fmt.Fprintf(&b, "\n%s%s\n", Marker, f.line())
		for _, st := range f.Make {
			b.WriteString(st.SQL + ";\n")
		}
	}
	for _, x := range m.Parameters {
		fmt.Fprintf(&b, "\n%s%s\n", Marker, parameterLine(x))
		if !x.Undo {
			b.WriteString(x.Query + ";\n")
		}
	}
	need("\n", "before apply", m.BeforeApply)
	need("\n", "before undo", m.BeforeUndo)
	say := func(comments []string) {
		for _, c := range comments {
			b.WriteString(c + "\n")
		}
	}
	statements := func(list []Statement, behind []string) {
		for _, st := range list {
			say(st.Above)
			b.WriteString(st.SQL + ";\n")
		}
		say(behind)
	}
	for i, s := range m.Steps {
		b.WriteByte('\n')
		say(s.Above)
		fmt.Fprintf(&b, "%sstep %d  %s", Marker, i+1, unmarked.Replace(words.OneLine(s.Title)))
		if s.Note != "" {
			fmt.Fprintf(&b, "  (%s)", unmarked.Replace(words.OneLine(s.Note)))
		}
		if s.Kind != engine.InTransaction {
			fmt.Fprintf(&b, "  (%s)", s.Kind)
		}
		b.WriteByte('\n')
		if s.Batches != nil {
			fmt.Fprintf(&b, "%sbatches %s\n", Marker, nameList(append([]string{s.Batches.Table}, s.Batches.Key...)))
			if s.Batches.Where != "" {
				fmt.Fprintf(&b, "%sonly rows where %s\n", Marker, s.Batches.Where)
			}
		}
		if len(s.Loses) > 0 {
			fmt.Fprintf(&b, "%sloses %s", Marker, lossList(s.Loses))
			if s.Kept {
				b.WriteString(", kept")
			}
			b.WriteByte('\n')
		}
		if len(s.UndoLoses) > 0 {
			fmt.Fprintf(&b, "%sundo loses %s, kept\n", Marker, lossList(s.UndoLoses))
		}
		for _, r := range s.Rows {
			for keys := range slices.Chunk(r.Keys, 8) {
				fmt.Fprintf(&b, "%s%s %s: %s\n", Marker, rowsWord(r),
					nameList(append([]string{r.Table, keyNames(r.By)}, r.Columns...)), nameList(keys))
			}
		}
		need("", "here", s.Here)
		need("", "here before undo", s.HereUndo)
		say(s.Under)
		fmt.Fprintf(&b, "%sapply\n", Marker)
		statements(s.Apply, s.ApplyEnd)
		if !s.NoUndo {
			fmt.Fprintf(&b, "%sundo\n", Marker)
			statements(s.Undo, s.UndoEnd)
		}
	}
	m.Text = b.String()
	return m.Text
}

const direct = Marker + "direct\n"

func writeHead(b *strings.Builder, m *Migration) {
	fmt.Fprintf(b, "%s%s  %s  form %d\n", Marker, m.ID, m.Engine, cmp.Or(m.Form, Form))
	if m.Follows != "" {
		fmt.Fprintf(b, "%sfollows %s\n", Marker, m.Follows)
	}
	for _, id := range m.Redrafts {
		fmt.Fprintf(b, "%sredrafts %s\n", Marker, id)
	}
	if m.Before != "" {
		fmt.Fprintf(b, "%sschema %s -> %s\n", Marker, m.Before, m.After)
	}
	if m.ByHand {
		fmt.Fprintf(b, "%sby hand\n", Marker)
	}
	if m.Direct {
		b.WriteString(direct)
	}
	for _, a := range m.Answers {
		fmt.Fprintf(b, "%sanswered %s\n", Marker, words.OneLine(a))
	}
	if !m.Atomic() {
		fmt.Fprintf(b, "%snot atomic: it can stop between two steps, and is resumed or rolled back from there\n",
			Marker)
	}
	if m.Proof != "" {
		fmt.Fprintf(b, "%s%s\n", Marker, words.OneLine(m.Proof))
	}
	if len(m.Drafted) > 0 {
		fmt.Fprintf(b, "%sdrafted %s\n", Marker, strings.Join(m.Drafted, " "))
	}
	if m.ProofOf != "" {
		fmt.Fprintf(b, "%sproof of %s\n", Marker, m.ProofOf)
	}
}

// nameList puts names in a line; one that a comma or a control character could
// tear apart is in quotes.
func nameList(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = n
		if n != words.OneLine(n) || strings.ContainsAny(n, ",\"\\") {
			out[i] = strconv.Quote(n)
		}
	}
	return strings.Join(out, ", ")
}

// lossList lists what a step destroys.
func lossList(list []engine.Loss) string {
	var names []string
	for _, l := range list {
		names = append(names, l.String())
	}
	return nameList(names)
}

// WithHead gives the file's text with the head as m has it now, and the body as
// it stood.
func WithHead(m *Migration) string {
	_, body := splitHead(m.Text)
	var b strings.Builder
	writeHead(&b, m)
	if !strings.HasPrefix(body, "\n") && !strings.HasPrefix(body, "\r\n") {
		b.WriteByte('\n')
	}
	b.WriteString(body)
	return b.String()
}
