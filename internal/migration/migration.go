// Package migration is the migration file: how it is read, written, ordered and
// told from an edited one. Each step stands with its way back beside it. Lines
// that begin with "-- : " between statements are read; everything else is SQL
// of the engine, and where a statement ends is told by the engine's own
// tokenizer, so that no text inside SQL can pose as a marker.
package migration

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

// Marker begins every line that is read.
const Marker = "-- : "

// Form is the version of the format that this program writes; it reads the earlier ones, too.
const Form = 2

// Migration is one file.
type Migration struct {
	ID      string // the time and the slug, as in the file's name
	Form    int    // of the file that it stands in; 0: the one that this program writes
	Engine  string
	Follows string // the migration it was proved upon; empty: the first
	// Redrafts are the ids of migrations that it was drafted again from, its own aside: what
	// their undo kept comes back with it.
	Redrafts []string
	Before   string // fingerprint of the declared schema before
	After    string // and after
	Proof    string // the outcome of the last proof; empty: not proved
	ProofOf  string // the first digits of the checksum of what was proved
	Answers  []string
	ByHand   bool
	Direct   bool     // applied to a throwaway database without a file
	Drafted  []string // the sums of the steps as they were drafted: any other was written by a person

	Found       []Found
	Parameters  []Parameter
	BeforeApply []engine.Requirement
	BeforeUndo  []engine.Requirement
	Steps       []Step

	Text string // the whole file
	Path string // where it was read from; empty: it was not
}

// Found is a table, or a column of one, that was there though no migration had
// made it, and that this one builds on: how to make it on a database that has it
// not. It is never taken back.
type Found struct {
	Table, Column string // no Column: the whole table
	Beside        string // an index or a trigger of the table, instead of a column
	Make          []Statement
}

func (f Found) line() string {
	if f.Beside != "" {
		return "found beside " + nameList([]string{f.Table, f.Beside})
	}
	return "found " + nameList(f.names())
}

func (f Found) names() []string {
	if f.Column == "" {
		return []string{f.Table}
	}
	return []string{f.Table, f.Column}
}

// Step is one step as it stands in a file.
type Step struct {
	Title     string
	Work      engine.Work
	Note      string // what stands beside its title in the file
	Kind      engine.StepKind
	Loses     []string
	Kept      bool
	UndoLoses []string             // what the undo destroys, and the runner keeps
	Here      []engine.Requirement // asked just before it is applied
	HereUndo  []engine.Requirement // asked just before it is taken back
	Batches   *engine.Batches      // of a step in batches
	Rows      []engine.StepRows
	Apply     []Statement
	Undo      []Statement
	NoUndo    bool // the file has no undo for it
	Line      int
	// Comments of the file: before the step's line, under it, and behind the statements of
	// each direction.
	Above, Under, ApplyEnd, UndoEnd []string
}

// Empty tells whether the step does and asks nothing.
func (s *Step) Empty() bool {
	return len(s.Apply)+len(s.Undo)+len(s.Here)+len(s.HereUndo)+len(s.Rows) == 0
}

// Sum is a short fingerprint of what one of its steps does, and how it is taken
// back. It is the same whatever the migration's id, which stands in the names of
// kept tables.
func (m *Migration) Sum(s *Step) string {
	var b strings.Builder
	for _, list := range [][]Statement{s.Apply, s.Undo} {
		for _, st := range list {
			b.WriteString(st.SQL + ";\n")
		}
		b.WriteString("--\n")
	}
	return schema.Hash8(strings.ReplaceAll(b.String(), m.Kept(), ""))
}

// ByPerson tells whether a step was written or changed by a person since it was
// drafted. In a file that does not say what was drafted, none was.
func (m *Migration) ByPerson(s *Step) bool {
	return len(m.Drafted) > 0 && !slices.Contains(m.Drafted, m.Sum(s))
}

// Statement is one statement and its line in the file.
type Statement struct {
	SQL   string
	Line  int
	Above []string // the comments before it
}

// Proved tells whether the last proof held, and was of the file as it stands: one
// that was edited since is not proved.
func (m *Migration) Proved() bool {
	return strings.HasPrefix(m.Proof, "proved ") && m.ProofOf == m.Checksum()[:proofDigits]
}

