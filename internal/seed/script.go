package seed

// This file writes the rows of a seed as a script for the database's own client.
// The run is the same as on a database; what it would change is written instead,
// as it goes, so that a script of any size takes no memory.

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// Script writes the script of a seed against what is in the database; db is only
// read.
func Script(ctx context.Context, w io.Writer, db engine.Database, e engine.Engine, d *declare.Declared,
	s *declare.Seed, o RunOptions) error {
	out := bufio.NewWriterSize(w, 1<<16)
	x := &scripted{Database: db, engine: e, w: out}
	before, begin, commit, after := e.Scripts().ScriptAround()
	x.begin, x.commit = begin, commit
	fmt.Fprintf(out, "-- The rows of the seed %s, random %d, for %s.\n", s.Name, o.Random, e.Name())
	x.lines(before)
	if _, err := Run(ctx, x, e, d, s, o); err != nil {
		return err
	}
	x.lines(after)
	return out.Flush()
}

// scripted is a database that is read, and whose changes are written as SQL.
type scripted struct {
	engine.Database
	engine        engine.Engine
	w             *bufio.Writer
	begin, commit []string
}

func (s *scripted) lines(list []string) {
	for _, l := range list {
		s.w.WriteString(l)
		s.w.WriteByte('\n')
	}
}

// statementRows is how many rows are in one statement.
const statementRows = 50

func (s *scripted) Begin(context.Context, time.Duration) error {
	s.lines(s.begin)
	return nil
}

func (s *scripted) Commit(context.Context) error {
	s.lines(s.commit)
	return s.w.Flush()
}

func (s *scripted) Rollback() error { return nil }

func (s *scripted) TrackIntegrity(context.Context, []string, []string) error { return nil }
func (s *scripted) CheckIntegrity(context.Context) error                     { return nil }

// Exec writes one of our own statements, with its arguments in their places.
func (s *scripted) Exec(_ context.Context, sql string, args ...any) error {
	for _, a := range args {
		text := fmt.Sprint(a)
		if _, ok := a.(string); ok {
			text = s.engine.SQL().Text(text)
		}
		sql = strings.Replace(sql, "?", text, 1)
	}
	s.lines([]string{sql + ";"})
	return nil
}

// Encode does nothing: rows are written as statements.
func (s *scripted) Encode(engine.TableRows) []byte { return nil }

func (s *scripted) Load(_ context.Context, r engine.TableRows) error {
	w := len(r.Columns) * statementRows
	for at := 0; at < len(r.Cells); at += w {
		part := r
		part.Cells = r.Cells[at:min(at+w, len(r.Cells))]
		s.lines([]string{s.engine.Scripts().Insert(part)})
	}
	return nil
}

func (s *scripted) Change(_ context.Context, r engine.TableRows, by []string, quiet bool) (int64, error) {
	s.lines(s.engine.Scripts().ScriptChange(r, by, quiet))
	return int64(r.Rows()), nil
}

// Reserve has nothing to write: the rows carry their numbers.
func (s *scripted) Reserve(context.Context, *sqlschema.Table, int64) error { return nil }
