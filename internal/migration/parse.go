package migration

// This file reads a migration file. Every statement is looked at, and one that would reach beyond its step is refused.

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"erbario/internal/engine"
)

// bodyWords begin the lines that follow the head.
var bodyWords = []string{"step ", "before ", "found ", "parameter ", "undo parameter "}

// splitHead cuts a file behind the lines of its head. The body stays as it is,
// to the byte.
func splitHead(text string) (head, body string) {
	end := 0
	for first := true; strings.HasPrefix(text[end:], Marker); first = false {
		line := text[end:]
		if i := strings.IndexByte(line, '\n'); i >= 0 {
			line = line[:i+1]
		}
		rest := strings.TrimPrefix(line, Marker)
		if !first && slices.ContainsFunc(bodyWords, func(w string) bool { return strings.HasPrefix(rest, w) }) {
			break
		}
		end += len(line)
	}
	return text[:end], text[end:]
}

// IsDirect tells of a migration's text whether it was applied without a file.
func IsDirect(text string) bool {
	head, _ := splitHead(text)
	return strings.Contains(head, "\n"+direct)
}

// FollowsOf is the migration that one with this text follows; empty for the first.
func FollowsOf(text string) string {
	head, _ := splitHead(text)
	m := &Migration{}
	for line := range strings.Lines(head) {
		if words, ok := strings.CutPrefix(line, Marker); ok {
			m.headWords(strings.TrimSpace(words))
		}
	}
	return m.Follows
}

// readNames is the inverse of nameList.
func readNames(s string) []string {
	var out []string
	for s != "" {
		if q, err := strconv.QuotedPrefix(s); err == nil && s[0] == '"' {
			name, _ := strconv.Unquote(q)
			out = append(out, name)
			s = strings.TrimPrefix(s[len(q):], ", ")
			continue
		}
		var name string
		name, s, _ = strings.Cut(s, ", ")
		out = append(out, name)
	}
	return out
}

// readLosses reads what a step destroys.
func readLosses(s string) []engine.Loss {
	var out []engine.Loss
	for _, name := range readNames(s) {
		out = append(out, engine.ReadLoss(name))
	}
	return out
}

// ParseError says what is wrong in a file, and where.
type ParseError struct {
	Path    string
	Line    int
	Message string
}

func (e *ParseError) Error() string { return fmt.Sprintf("%s:%d: %s", e.Path, e.Line, e.Message) }

// once compiles a pattern when it is first used: most runs need none of them.
func once(pattern string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) })
}

// FileName is the name of the migration's file.
func (m *Migration) FileName() string { return m.ID + "." + m.Engine + ".sql" }

// NameParts takes a file's name apart; ok is false if it is no migration's.
func NameParts(name string) (id, engineName string, ok bool) {
	g := nameForm().FindStringSubmatch(name)
	if g == nil {
		return "", "", false
	}
	return g[1], g[2], true
}

// Parse reads a file's text. Every statement is looked at: one that would reach
// beyond its step is refused here, before anything runs.
func Parse(path, text string, e Engine) (*Migration, error) {
	p := &parser{m: &Migration{Text: text, Path: path}, e: e}
	pieces := e.SQL().Split(plainLines(text))
	if len(pieces) == 0 || !pieces[0].Comment || !strings.HasPrefix(pieces[0].Text, Marker) {
		return nil, p.fail(1,
			"the file does not begin with the head of a migration, such as %s20261123T093000-first-sheets  %s  form %d",
			Marker, e.Name(), Form)
	}
	for i, piece := range pieces {
		if err := p.piece(i, piece); err != nil {
			return nil, err
		}
	}
	if err := p.end(strings.Count(text, "\n") + 1); err != nil {
		return nil, err
	}
	return p.m, nil
}

// parser reads the pieces of a file, one after the other.
type parser struct {
	m        *Migration
	e        Engine
	step     *Step                 // the last one; nil: the head is not over
	into     *[]Statement          // to which the next statements belong
	need     *engine.Requirement   // that has its query yet to come
	needTo   *[]engine.Requirement // the list it goes into
	asked    *engine.Parameter     // whose query comes next
	comments []string              // that belong to what comes next
}

func (p *parser) fail(line int, format string, args ...any) error {
	return &ParseError{Path: p.m.Path, Line: line, Message: fmt.Sprintf(format, args...)}
}

