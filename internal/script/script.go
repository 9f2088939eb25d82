// Package script is a connection that writes: what would change a database is written as a
// plain script for the database's own client, as it goes, so that a script of any size takes
// no memory. What is read comes from a real connection.
//
//	c := script.New(os.Stdout, db, e)
//	c.Open()
//	err := errors.Join(c.Begin(ctx, 0), c.Step(ctx, "DROP TABLE labels"), c.Commit(ctx), c.End())
package script

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// Conn is a database that is read, and whose changes are written. What it does not write by
// itself is that of the database.
type Conn struct {
	engine.Database
	dialect                      engine.Dialect
	words                        engine.Scripter
	w                            *bufio.Writer
	before, begin, commit, after []string
}

// Engine is what a script needs of an engine.
type Engine interface {
	SQL() engine.Dialect
	Scripts() engine.Scripter
}

// New is a connection that reads db and writes to w.
func New(w io.Writer, db engine.Database, e Engine) *Conn {
	c := &Conn{Database: db, dialect: e.SQL(), words: e.Scripts(), w: bufio.NewWriterSize(w, 1<<16)}
	c.before, c.begin, c.commit, c.after = c.words.ScriptAround()
	return c
}

// Lines writes lines as they are, such as comments.
func (c *Conn) Lines(list ...string) {
	for _, l := range list {
		c.w.WriteString(l)
		c.w.WriteByte('\n')
	}
}

// Open writes what stands before the first transaction.
func (c *Conn) Open() { c.Lines(c.before...) }

// End writes what stands behind the last transaction.
func (c *Conn) End() error {
	c.Lines(c.after...)
	return c.w.Flush()
}

// Begin writes how a transaction begins.
func (c *Conn) Begin(context.Context, time.Duration) error {
	c.Lines(c.begin...)
	return nil
}

// Commit writes how a transaction ends.
func (c *Conn) Commit(context.Context) error {
	c.Lines(c.commit...)
	return c.w.Flush()
}

// Rollback does nothing: the script is thrown away.
func (c *Conn) Rollback() error { return nil }

// TrackIntegrity does nothing: the script says itself what must hold.
func (c *Conn) TrackIntegrity(context.Context, []string, []string) error { return nil }

// CheckIntegrity does nothing, as TrackIntegrity.
func (c *Conn) CheckIntegrity(context.Context) error { return nil }

// Step writes a statement of a migration.
func (c *Conn) Step(_ context.Context, sql string) error {
	c.Statements(sql)
	return nil
}

// Statements writes statements of a migration.
func (c *Conn) Statements(list ...string) {
	for _, sql := range list {
		c.Lines(c.words.ScriptStatement(sql)...)
	}
}

// Require writes what stops the script where rows block a migration.
func (c *Conn) Require(list ...engine.Requirement) {
	for _, r := range list {
		c.Lines(c.words.ScriptRequire(r)...)
	}
}

// Exec writes one of our own statements, with its arguments in their places.
func (c *Conn) Exec(_ context.Context, sql string, args ...any) error {
	parts := strings.SplitN(sql, "?", len(args)+1)
	var b strings.Builder
	for i, part := range parts {
		b.WriteString(part)
		if i == len(parts)-1 {
			break
		}
		if text, ok := args[i].(string); ok {
			b.WriteString(c.dialect.Text(text))
		} else {
			fmt.Fprint(&b, args[i])
		}
	}
	c.Lines(b.String() + ";")
	return nil
}

// Encode does nothing: rows are written as statements.
func (c *Conn) Encode(engine.TableRows) []byte { return nil }

// statementRows is how many rows are in one statement.
const statementRows = 50

// Load writes the statements that insert rows.
func (c *Conn) Load(_ context.Context, r engine.TableRows) error {
	w := len(r.Columns) * statementRows
	for at := 0; at < len(r.Cells); at += w {
		part := r
		part.Cells = r.Cells[at:min(at+w, len(r.Cells))]
		c.Lines(c.words.Insert(part))
	}
	return nil
}

// Change writes the statements that set columns of rows.
func (c *Conn) Change(_ context.Context, r engine.TableRows, by []string, quiet bool) (int64, error) {
	c.Lines(c.words.ScriptChange(r, by, quiet)...)
	return int64(r.Rows()), nil
}

// Reserve has nothing to write: the rows carry their numbers.
func (c *Conn) Reserve(context.Context, *sqlschema.Table, int64) error { return nil }
