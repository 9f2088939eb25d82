package postgres

// This file tells whom a statement waits for: while the one connection is kept waiting,
// a second one looks whose locks those are.

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"erbario/internal/engine/waiting"

	"github.com/jackc/pgx/v5"
)

// waits is the second connection, and what it has found out.
type waits struct {
	mu     sync.Mutex
	beside *pgx.Conn // which looks; nil: not needed yet
	watch  waiting.Watch
}

// OnWait sets what is told for whom a statement waits that is kept waiting.
func (d *database) OnWait(report func(who string)) { d.waits.watch.Report = report }

// watched runs a statement, and tells for whom it waits, if for anybody; so does its
// error where it waited too long.
func (d *database) watched(ctx context.Context, run func() error) error {
	if d.pooled {
		return run() // the number of the session that works is not known
	}
	d.waits.watch.First = 40 * time.Millisecond
	return d.waits.watch.Run(ctx, func(ctx context.Context) (who, key string) {
		if rows := d.lookFor(ctx, d.pg().PID()); len(rows) > 0 {
			return names(rows), rows[0][0]
		}
		return "", ""
	}, run)
}

// lookFor asks, on the second connection, for whom a session waits; nil for nobody, or
// where one may not know.
func (d *database) lookFor(ctx context.Context, pid uint32) [][]string {
	d.waits.mu.Lock()
	defer d.waits.mu.Unlock()
	if d.waits.beside == nil || d.waits.beside.IsClosed() {
		c := d.conn.Config()
		c.ConnectTimeout = waiting.After
		var err error
		if d.waits.beside, err = pgx.ConnectConfig(ctx, c); err != nil {
			d.waits.beside = nil
			return nil
		}
	}
	r := d.waits.beside.PgConn().
		ExecParams(ctx, qualified(heldBy), [][]byte{fmt.Append(nil, pid)}, nil, nil, nil).
		Read()
	if r.Err != nil {
		return nil
	}
	return texts(r)
}

// heldBy asks who holds what a session waits for.
const heldBy = `SELECT a.pid, coalesce(a.usename, ''), coalesce(a.application_name, ''), coalesce(host(a.client_addr), 'this machine'), coalesce(a.state, ''),
	coalesce(floor(extract(epoch FROM clock_timestamp() - coalesce(a.xact_start, a.query_start)))::bigint, 0)
	FROM pg_stat_activity a WHERE a.pid = ANY (pg_blocking_pids($1::integer)) ORDER BY a.xact_start LIMIT 3`

// names says who sessions are.
func names(rows [][]string) string {
	var out []string
	for _, r := range rows {
		s := "process " + r[0]
		var about []string
		for _, word := range []string{r[1], r[2]} {
			if word != "" {
				about = append(about, word)
			}
		}
		about = append(about, "from "+r[3])
		if r[4] != "" {
			about = append(about, r[4]+" for "+r[5]+" s")
		}
		out = append(out, s+" ("+strings.Join(about, ", ")+")")
	}
	return strings.Join(out, " and ")
}

// BlockedBy tells for whom the session of a name waits; "" for nobody.
func (d *database) BlockedBy(ctx context.Context, session string) (string, error) {
	pid, _, _ := strings.Cut(session, " ")
	rows, err := d.Select(ctx, strings.Replace(heldBy, "$1", "?", 1), pid)
	return names(rows), err
}

// closeBeside ends the second connection.
func (w *waits) closeBeside() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.beside != nil {
		ctx, stop := context.WithTimeout(context.Background(), time.Second)
		defer stop()
		w.beside.Close(ctx)
		w.beside = nil
	}
}