// piece reads one piece: a comment, a marker or a statement.
func (p *parser) piece(i int, x engine.Piece) error {
	switch {
	case x.Bad != "":
		return p.fail(x.Line, "the file seems truncated: %s; restore it from version control", x.Bad)
	case !x.Comment:
		return p.statement(x)
	case !strings.HasPrefix(x.Text, Marker):
		p.comments = append(p.comments, strings.TrimRight(x.Text, "\n"))
		return nil
	}
	words := strings.TrimSpace(strings.TrimPrefix(x.Text, Marker))
	if i == 0 {
		return p.first(x.Line, words)
	}
	if err := p.closeNeed(x.Line); err != nil {
		return err
	}
	if p.asked != nil {
		return p.fail(x.Line, "the parameter %s has no query for the rows that need it", p.asked.Name)
	}
	read := p.headMarker
	if p.step != nil {
		read = p.stepMarker
	}
	for _, f := range []func(int, string) (bool, error){p.beginStep, read, p.requirement} {
		if ok, err := f(x.Line, words); ok || err != nil {
			return err
		}
	}
	return p.fail(x.Line, "the line %q is not a migration marker; a comment begins with -- alone",
		strings.TrimRight(x.Text, " "))
}

// first reads the first line.
func (p *parser) first(line int, words string) error {
	g := headLine().FindStringSubmatch(words)
	if g == nil {
		return p.fail(line, "the head cannot be read: it is %s<id>-<slug>  <engine>  form %d", Marker, Form)
	}
	p.m.ID, p.m.Engine = g[1], g[2]
	if p.m.Form, _ = strconv.Atoi(g[3]); p.m.Form < 1 || p.m.Form > Form {
		return p.fail(line, "the file has form %s and this erbario reads forms up to %d: use the version that wrote it",
			g[3], Form)
	}
	if p.m.Engine != p.e.Name() {
		return p.fail(line, "the file is for %s, not for %s", p.m.Engine, p.e.Name())
	}
	return nil
}

// statement reads a statement: of a step, or the query of a requirement or a parameter.
func (p *parser) statement(x engine.Piece) error {
	switch {
	case p.asked != nil:
		p.asked.Query, p.asked = x.Text, nil
	case p.need != nil:
		if p.need.Query != "" {
			return p.fail(x.Line, "a requirement has one query")
		}
		p.need.Query = x.Text
	case p.into != nil:
		if err := p.e.SQL().Validate(x.Text); err != nil {
			return p.fail(x.Line, "%v; nothing was run", err)
		}
		*p.into = append(*p.into, Statement{SQL: x.Text, Line: x.Line, Above: p.comments})
		p.comments = nil
	default:
		return p.fail(x.Line, "a statement outside any step; write %sstep 1  TITLE, %sapply and %sundo above it",
			Marker, Marker, Marker)
	}
	return nil
}

// closeNeed ends a requirement.
func (p *parser) closeNeed(line int) error {
	if p.need != nil && p.need.Query == "" {
		return p.fail(line, "a requirement has no query")
	}
	if p.need != nil {
		*p.needTo = append(*p.needTo, *p.need)
	}
	p.need = nil
	return nil
}

// beginStep reads a line that begins a step.
func (p *parser) beginStep(line int, words string) (ok bool, err error) {
	g := stepLine().FindStringSubmatch(words)
	if g == nil {
		return false, nil
	}
	if n := len(p.m.Steps) + 1; g[1] != strconv.Itoa(n) {
		return true, p.fail(line, "expected step %d, not step %s", n, g[1])
	}
	p.m.Steps = append(p.m.Steps, Step{Line: line, NoUndo: true, Above: p.comments})
	p.comments, p.into = nil, nil
	p.step = &p.m.Steps[len(p.m.Steps)-1]
	p.step.Title, p.step.Note, p.step.Kind = stepWords(g[2])
	p.step.Work = workOf(p.step.Note)
	return true, nil
}

