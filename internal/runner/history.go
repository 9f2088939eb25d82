// Package runner takes migrations to a database and back: under the engine's lock, each
// migration's requirements asked before its first step, and what was done recorded in the same
// transaction, or step by step in a journal where there is none.
//
//	done, err := runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Minute})
//	var way *runner.InTheWay
//	if errors.As(err, &way) {
//		fmt.Println(way.Sentence) // 3 rows of boxes have no label: nothing was changed
//	}
package runner

// This file is what a database remembers, and how it stands against the files.

import (
	"context"
	"fmt"
	"os"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/migration"
)

// Applied is one row of history.
type Applied struct {
	ID        string
	Checksum  string
	AppliedAt string // UTC, as 2006-01-02 15:04:05
	AppliedBy string
	TookMS    int64
	Text      string   // the whole file as it was applied
	Answers   []string // to the questions of its draft and of this database, as flags say them
}

// Direct tells whether it was applied without a file.
func (a Applied) Direct() bool { return migration.IsDirect(a.Text) }

// History reads what was applied, oldest first.
func History(ctx context.Context, db engine.Database) ([]Applied, error) {
	has, err := db.HasHistory(ctx)
	if err != nil || !has {
		return nil, err
	}
	rows, err := db.Select(ctx,
		"SELECT id, checksum, applied_at, applied_by, took_ms, text, answers FROM erbario_history ORDER BY id")
	if err != nil {
		return nil, fmt.Errorf("the history cannot be read: %w", err)
	}
	out := make([]Applied, len(rows))
	for i, r := range rows {
		ms, _ := strconv.ParseInt(r[4], 10, 64)
		out[i] = Applied{ID: r[0], Checksum: r[1], AppliedAt: r[2], AppliedBy: r[3], TookMS: ms, Text: r[5]}
		if r[6] != "" {
			out[i].Answers = strings.Split(r[6], "\n")
		}
	}
	return out, nil
}

// LineStatus is how a database stands against the files of migrations.
type LineStatus struct {
	Applied []Applied
	Files   []*migration.Migration
	Pending []*migration.Migration
	Edited  []string // applied, and the file says something else now
	Missing []string // applied, and older than files that are there, and the file is gone
	Newer   []string // applied, and newer than every file: an older checkout
	Direct  []string // applied without a file
	Gaps    []*migration.Gap
	Early   []*Early
	// Forks are pairs of which the second was proved without the first; it is the
	// one to be drafted again.
	Forks []migration.Fork
}

// At is the newest migration that was applied; "" for none.
func (s *LineStatus) At() string {
	if n := len(s.Applied); n > 0 {
		return s.Applied[n-1].ID
	}
	return ""
}

// Problem says why nothing can be applied as things stand, or nil.
func (s *LineStatus) Problem() error {
	switch {
	case len(s.Edited) > 0:
		return fmt.Errorf(
			"the migration %s was edited after it was applied. Restore the file (erbario history %s shows its text), undo it first, or write the change as a new migration",
			s.Edited[0], s.Edited[0])
	case len(s.Missing) > 0:
		return fmt.Errorf(
			"the migration %s was applied but its file is missing: erbario history %s --restore writes it back; or undo it",
			s.Missing[0], s.Missing[0])
	case len(s.Gaps) > 0:
		return s.Gaps[0]
	case len(s.Forks) > 0:
		return s.Forks[0]
	}
	return nil
}

// TooEarly is the first migration that is Early, or nil. It is no Problem: where the two do
// not hinder each other, the waiting one can be applied all the same.
func (s *LineStatus) TooEarly() error {
	if len(s.Early) == 0 {
		return nil
	}
	return s.Early[0]
}

// Early is a migration that is applied, while the one that its file follows waits: it was
// drafted again elsewhere, with the same text.
type Early struct{ Migration, Follows *migration.Migration }

// Error says what is wrong, and the way on.
func (x *Early) Error() string {
	return fmt.Sprintf(
		"%s is applied here without %s, which its file now follows: run erbario undo, then erbario apply applies both and restores the kept values",
		x.Migration.ID, x.Follows.ID)
}

