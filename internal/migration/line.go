package migration

// This file orders the migrations of a folder and finds one by a part of its
// name.

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"erbario/internal/engine/sqltext"
	"erbario/internal/schema"
)

// ReadFolder reads the migrations of one engine, in their order. A folder that
// does not exist holds none.
func ReadFolder(dir string, e Engine) ([]*Migration, error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []*Migration
	for _, entry := range entries {
		if entry.IsDir() || !strings.HasSuffix(entry.Name(), ".sql") {
			continue
		}
		id, engineName, ok := NameParts(entry.Name())
		path := filepath.Join(dir, entry.Name())
		if !ok {
			return nil, fmt.Errorf(
				"%s has no migration file name: <id>-<slug>.<engine>.sql, such as 20261123T093000-first-sheets.%s.sql; rename it, or move it elsewhere",
				path, e.Name())
		}
		if engineName != e.Name() {
			continue
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return nil, fmt.Errorf("the migration cannot be read: %w", err)
		}
		m, err := Parse(path, strings.TrimPrefix(string(text), "\ufeff"), e) // without the mark of its encoding
		if err != nil {
			return nil, err
		}
		if m.ID != id {
			return nil, &ParseError{
				Path:    path,
				Line:    1,
				Message: fmt.Sprintf("the head says %s and the file's name %s: make them the same", m.ID, id),
			}
		}
		out = append(out, m)
	}
	slices.SortFunc(out, func(a, b *Migration) int { return strings.Compare(a.ID, b.ID) })
	return out, nil
}

// Find returns the one migration whose id has part in it.
func Find(list []*Migration, part string) (*Migration, error) {
	var hits, titled []*Migration
	for _, m := range list {
		if m.ID == part {
			return m, nil
		}
		if strings.Contains(m.ID, part) {
			hits = append(hits, m)
		}
		if _, title, _ := strings.Cut(m.ID, "-"); title == part {
			titled = append(titled, m)
		}
	}
	if len(titled) == 1 { // the whole title, which others only begin with
		return titled[0], nil
	}
	switch len(hits) {
	case 1:
		return hits[0], nil
	case 0:
		return nil, fmt.Errorf(
			"no migration has %q in its name; erbario history lists the applied ones, erbario status the pending ones",
			part,
		)
	}
	var names []string
	for _, m := range hits[:min(len(hits), 5)] {
		names = append(names, m.ID)
	}
	return nil, fmt.Errorf("%d migrations have %q in their name: %s; write more of the name", len(hits), part,
		strings.Join(names, ", "))
}

// Gap is a migration that follows one whose file does not exist.
type Gap struct {
	Migration *Migration
	Missing   string // the id that it follows
}

// Error says which file is missing, and the ways on.
func (g *Gap) Error() string {
	return fmt.Sprintf(
		"%s follows %s, which has no file: restore it from version control, or run erbario redraft %s, which drafts the change without it",
		g.Migration.ID, g.Missing, g.Migration.ID)
}

// Gaps returns the migrations of list that follow one which is neither in list nor known.
func Gaps(list []*Migration, known func(id string) bool) []*Gap {
	var out []*Gap
	for _, m := range list {
		if m.Follows != "" && !slices.ContainsFunc(list, func(o *Migration) bool { return o.ID == m.Follows }) &&
			!known(m.Follows) {
			out = append(out, &Gap{m, m.Follows})
		}
	}
	return out
}

// Touches are the tables that the migration's statements name, in lower case.
func (m *Migration) Touches(e Engine) map[string]bool {
	touched, _ := m.touches(e)
	return touched
}

// touches are the tables that the statements name, and among them those that they create,
// change or drop.
func (m *Migration) touches(e Engine) (touched, changed map[string]bool) {
	touched, changed = map[string]bool{}, map[string]bool{}
	for _, undo := range []bool{false, true} {
		for _, sql := range m.SQL(undo) {
			for i, t := range sqltext.Touches(e.SQL().Lex(sql), nil).Tables {
				if schema.Own(t) || strings.HasPrefix(strings.ToLower(t), "sqlite_") {
					continue
				}
				touched[strings.ToLower(t)] = true
				if i == 0 {
					changed[strings.ToLower(t)] = true
				}
			}
		}
	}
	return touched, changed
}

// Fork is two migrations that were proved on the same state, and of which one changes a
// table that the other touches, so that neither was proved on the other.
type Fork struct{ First, Second *Migration }

// Error says what is wrong with the two, and the way out.
func (f Fork) Error() string {
	return fmt.Sprintf("%s and %s were drafted in parallel and change the same table: run erbario redraft %[1]s",
		f.Second.ID, f.First.ID, f.Second.ID)
}

// Forks lists the forks of a line. Migrations that touch different tables may be in one
// line, and so may those that only refer to the same one.
func Forks(list []*Migration, e Engine) []Fork {
	var out []Fork
	for i, m := range list {
		// What stands between m and what it follows was not there for its proof. Where the
		// latter has no file, its time says what stood there.
		for j := i - 1; j >= 0 && list[j].ID > m.Follows; j-- {
			if Together(list[j], m, e) {
				out = append(out, Fork{list[j], m})
			}
		}
	}
	return out
}

// Together tells whether one of two migrations changes a table that the other touches, so
// that their order matters.
func Together(a, b *Migration, e Engine) bool {
	touched, changed := a.touches(e)
	theirs, theirChanged := b.touches(e)
	return overlap(changed, theirs) || overlap(touched, theirChanged)
}

func overlap(a, b map[string]bool) bool {
	for name := range a {
		if b[name] {
			return true
		}
	}
	return false
}
