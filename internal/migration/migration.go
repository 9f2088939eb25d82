// Package migration is the migration file: how it is read, written, ordered and told from an
// edited one. Each step stands with its way back. Lines that begin with "-- : " between
// statements are read; everything else is SQL of the engine, and where a statement ends is
// told by the engine's own tokenizer, so that no text inside SQL can pose as a marker:
//
//	-- : step 1  add boxes.label  (keeps every row)
//	-- : undo loses boxes.label, kept
//	-- : apply
//	ALTER TABLE boxes ADD COLUMN label text;
//	-- : undo
//	ALTER TABLE boxes DROP COLUMN label;
package migration

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"
	"unicode"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

// Marker begins every line that is read.
const Marker = "-- : "

// Form is the version of the format that this program writes; it reads the earlier ones, too.
const Form = 2

// Engine is what the files of an engine are read and written with.
type Engine interface {
	Name() string
	SQL() engine.Dialect
}

// Migration is one file.
type Migration struct {
	ID      string // the time and the slug, as in the file's name
	Form    int    // of the file that it is in; 0: the one that this program writes
	Engine  string
	Follows string // the migration it was proved upon; empty: the first
	// Redrafts are the ids of migrations that it was drafted again from, its own aside: what
	// their undo kept comes back with it.
	Redrafts []string
	Schemas  []string // in which it has tables, next to the one of the project
	Before   string   // fingerprint of the declared schema before
	After    string   // and after
	Proof    string   // the outcome of the last proof; empty: not proved
	ProofOf  string   // the first digits of the checksum of what was proved
	Answers  []string
	ByHand   bool
	Direct   bool     // applied to a throwaway database without a file
	Drafted  []string // the sums of the steps as they were drafted: any other was written by a person

	Found       []Found
	Parameters  []engine.Parameter
	BeforeApply []engine.Requirement
	BeforeUndo  []engine.Requirement
	Steps       []Step

	Text string // the whole file
	Path string // where it was read from; empty: it was not
}

// Found is a table, or a column of one, that was there though no migration had
// made it, and that this one builds on: how to make it on a database that has it
// not. It is never undone.
type Found struct {
	Table, Column string // no Column: the whole table
	Beside        string // an index or a trigger of the table, instead of a column
	Kind          string // of something that is no table, such as a view: Table is its name; empty: a table
	Make          []Statement
}

func (f Found) line() string {
	if f.Kind != "" {
		return "found object " + nameList([]string{f.Kind, f.Table})
	}
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

// Step is one step as it is in a file.
type Step struct {
	Title     string
	Work      engine.Work
	Note      string // what stands beside its title in the file
	Kind      engine.StepKind
	Loses     []engine.Loss
	Kept      bool
	UndoLoses []engine.Loss        // what the undo destroys, and the runner keeps
	Here      []engine.Requirement // asked just before it is applied
	HereUndo  []engine.Requirement // asked just before it is undone
	Batches   *engine.Batches      // of a step in batches
	Rows      []engine.StepRows
	Objects   []engine.StepObject
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
	return len(s.Apply)+len(s.Undo)+len(s.Here)+len(s.HereUndo)+len(s.Rows)+len(s.Objects) == 0
}

// Adopted tells whether a migration says nothing but what tables existed before it.
func (m *Migration) Adopted() bool {
	tables := slices.ContainsFunc(m.Found, func(f Found) bool { return f.Column+f.Beside+f.Kind == "" })
	works := func(s Step) bool { return len(s.Apply)+len(s.Undo) > 0 }
	return tables && !m.ByHand && !slices.ContainsFunc(m.Steps, works)
}

// Sum is a short fingerprint of what one of its steps does, and how it is taken
// back. It is the same whatever the migration's id, which is in the names of
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
// none, and a way back that does not exist; "" for nothing.
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

// FoundSQL are the statements for what existed before the migration.
func (m *Migration) FoundSQL() []string {
	var out []string
	for _, f := range m.Found {
		for _, st := range f.Make {
			out = append(out, st.SQL)
		}
	}
	return out
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

var (
	headLine = once(`^(\d{8}T\d{6}\S*)\s+(\S+)\s+form (\d+)$`)
	stepLine = once(`^step (\d+)(?:\s+(.*))?$`)
	needLine = once(
		`^(?:(before apply|before undo|here|here before undo), none of these may exist|(before apply, wait) until none of these exist|(before undo|here before undo), no deleted row may exist)\s+(".*")$`,
	)
	schemaIs = once(`^schema (\S+) -> (\S+)$`)
	nameForm = once(`^(\d{8}T\d{6}(?:-[^.]*)?)\.([a-z]+)\.sql$`)
)
