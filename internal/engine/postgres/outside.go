package postgres

// This file runs what cannot be in a transaction: indexes that are built while
// everybody works. Cut off, such a statement leaves an index that nothing uses; IF NOT
// EXISTS would take it for the wanted one, so what is there is looked at instead.

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"erbario/internal/engine"
)

// ExecAutocommit runs a statement outside of any transaction. It waits for everybody who is
// at work on the table, however long, since nobody has to wait behind it.
func (d *database) ExecAutocommit(ctx context.Context, sql string) error {
	if err := (Engine{}).Validate(sql); err != nil {
		return err
	}
	if d.inTx {
		return fmt.Errorf("a transaction is open")
	}
	if err := d.Exec(ctx, "SET lock_timeout = 0"); err != nil {
		return err
	}
	err := d.watched(ctx, func() error { return d.Exec(ctx, sql) })
	if d.pg().IsClosed() {
		return err
	}
	if err == nil {
		if done, e := d.left(ctx, sql); e != nil || !done {
			err = errors.Join(e, errors.New("it ended, and what it creates does not exist"))
		}
	}
	if e := d.Exec(context.WithoutCancel(ctx), "RESET lock_timeout"); err == nil {
		err = e
	}
	return err
}

// concurrent is an index that a statement makes or drops while everybody works.
type concurrent struct {
	makes bool
	index string
}

func readConcurrent(sql string) (c concurrent, ok bool) {
	list := tokens(sql)
	for i, t := range list {
		if i > 4 {
			break
		}
		if !t.Is("CONCURRENTLY") || i == 0 || !list[i-1].Is("INDEX") {
			continue
		}
		j := i + 1
		for j < len(list) && (list[j].Is("IF") || list[j].Is("NOT") || list[j].Is("EXISTS")) {
			j++
		}
		if j < len(list) && list[j].Named() {
			c = concurrent{makes: list[0].Is("CREATE"), index: quoteTable(list[j].Name())}
			for k := j; c.makes && k+1 < len(list); k++ {
				if list[k].Is("ON") { // it lies where its table does
					c.index = quoteIn(list[k+1].In, list[j].Name())
					break
				}
			}
			return c, c.makes || list[0].Is("DROP")
		}
	}
	return c, false
}

// Transactional is a statement that builds or drops an index, without the word that lets others
// work meanwhile.
func (Engine) Transactional(statement string) string {
	if _, ok := readConcurrent(statement); !ok {
		return statement
	}
	for _, t := range tokens(statement) {
		if t.Is("CONCURRENTLY") {
			return statement[:t.Start] + strings.TrimLeft(statement[t.End:], " ")
		}
	}
	return statement
}

// StatementsDone tells how many of the statements are done.
func (d *database) StatementsDone(ctx context.Context, statements []string, _ string) (int, error) {
	for i, sql := range statements {
		done, err := d.left(ctx, sql)
		if err != nil || !done {
			return i, err
		}
	}
	return len(statements), nil
}

// left tells whether a statement that may have been cut off is done. An index that was left
// half built is dropped, and the drop of one that was left half done is finished: an index
// that exists need not be one that anything uses.
func (d *database) left(ctx context.Context, sql string) (bool, error) {
	c, ok := readConcurrent(sql)
	if !ok {
		return false, fmt.Errorf("it cannot be determined whether this was done: %s",
			strings.Join(strings.Fields(sql), " "))
	}
	rows, err := d.Select(ctx,
		"SELECT i.indisvalid AND i.indisready FROM pg_index i WHERE i.indexrelid = to_regclass(?)::oid", c.index)
	if err != nil {
		return false, err
	}
	whole := len(rows) > 0 && rows[0][0] == "t"
	switch {
	case len(rows) == 0:
		return !c.makes, nil
	case whole:
		return c.makes, nil
	case !c.makes: // it was cut off while it went: nothing uses the index, and nothing makes it whole
		return true, d.ExecAutocommit(ctx, sql)
	}
	return false, d.ExecAutocommit(ctx, "DROP INDEX CONCURRENTLY IF EXISTS "+c.index)
}

// Session names the connection by its process on the server and when that began.
func (d *database) Session() string {
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	rows, err := d.Select(ctx,
		"SELECT concat(pg_backend_pid(), ' ', extract(epoch FROM backend_start)::numeric(20,6)) FROM pg_stat_activity WHERE pid = pg_backend_pid()")
	if err != nil || len(rows) == 0 {
		return fmt.Sprint(d.pg().PID())
	}
	return rows[0][0]
}

// SessionEnded tells whether the session of a name is no longer there.
func (d *database) SessionEnded(ctx context.Context, session string) (bool, error) {
	pid, start, _ := strings.Cut(session, " ")
	rows, err := d.Select(ctx,
		"SELECT coalesce(extract(epoch FROM backend_start)::numeric(20,6)::text, '') FROM pg_stat_activity WHERE pid = ?::integer",
		pid)
	if err != nil {
		return false, err
	}
	return len(rows) == 0 || start != "" && rows[0][0] != "" && rows[0][0] != start, nil
}

var _ engine.Database = (*database)(nil)
