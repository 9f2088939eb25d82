package migration

// This file lays a migration out as a file.

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
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
	w := &writer{}
	writeHead(&w.b, m)
	for _, f := range m.Found {
		fmt.Fprintf(&w.b, "\n%s%s\n", Marker, f.line())
		for _, st := range f.Make {
			w.b.WriteString(st.SQL + ";\n")
		}
	}
	for _, x := range m.Parameters {
		fmt.Fprintf(&w.b, "\n%s%s\n", Marker, parameterLine(x))
		if !x.Undo {
			w.b.WriteString(x.Query + ";\n")
		}
	}
	w.requirements("\n", "before apply", m.BeforeApply)
	w.requirements("\n", "before undo", m.BeforeUndo)
	for i := range m.Steps {
		w.step(i+1, &m.Steps[i])
	}
	m.Text = w.b.String()
	return m.Text
}

// writer writes the text of a migration.
type writer struct{ b strings.Builder }

// requirements writes what must hold at some time; before stands before each.
func (w *writer) requirements(before, when string, list []engine.Requirement) {
	for _, r := range list {
		must := "none of these may exist"
		if r.Wait {
			must = "wait until none of these exist"
		} else if r.Revives {
			must = "no deleted row may exist"
		}
		fmt.Fprintf(&w.b, "%s%s%s, %s  %s\n%s;\n",
			before, Marker, when, must, strconv.Quote(words.OneLine(r.Sentence)), r.Query)
	}
}

func (w *writer) lines(list []string) {
	for _, l := range list {
		w.b.WriteString(l + "\n")
	}
}

// statements writes statements with the comments above and behind them.
func (w *writer) statements(list []Statement, behind []string) {
	for _, st := range list {
		w.lines(st.Above)
		w.b.WriteString(st.SQL + ";\n")
	}
	w.lines(behind)
}

// step writes the n-th step, from 1.
func (w *writer) step(n int, s *Step) {
	w.b.WriteByte('\n')
	w.lines(s.Above)
	fmt.Fprintf(&w.b, "%sstep %d  %s", Marker, n, unmarked.Replace(words.OneLine(s.Title)))
	if s.Note != "" {
		fmt.Fprintf(&w.b, "  (%s)", unmarked.Replace(words.OneLine(s.Note)))
	}
	if s.Kind != engine.InTransaction {
		fmt.Fprintf(&w.b, "  (%s)", s.Kind)
	}
	w.b.WriteByte('\n')
	if s.Batches != nil {
		fmt.Fprintf(&w.b, "%sbatches %s\n", Marker, nameList(append([]string{s.Batches.Table}, s.Batches.Key...)))
		if s.Batches.Where != "" {
			fmt.Fprintf(&w.b, "%sonly rows where %s\n", Marker, s.Batches.Where)
		}
	}
	if len(s.Loses) > 0 {
		fmt.Fprintf(&w.b, "%sloses %s", Marker, lossList(s.Loses))
		if s.Kept {
			w.b.WriteString(", kept")
		}
		w.b.WriteByte('\n')
	}
	if len(s.UndoLoses) > 0 {
		fmt.Fprintf(&w.b, "%sundo loses %s, kept\n", Marker, lossList(s.UndoLoses))
	}
	for _, r := range s.Rows {
		for keys := range slices.Chunk(r.Keys, 8) {
			fmt.Fprintf(&w.b, "%s%s %s: %s\n", Marker, rowsWord(r),
				nameList(append([]string{r.Table, keyNames(r.By)}, r.Columns...)), nameList(keys))
		}
	}
	for _, o := range s.Objects {
		fmt.Fprintf(&w.b, "%s%s %s\n", Marker, objectWord(o), nameList(objectNames(o.ObjectKey)))
	}
	w.requirements("", "here", s.Here)
	w.requirements("", "here before undo", s.HereUndo)
	w.lines(s.Under)
	fmt.Fprintf(&w.b, "%sapply\n", Marker)
	w.statements(s.Apply, s.ApplyEnd)
	if !s.NoUndo {
		fmt.Fprintf(&w.b, "%sundo\n", Marker)
		w.statements(s.Undo, s.UndoEnd)
	}
}

// schemasAre begins the line of the schemas in which a migration has tables.
const schemasAre = "schemas "

// SchemasIn are the schemas that the head of a file names; what follows the head is not read.
func SchemasIn(file io.Reader) []string {
	lines := bufio.NewScanner(file)
	for lines.Scan() {
		words, ok := strings.CutPrefix(lines.Text(), Marker)
		if !ok {
			return nil
		}
		if list, ok := strings.CutPrefix(words, schemasAre); ok {
			return readNames(strings.TrimSpace(list))
		}
	}
	return nil
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
	if len(m.Schemas) > 0 {
		fmt.Fprintf(b, "%s%s%s\n", Marker, schemasAre, nameList(m.Schemas))
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
