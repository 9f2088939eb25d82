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
func Parse(path, text string, e engine.Engine) (*Migration, error) {
	m := &Migration{Text: text, Path: path}
	fail := func(line int, format string, args ...any) (*Migration, error) {
		return nil, &ParseError{Path: path, Line: line, Message: fmt.Sprintf(format, args...)}
	}
	pieces := e.SQL().Split(strings.ReplaceAll(text, "\r\n", "\n"))
	if len(pieces) == 0 || !pieces[0].Comment || !strings.HasPrefix(pieces[0].Text, Marker) {
		return fail(1,
			"the file does not begin with the head of a migration, such as %s20261123T093000-first-sheets  %s  form %d",
			Marker, e.Name(), Form)
	}
	var step *Step
	var need *engine.Requirement
	var asked *Parameter // whose query comes next
	var needTo *[]engine.Requirement
	var into *[]Statement
	var comments []string // that belong to what comes next
	closeNeed := func(line int) error {
		if need != nil && need.Query == "" {
			return &ParseError{Path: path, Line: line, Message: "a requirement has no query"}
		}
		if need != nil {
			*needTo = append(*needTo, *need)
		}
		need = nil
		return nil
	}
	for i, p := range pieces {
		if p.Bad != "" {
			return fail(p.Line, "the file seems truncated: %s; restore it from version control", p.Bad)
		}
		if p.Comment {
			if !strings.HasPrefix(p.Text, Marker) {
				comments = append(comments, strings.TrimRight(p.Text, "\n"))
				continue
			}
			words := strings.TrimSpace(strings.TrimPrefix(p.Text, Marker))
			if i == 0 {
				g := headLine().FindStringSubmatch(words)
				if g == nil {
					return fail(p.Line, "the head cannot be read: it is %s<id>-<slug>  <engine>  form %d", Marker, Form)
				}
				if m.Form, _ = strconv.Atoi(g[3]); m.Form < 1 || m.Form > Form {
					return fail(p.Line,
						"the file has form %s and this erbario reads forms up to %d: use the version that wrote it",
						g[3], Form)
				}
				if g[2] != e.Name() {
					return fail(p.Line, "the file is for %s, not for %s", g[2], e.Name())
				}
				m.ID, m.Engine = g[1], g[2]
				continue
			}
			if err := closeNeed(p.Line); err != nil {
				return nil, err
			}
			if asked != nil {
				return fail(p.Line, "the parameter %s has no query for the rows that need it", asked.Name)
			}
			switch g := stepLine().FindStringSubmatch(words); {
			case g != nil:
				if g[1] != strconv.Itoa(len(m.Steps)+1) {
					return fail(p.Line, "expected step %[2]d, not step %[1]s", g[1], len(m.Steps)+1)
				}
				m.Steps = append(m.Steps, Step{Line: p.Line, NoUndo: true, Above: comments})
				comments = nil
				step, into = &m.Steps[len(m.Steps)-1], nil
				step.Title, step.Note, step.Kind = stepWords(g[2])
				step.Work = workOf(step.Note)
			case words == "apply" && step != nil:
				into = &step.Apply
				step.Under, comments = append(step.Under, comments...), nil
			case words == "undo" && step != nil:
				if into == &step.Apply {
					step.ApplyEnd, comments = comments, nil
				}
				into, step.NoUndo = &step.Undo, false
			case strings.HasPrefix(words, "loses ") && step != nil:
				list := strings.TrimPrefix(words, "loses ")
				list, step.Kept = strings.CutSuffix(list, ", kept")
				step.Loses = readNames(list)
			case strings.HasPrefix(words, "batches ") && step != nil:
				names := readNames(strings.TrimPrefix(words, "batches "))
				if len(names) < 2 || step.Kind != engine.InBatches {
					return fail(p.Line, "this line cannot be read: it is batches TABLE, KEY, under a step (in batches)")
				}
				step.Batches = &engine.Batches{Table: names[0], Key: names[1:]}
			case strings.HasPrefix(words, "only rows where ") && step != nil:
				if step.Batches == nil {
					return fail(p.Line, "this line belongs below %sbatches TABLE, KEY", Marker)
				}
				step.Batches.Where = strings.TrimPrefix(words, "only rows where ")
			case strings.HasPrefix(words, "undo loses ") && step != nil:
				list, _ := strings.CutSuffix(strings.TrimPrefix(words, "undo loses "), ", kept")
				step.UndoLoses = readNames(list)
			case step != nil && strings.HasPrefix(words, "rows "):
				r, ok := readRows(words)
				if !ok {
					return fail(p.Line, "this line cannot be read: it is rows TABLE, FIELD, OTHER FIELDS: KEY, KEY")
				}
				step.Rows = append(step.Rows, r)
			case needLine().MatchString(words):
				g := needLine().FindStringSubmatch(words)
				sentence, err := strconv.Unquote(g[4])
				if err != nil {
					return fail(p.Line,
						"the sentence of this requirement cannot be read: it is written in double quotes")
				}
				need, into = &engine.Requirement{
					Sentence: sentence,
					Wait:     g[2] != "",
					Revives:  g[3] != "" || strings.HasSuffix(sentence, formerlyRevives),
				}, nil
				switch g[1] + g[3] {
				case "before apply", "":
					needTo = &m.BeforeApply
				case "before undo":
					needTo = &m.BeforeUndo
				default:
					if step == nil {
						return fail(p.Line, `"here" is outside a step`)
					}
					needTo = &step.Here
					if g[1]+g[3] == "here before undo" {
						needTo = &step.HereUndo
					}
				}
			case step == nil && (strings.HasPrefix(words, "parameter ") || strings.HasPrefix(words, "undo parameter ")):
				x, ok := readParameter(words)
				if !ok {
					return fail(p.Line,
						"this parameter cannot be read: it is parameter NAME for \"TABLE.COLUMN\" a \"TYPE\" here \"VALUE\"")
				}
				m.Parameters = append(m.Parameters, x)
				into = nil
				if !x.Undo {
					asked = &m.Parameters[len(m.Parameters)-1]
				}
			case step == nil && strings.HasPrefix(words, "found "):
				rest, beside := strings.CutPrefix(strings.TrimPrefix(words, "found "), "beside ")
				names := readNames(rest)
				if len(names) < 1 || len(names) > 2 || len(m.BeforeApply)+len(m.BeforeUndo) > 0 {
					return fail(p.Line,
						"a line found names one table, or a table and a column, and comes before the requirements")
				}
				f := Found{Table: names[0], Column: strings.Join(names[1:], "")}
				if beside {
					f.Column, f.Beside = "", f.Column
				}
				m.Found = append(m.Found, f)
				into = &m.Found[len(m.Found)-1].Make
			case step == nil && m.headWords(words):
			default:
				return fail(p.Line, "the line %q is not a migration marker; a comment begins with -- alone",
					strings.TrimRight(p.Text, " "))
			}
			continue
		}
		switch {
		case asked != nil:
			asked.Query, asked = p.Text, nil
		case need != nil:
			if need.Query != "" {
				return fail(p.Line, "a requirement has one query")
			}
			need.Query = p.Text
		case into != nil:
			if err := e.SQL().Validate(p.Text); err != nil {
				return fail(p.Line, "%v; nothing was run", err)
			}
			*into = append(*into, Statement{SQL: p.Text, Line: p.Line, Above: comments})
			comments = nil
		default:
			return fail(p.Line, "a statement outside any step; write %sstep 1  TITLE, %sapply and %sundo above it",
				Marker, Marker, Marker)
		}
	}
	if err := closeNeed(strings.Count(text, "\n") + 1); err != nil {
		return nil, err
	}
	for _, s := range m.Steps {
		if s.Kind == engine.InBatches && s.Batches == nil {
			return fail(s.Line, "a step (in batches) needs its rows: %sbatches TABLE, KEY", Marker)
		}
		for _, list := range [][]Statement{s.Apply, s.Undo} {
			var all []string
			for _, st := range list {
				all = append(all, st.SQL)
			}
			if err := engine.ValidateStep(e.SQL(), s.Kind, all); err != nil {
				return fail(s.Line, "%v; nothing was run", err)
			}
		}
	}
	if len(m.Steps) == 0 {
		return fail(1, "the migration has no step; the file may be truncated")
	}
	if s := &m.Steps[len(m.Steps)-1]; s.NoUndo {
		s.ApplyEnd = append(s.ApplyEnd, comments...)
	} else {
		s.UndoEnd = append(s.UndoEnd, comments...)
	}
	last := m.Steps[len(m.Steps)-1]
	if into == nil || last.NoUndo && !m.ByHand {
		return fail(last.Line, "step %d has no undo; the file seems truncated: restore it from version control",
			len(m.Steps))
	}
	return m, nil
}

// headWords reads a line of the head but the first.
func (m *Migration) headWords(words string) bool {
	rest := func(prefix string) (string, bool) { return strings.CutPrefix(words, prefix) }
	if r, ok := rest("follows "); ok {
		m.Follows = strings.TrimSpace(r)
	} else if r, ok := rest("redrafts "); ok {
		m.Redrafts = append(m.Redrafts, strings.TrimSpace(r))
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