// StatusOf holds files and history against each other.
func StatusOf(files []*migration.Migration, applied []Applied, e Engine) *LineStatus {
	s := &LineStatus{Applied: applied, Files: files}
	byID := map[string]*migration.Migration{}
	newest := ""
	for _, m := range files {
		byID[m.ID] = m
		newest = max(newest, m.ID)
	}
	done := map[string]bool{}
	for _, a := range applied {
		done[a.ID] = true
		m := byID[a.ID]
		switch {
		case m == nil && a.Direct():
			s.Direct = append(s.Direct, a.ID)
		case m != nil && m.Checksum() != a.Checksum:
			s.Edited = append(s.Edited, a.ID)
		case m == nil && a.ID > newest:
			s.Newer = append(s.Newer, a.ID)
		case m == nil:
			s.Missing = append(s.Missing, a.ID)
		}
	}
	for _, m := range files {
		if !done[m.ID] {
			s.Pending = append(s.Pending, m)
		}
	}
	for _, m := range files {
		if before := byID[m.Follows]; done[m.ID] && before != nil && !done[before.ID] &&
			migration.Together(before, m, e) {
			s.Early = append(s.Early, &Early{m, before})
		}
	}
	// What was applied is reported as missing, or as applied directly.
	s.Gaps = migration.Gaps(files, func(id string) bool { return done[id] })
	// Only forks in which something waits block it.
	for _, f := range migration.Forks(files, e) {
		if done[f.First.ID] && !done[f.Second.ID] {
			f.First, f.Second = f.Second, f.First // made here, and the other came with a merge
		}
		if !done[f.Second.ID] || !done[f.First.ID] {
			s.Forks = append(s.Forks, f)
		}
	}
	return s
}

// recordWait is how long a record waits for others.
const recordWait = time.Minute

// Record notes migrations as applied where all that they create exists: nothing of them runs but
// keeps, which creates that in which they would have kept what they remove.
func Record(ctx context.Context, db engine.Database, e Engine, list []*migration.Migration, keeps []string) error {
	return inTurn(ctx, db, recordWait, func() error {
		if err := execAll(ctx, db, slices.Concat(e.OwnTables().History, keeps)); err != nil {
			return err
		}
		for _, m := range list {
			if err := record(ctx, db, m, nil, 0); err != nil {
				return err
			}
		}
		return db.Commit(ctx)
	})
}

// before gives what a migration that is not one transaction needs of Erbario's own: functions, and
// where they are not there yet the tables of the history and of the journal.
func before(e Engine, m *migration.Migration, there bool) []string {
	own := e.OwnTables()
	if there {
		return own.Named(m.Text)
	}
	return append(own.Before(m.Text), own.Journal)
}

// execAll runs statements one after the other.
func execAll(ctx context.Context, db engine.Database, list []string) error {
	for _, sql := range list {
		if err := db.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// record writes a row of history; it belongs into the migration's transaction.
func record(ctx context.Context, db engine.Database, m *migration.Migration, said []string, took time.Duration) error {
	values := HistoryRow(m, said, took)
	args := make([]any, len(values))
	for i, v := range values {
		args[i] = v
	}
	return db.Exec(
		ctx,
		"INSERT INTO erbario_history (id, checksum, applied_at, applied_by, took_ms, text, answers) VALUES (?, ?, ?, ?, ?, ?, ?)",
		args...)
}

// HistoryRow are the values of a row of history, in the order of its columns.
func HistoryRow(m *migration.Migration, said []string, took time.Duration) []string {
	return []string{
		m.ID,
		m.Checksum(),
		time.Now().UTC().Format("2006-01-02 15:04:05"),
		who(),
		strconv.FormatInt(took.Milliseconds(), 10),
		m.Text,
		strings.Join(append(slices.Clone(m.Answers), said...), "\n"),
	}
}

// who is the person or machine that runs this, as far as the system knows.
func who() string {
	name := os.Getenv("USER")
	if name == "" {
		if u, err := user.Current(); err == nil {
			name = u.Username
		}
	}
	host, _ := os.Hostname()
	return strings.Trim(name+"@"+host, "@")
}

// Texts are the migrations in the history, parsed from the text that was kept; files that
// have just that text are taken as they are.
func Texts(applied []Applied, files []*migration.Migration, e Engine) ([]*migration.Migration, error) {
	same := map[string]*migration.Migration{}
	for _, m := range files {
		same[m.ID] = m
	}
	var out []*migration.Migration
	for _, a := range applied {
		if m := same[a.ID]; m != nil && m.Text == a.Text {
			out = append(out, m)
			continue
		}
		m, err := migration.Parse("history of "+a.ID, a.Text, e)
		if err != nil {
			return nil, fmt.Errorf("the text of %s in the database's history cannot be read: %w", a.ID, err)
		}
		out = append(out, m)
	}
	return out, nil
}

// upTo cuts a list behind the migration that part names.
func upTo(list []*migration.Migration, all []*migration.Migration, part string) ([]*migration.Migration, error) {
	if part == "" {
		return list, nil
	}
	m, err := migration.Find(all, part)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(o *migration.Migration) bool { return o.ID > m.ID })
	if i < 0 {
		return list, nil
	}
	return list[:i], nil
}