// stepMarker reads a line about the step at hand.
func (p *parser) stepMarker(line int, words string) (ok bool, err error) {
	s := p.step
	word, rest, _ := strings.Cut(words, " ")
	switch {
	case words == "apply":
		p.into = &s.Apply
		s.Under, p.comments = append(s.Under, p.comments...), nil
	case words == "undo":
		if p.into == &s.Apply {
			s.ApplyEnd, p.comments = p.comments, nil
		}
		p.into, s.NoUndo = &s.Undo, false
	case word == "loses":
		rest, s.Kept = strings.CutSuffix(rest, ", kept")
		s.Loses = readLosses(rest)
	case strings.HasPrefix(words, "undo loses "):
		s.UndoLoses = readLosses(strings.TrimSuffix(strings.TrimPrefix(words, "undo loses "), ", kept"))
	case word == "batches":
		names := readNames(rest)
		if len(names) < 2 || s.Kind != engine.InBatches {
			return true, p.fail(line, "this line cannot be read: it is batches TABLE, KEY, under a step (in batches)")
		}
		s.Batches = &engine.Batches{Table: names[0], Key: names[1:]}
	case strings.HasPrefix(words, "only rows where "):
		if s.Batches == nil {
			return true, p.fail(line, "this line belongs below %sbatches TABLE, KEY", Marker)
		}
		s.Batches.Where = strings.TrimPrefix(words, "only rows where ")
	case word == "rows":
		r, ok := readRows(words)
		if !ok {
			return true, p.fail(line, "this line cannot be read: it is rows TABLE, FIELD, OTHER FIELDS: KEY, KEY")
		}
		s.Rows = append(s.Rows, r)
	case word == "object":
		o, ok := readObject(rest)
		if !ok {
			return true, p.fail(line, "this line cannot be read: it is object KIND, NAME, or object KIND, NAME, TABLE")
		}
		s.Objects = append(s.Objects, o)
	default:
		return false, nil
	}
	return true, nil
}

// requirement reads a line that begins a requirement.
func (p *parser) requirement(line int, words string) (ok bool, err error) {
	g := needLine().FindStringSubmatch(words)
	if g == nil {
		return false, nil
	}
	sentence, err := strconv.Unquote(g[4])
	if err != nil {
		return true, p.fail(line, "the sentence of this requirement cannot be read: it is written in double quotes")
	}
	p.need, p.into = &engine.Requirement{
		Sentence: sentence,
		Wait:     g[2] != "",
		Revives:  g[3] != "" || strings.HasSuffix(sentence, formerlyRevives),
	}, nil
	switch when := g[1] + g[3]; {
	case when == "before apply" || when == "":
		p.needTo = &p.m.BeforeApply
	case when == "before undo":
		p.needTo = &p.m.BeforeUndo
	case p.step == nil:
		return true, p.fail(line, `"here" is outside a step`)
	case when == "here before undo":
		p.needTo = &p.step.HereUndo
	default:
		p.needTo = &p.step.Here
	}
	return true, nil
}

// headMarker reads a line before the first step that is no requirement.
func (p *parser) headMarker(line int, words string) (ok bool, err error) {
	switch {
	case strings.HasPrefix(words, "parameter "), strings.HasPrefix(words, "undo parameter "):
		x, ok := readParameter(words)
		if !ok {
			return true, p.fail(line,
				"this parameter cannot be read: it is parameter NAME for \"TABLE.COLUMN\" a \"TYPE\" here \"VALUE\"")
		}
		p.m.Parameters = append(p.m.Parameters, x)
		p.into = nil
		if !x.Undo {
			p.asked = &p.m.Parameters[len(p.m.Parameters)-1]
		}
		return true, nil
	case strings.HasPrefix(words, "found "):
		return true, p.found(line, strings.TrimPrefix(words, "found "))
	}
	return p.m.headWords(words), nil
}

// found reads what was there though no migration had made it.
func (p *parser) found(line int, words string) error {
	rest, beside := strings.CutPrefix(words, "beside ")
	rest, object := strings.CutPrefix(rest, "object ")
	names := readNames(rest)
	if len(names) < 1 || len(names) > 2 || len(p.m.BeforeApply)+len(p.m.BeforeUndo) > 0 {
		return p.fail(line, "a line found names one table, or a table and a column, and comes before the requirements")
	}
	f := Found{Table: names[0], Column: strings.Join(names[1:], "")}
	if object {
		f.Kind, f.Table, f.Column = f.Table, f.Column, ""
	}
	if beside {
		f.Column, f.Beside = "", f.Column
	}
	p.m.Found = append(p.m.Found, f)
	p.into = &p.m.Found[len(p.m.Found)-1].Make
	return nil
}

