package mariadb

// This file tells for whom a statement waits: while the one connection is kept waiting, a
// second one looks who holds the table. Not every server tells whose a lock of a table
// is: MariaDB with its plugin metadata_lock_info, MySQL with its performance schema. From
// others those are named who have a transaction open, the oldest first.

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"erbario/internal/engine"
	"erbario/internal/engine/waiting"
)

// waits is the second connection, and what it has found out.
type waits struct {
	mu     sync.Mutex
	beside *Database // which looks; nil: not needed yet
	watch  waiting.Watch
}

// OnWait sets what is told for whom a statement waits that is kept waiting.
func (d *Database) OnWait(report func(who string)) { d.waits.watch.Report = report }

// besides runs f on the second connection, if there can be one.
func (d *Database) besides(ctx context.Context, f func(b *Database) error) {
	d.waits.mu.Lock()
	defer d.waits.mu.Unlock()
	if d.waits.beside == nil {
		b, err := openConfig(ctx, d.config, false)
		if err != nil {
			return
		}
		d.waits.beside = b
	}
	if err := f(d.waits.beside); err != nil && errors.Is(err, engine.ErrLost) {
		d.waits.beside.Close()
		d.waits.beside = nil
	}
}

// besideHere runs f on the second connection, if it can be one to the same server: what is
// asked of connections, or done to them, concerns that server alone.
func (d *Database) besideHere(ctx context.Context, f func(b *Database) error) {
	d.waits.mu.Lock()
	if b := d.waits.beside; b == nil || b.node != d.node {
		here, err := d.reach(ctx, d.config.Addr, d.node)
		if err != nil || here == nil {
			d.waits.mu.Unlock()
			return
		}
		if b != nil {
			b.Close()
		}
		d.waits.beside = here
	}
	d.waits.mu.Unlock()
	d.besides(ctx, f)
}

// closeBeside ends the second connection.
func (w *waits) closeBeside() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.beside != nil {
		w.beside.Close()
		w.beside = nil
	}
}

// watched runs a statement, and tells for whom it waits, if for anybody; so does its
// error where it waited too long.
func (d *Database) watched(ctx context.Context, run func() error) error {
	if d.scratch != nil {
		return run()
	}
	d.waits.watch.First = 60 * time.Millisecond
	return d.waits.watch.Run(ctx, func(ctx context.Context) (who, key string) {
		d.besideHere(ctx, func(b *Database) (err error) {
			who, err = b.heldUp(ctx, d.id)
			return err
		})
		return who, who
	}, run)
}

// BlockedBy tells for whom the session of a name waits; "" for nobody.
func (d *Database) BlockedBy(ctx context.Context, session string) (string, error) {
	return d.heldUp(ctx, readSession(session).id)
}

// holders are the connections that hold locks of the tables for which a connection waits
// with a statement, where the server tells.
func (d *Database) holders(ctx context.Context, id, statement string) []string {
	var names []string
	for _, name := range append(tablesOf(statement), lockedTables(statement)...) {
		names = append(names, literal(name))
	}
	var out []string
	if len(names) > 0 {
		rows, err := d.Select(
			ctx,
			"SELECT DISTINCT thread_id FROM information_schema.metadata_lock_info WHERE table_schema = database() AND table_name IN ("+strings.Join(
				names,
				", ",
			)+") AND thread_id <> ?",
			id,
		)
		for _, r := range rows {
			out = append(out, r[0])
		}
		if err == nil {
			return out
		}
	}
	rows, err := d.Select(ctx, `SELECT DISTINCT ht.processlist_id FROM performance_schema.threads wt
JOIN performance_schema.metadata_locks w ON w.owner_thread_id = wt.thread_id AND w.lock_status = 'PENDING'
JOIN performance_schema.metadata_locks h ON h.object_type = w.object_type AND h.object_schema = w.object_schema AND h.object_name = w.object_name AND h.lock_status = 'GRANTED'
JOIN performance_schema.threads ht ON ht.thread_id = h.owner_thread_id
WHERE wt.processlist_id = ? AND ht.processlist_id <> ?`, id, id)
	if err != nil {
		return nil
	}
	for _, r := range rows {
		out = append(out, r[0])
	}
	return out
}

// lockedTables are those that LOCK TABLES names.
func lockedTables(statement string) []string {
	var out []string
	list := tokens(statement)
	for i, t := range list {
		if i > 0 && locksTables(statement) && (t.Is("WRITE") || t.Is("READ")) && list[i-1].Named() {
			out = append(out, list[i-1].Name())
		}
	}
	return out
}

// heldUp looks whether a connection waits for a lock, and who has one open.
func (d *Database) heldUp(ctx context.Context, id string) (string, error) {
	rows, err := d.Select(ctx,
		"SELECT coalesce(state, ''), coalesce(info, '') FROM information_schema.processlist WHERE id = ?", id)
	if err != nil || len(rows) == 0 || !strings.Contains(strings.ToLower(rows[0][0]), "lock") {
		return "", err
	}
	which := ""
	if holders := d.holders(ctx, id, rows[0][1]); len(holders) > 0 {
		which = " AND p.id IN (" + strings.Join(holders, ", ") + ")"
	}
	rows, err = d.Select(
		ctx,
		"SELECT p.id, p.user, substring_index(p.host, ':', 1), p.command, coalesce(timestampdiff(SECOND, t.trx_started, now()), p.time) FROM information_schema.processlist p LEFT JOIN information_schema.innodb_trx t ON p.id = t.trx_mysql_thread_id WHERE "+
			"(t.trx_started IS NOT NULL OR "+fmt.Sprint(
			which != "",
		)+") AND p.id <> ? AND p.id <> connection_id()"+which+" ORDER BY t.trx_started LIMIT 3",
		id,
	)
	if err != nil {
		return "", err
	}
	var out []string
	for _, r := range rows {
		what := "at work"
		if r[3] == "Sleep" {
			what = "idle in a transaction"
		}
		out = append(out, fmt.Sprintf("connection %s (%s, from %s, %s for %s s)", r[0], r[1], r[2], what, r[4]))
	}
	if len(out) == 0 {
		rows, err = d.Select(ctx,
			"SELECT id, user, substring_index(host, ':', 1), time FROM information_schema.processlist WHERE db = database() AND command = 'Query' AND id <> ? AND id <> connection_id() AND coalesce(state, '') NOT LIKE '%lock%' ORDER BY time DESC LIMIT 3",
			id)
		if err != nil {
			return "", err
		}
		for _, r := range rows {
			out = append(out, fmt.Sprintf("connection %s (%s, from %s, at work for %s s)", r[0], r[1], r[2], r[3]))
		}
	}
	if len(out) == 0 {
		return "another session that uses the table", nil
	}
	return strings.Join(out, " or "), nil
}