// OneWay is the step, from 1, that a person wrote and for which the file has no undo; 0:
// there is none.
func (m *Migration) OneWay() int {
	return 1 + slices.IndexFunc(m.Steps, func(s Step) bool { return s.NoUndo })
}

// The words of a proof's line in the head of a file with which begins what it could not try.
const (
	ForwardOnly = "forward only"
	WithoutRows = "without rows in "
	StepDoubt   = "; step "
)

// Doubts is what the last proof could not try: tables without rows, steps that changed
// none, and a way back that is not there; "" for nothing.
func (m *Migration) Doubts() string {
	for _, begin := range []string{ForwardOnly, "forward alone", WithoutRows, StepDoubt} { // the second in earlier versions
		if i := strings.Index(m.Proof, begin); i >= 0 && m.Proved() {
			return strings.TrimPrefix(m.Proof[i:], "; ")
		}
	}
	return ""
}

const proofDigits = 12

// SetProof notes the outcome of a proof of the file as it stands.
func (m *Migration) SetProof(outcome string) {
	m.Proof, m.ProofOf = outcome, ""
	if strings.HasPrefix(outcome, "proved ") {
		m.ProofOf = m.Checksum()[:proofDigits]
	}
}

// Stamp is the time in the id.
func (m *Migration) Stamp() string { s, _, _ := strings.Cut(m.ID, "-"); return s }

// Checksum is the fingerprint of the file without its head, whatever its line
// endings: what a proof writes into the head makes it no other migration.
func (m *Migration) Checksum() string {
	_, body := splitHead(strings.ReplaceAll(m.Text, "\r\n", "\n"))
	body = strings.Trim(body, "\n")
	sum := sha256.Sum256([]byte(body))
	return hex.EncodeToString(sum[:])
}

// Atomic tells whether all of it runs in one transaction.
func (m *Migration) Atomic() bool {
	for _, s := range m.Steps {
		if s.Kind != engine.InTransaction {
			return false
		}
	}
	return true
}

// SQL is every statement of one direction, in the order in which they run.
func (m *Migration) SQL(undo bool) []string {
	var out []string
	for i := range m.Steps {
		s := m.Steps[i]
		list := s.Apply
		if undo {
			list = m.Steps[len(m.Steps)-1-i].Undo
		}
		for _, st := range list {
			out = append(out, st.SQL)
		}
	}
	return out
}

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

// Title makes a line's worth of a text: control characters gone, so that no
// name with a line break in it can begin a marker.
func Title(s string) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' {
			return ' '
		}
		return r
	}, s)
	return strings.Join(strings.Fields(s), " ")
}