// end looks at the whole.
func (p *parser) end(line int) error {
	if err := p.closeNeed(line); err != nil {
		return err
	}
	m := p.m
	for _, s := range m.Steps {
		if s.Kind == engine.InBatches && s.Batches == nil {
			return p.fail(s.Line, "a step (in batches) needs its rows: %sbatches TABLE, KEY", Marker)
		}
		for _, list := range [][]Statement{s.Apply, s.Undo} {
			var all []string
			for _, st := range list {
				all = append(all, st.SQL)
			}
			if err := engine.ValidateStep(p.e.SQL(), s.Kind, all); err != nil {
				return p.fail(s.Line, "%v; nothing was run", err)
			}
		}
	}
	if len(m.Steps) == 0 {
		return p.fail(1, "the migration has no step; the file may be truncated")
	}
	if s := &m.Steps[len(m.Steps)-1]; s.NoUndo {
		s.ApplyEnd = append(s.ApplyEnd, p.comments...)
	} else {
		s.UndoEnd = append(s.UndoEnd, p.comments...)
	}
	last := m.Steps[len(m.Steps)-1]
	if p.into == nil || last.NoUndo && !m.ByHand {
		return p.fail(last.Line, "step %d has no undo; the file seems truncated: restore it from version control",
			len(m.Steps))
	}
	return nil
}

// headWords reads a line of the head but the first.
func (m *Migration) headWords(words string) bool {
	rest := func(prefix string) (string, bool) { return strings.CutPrefix(words, prefix) }
	if r, ok := rest("follows "); ok {
		m.Follows = strings.TrimSpace(r)
	} else if r, ok := rest("redrafts "); ok {
		m.Redrafts = append(m.Redrafts, strings.TrimSpace(r))
	} else if r, ok := rest(schemasAre); ok {
		m.Schemas = readNames(strings.TrimSpace(r))
	} else if g := schemaIs().FindStringSubmatch(words); g != nil {
		m.Before, m.After = g[1], g[2]
	} else if words == "by hand" {
		m.ByHand = true
	} else if words == "direct" {
		m.Direct = true
	} else if r, ok := rest("answered "); ok {
		m.Answers = append(m.Answers, r)
	} else if r, ok := rest("drafted "); ok {
		m.Drafted = strings.Fields(r)
	} else if r, ok := rest("proof of "); ok {
		m.ProofOf = strings.TrimSpace(r)
	} else if strings.HasPrefix(words, "proved ") || strings.HasPrefix(words, "not proved") {
		m.Proof = words
	} else if !strings.HasPrefix(words, "not atomic") {
		return false
	}
	return true
}

// workOf reads what a step does with rows out of the words beside its title: those of
// engine.Work, or behind the locks that it takes. Where it locks a table and says nothing of
// its rows, it keeps them.
func workOf(note string) engine.Work {
	for w := engine.Keeps; w <= engine.Copies; w++ {
		if note == w.String() || strings.HasPrefix(note, w.String()+": ") {
			return w
		}
	}
	switch {
	case strings.Contains(note, ", rewrites it"),
		strings.Contains(note, ", some rows at a time"),
		note == "writes every row anew": // so called in earlier versions
		return engine.Rewrites
	case strings.Contains(note, ", reads it"):
		return engine.Reads
	case strings.Contains(note, " on "):
		return engine.Keeps
	}
	return engine.NoWork
}

// formerlyRevives ends the sentence of a requirement about deleted rows in files that do not
// say so in the line itself.
const formerlyRevives = "are deleted and would come back"

// stepWords takes a step's line apart: title, note, and mode in brackets.
func stepWords(s string) (title, note string, kind engine.StepKind) {
	for _, x := range engine.Kinds {
		if r, ok := strings.CutSuffix(s, "("+string(x)+")"); ok {
			s, kind = strings.TrimSpace(r), x
		}
	}
	if i := strings.LastIndex(s, "  ("); i >= 0 && strings.HasSuffix(s, ")") {
		s, note = s[:i], s[i+3:len(s)-1]
	}
	return strings.TrimSpace(s), note, kind
}

// plainLines is a text whose lines end with a line feed alone, where all of them end with a carriage
// return, too: an editor made them so. Where only some do, they are within what the database holds.
func plainLines(text string) string {
	if strings.Count(text, "\r\n") < strings.Count(text, "\n") {
		return text
	}
	return strings.ReplaceAll(text, "\r\n", "\n")
}