// Slug is the part of a file's name that is made of the title.
func Slug(title string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(title) {
		switch {
		case unicode.IsLetter(r) && r < 0x250, unicode.IsDigit(r) && r < 0x80:
			b.WriteRune(fold(r))
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	s := b.String()
	if len(s) > 60 {
		s = s[:60]
		for !isASCII(s) && s != "" {
			s = s[:len(s)-1]
		}
	}
	if s = strings.Trim(s, "-"); s == "" {
		return "change"
	}
	return s
}

func isASCII(s string) bool {
	for _, r := range s {
		if r > 127 {
			return false
		}
	}
	return true
}

// fold takes the accents off the letters that names in Europe have.
func fold(r rune) rune {
	const from, to = "àáâãäåçèéêëìíîïñòóôõöøùúûüýÿ", "aaaaaaceeeeiiiinoooooouuuuyy"
	if i := strings.IndexRune(from, r); i >= 0 {
		return rune(to[len([]rune(from[:i]))])
	}
	if r > 127 {
		return 'x'
	}
	return r
}

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
			words := "none of these may exist"
			if r.Wait {
				words = "wait until none of these exist"
			} else if r.Revives {
				words = "no deleted row may exist"
			}
			fmt.Fprintf(&b, "%s%s%s, %s  %s\n%s;\n", before, Marker, when, words, strconv.Quote(Title(r.Sentence)), r.Query)
		}
	}
	for _, f := range m.Found {
		fmt.Fprintf(&b, "\n%s%s\n", Marker, f.line())
		for _, st := range f.Make {
			b.WriteString(st.SQL + ";\n")
		}
	}
	for _, x := range m.Parameters {
		fmt.Fprintf(&b, "\n%s%s\n", Marker, x.line())
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
		fmt.Fprintf(&b, "%sstep %d  %s", Marker, i+1, unmarked.Replace(Title(s.Title)))
		if s.Note != "" {
			fmt.Fprintf(&b, "  (%s)", unmarked.Replace(Title(s.Note)))
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
			fmt.Fprintf(&b, "%sloses %s", Marker, nameList(s.Loses))
			if s.Kept {
				b.WriteString(", kept")
			}
			b.WriteByte('\n')
		}
		if len(s.UndoLoses) > 0 {
			fmt.Fprintf(&b, "%sundo loses %s, kept\n", Marker, nameList(s.UndoLoses))
		}
		for _, r := range s.Rows {
			for keys := range slices.Chunk(r.Keys, 8) {
				fmt.Fprintf(&b, "%s%s %s: %s\n", Marker, rowsWord(r), nameList(append([]string{r.Table, keyNames(r.By)}, r.Columns...)), nameList(keys))
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
		fmt.Fprintf(b, "%sanswered %s\n", Marker, Title(a))
	}
	if !m.Atomic() {
		fmt.Fprintf(b, "%snot atomic: it can stop between two steps, and is resumed or rolled back from there\n", Marker)
	}
	if m.Proof != "" {
		fmt.Fprintf(b, "%s%s\n", Marker, Title(m.Proof))
	}
	if len(m.Drafted) > 0 {
		fmt.Fprintf(b, "%sdrafted %s\n", Marker, strings.Join(m.Drafted, " "))
	}
	if m.ProofOf != "" {
		fmt.Fprintf(b, "%sproof of %s\n", Marker, m.ProofOf)
	}
}

// nameList puts names in a line; one that a comma or a control character could
// tear apart stands in quotes.
func nameList(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = n
		if n != Title(n) || strings.ContainsAny(n, ",\"\\") {
			out[i] = strconv.Quote(n)
		}
	}
	return strings.Join(out, ", ")
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

// ParseError says what is wrong in a file, and where.
type ParseError struct {
	Path    string
	Line    int
	Message string
}

func (e *ParseError) Error() string { return fmt.Sprintf("%s:%d: %s", e.Path, e.Line, e.Message) }

var (
	headLine = once(`^(\d{8}T\d{6}\S*)\s+(\S+)\s+form (\d+)$`)
	stepLine = once(`^step (\d+)(?:\s+(.*))?$`)
	needLine = once(`^(?:(before apply|before undo|here|here before undo), none of these may exist|(before apply, wait) until none of these exist|(before undo|here before undo), no deleted row may exist)\s+(".*")$`)
	schemaIs = once(`^schema (\S+) -> (\S+)$`)
	nameForm = once(`^(\d{8}T\d{6}(?:-[^.]*)?)\.([a-z]+)\.sql$`)
)

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
		return fail(1, "the file does not begin with the head of a migration, such as %s20261123T093000-first-sheets  %s  form %d", Marker, e.Name(), Form)
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
					return fail(p.Line, "the file has form %s and this erbario reads forms up to %d: use the version that wrote it", g[3], Form)
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
					return fail(p.Line, "the sentence of this requirement cannot be read: it is written in double quotes")
				}
				need, into = &engine.Requirement{Sentence: sentence, Wait: g[2] != "", Revives: g[3] != "" || strings.HasSuffix(sentence, formerlyRevives)}, nil
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
					return fail(p.Line, "this parameter cannot be read: it is parameter NAME for \"TABLE.COLUMN\" a \"TYPE\" here \"VALUE\"")
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
					return fail(p.Line, "a line found names one table, or a table and a column, and comes before the requirements")
				}
				f := Found{Table: names[0], Column: strings.Join(names[1:], "")}
				if beside {
					f.Column, f.Beside = "", f.Column
				}
				m.Found = append(m.Found, f)
				into = &m.Found[len(m.Found)-1].Make
			case step == nil && m.headWords(words):
			default:
				return fail(p.Line, "the line %q is not a migration marker; a comment begins with -- alone", strings.TrimRight(p.Text, " "))
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
			return fail(p.Line, "a statement outside any step; write %sstep 1  TITLE, %sapply and %sundo above it", Marker, Marker, Marker)
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
		return fail(last.Line, "step %d has no undo; the file seems truncated: restore it from version control", len(m.Steps))
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
	case strings.Contains(note, ", rewrites it"), strings.Contains(note, ", some rows at a time"), note == "writes every row anew": // so called in earlier versions
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
