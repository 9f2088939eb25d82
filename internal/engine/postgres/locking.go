package postgres

// This file is the lock that lets only one run at a time migrate a database, and what holds
// together while its steps run.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"erbario/internal/engine"
	"erbario/internal/engine/waiting"
)

// Begin begins the transaction and takes the lock under which one run works at a time.
// It asks again and again rather than waiting in the server's queue, where it would
// hold up an index that is built meanwhile.
func (d *database) Begin(ctx context.Context, wait time.Duration) error {
	begin := "BEGIN READ WRITE; "
	if d.pooled {
		begin += d.set("SET LOCAL ") + "; "
	}
	begin += "SET LOCAL lock_timeout = '" + lockTimeout + "'; SELECT pg_try_advisory_xact_lock(" + strconv.FormatInt(
		d.lock,
		10,
	) + ")"
	return d.ask(ctx, wait, func() (bool, error) {
		results, err := d.pg().Exec(ctx, begin).ReadAll()
		if err != nil {
			return false, errors.Join(d.plain(err), d.Exec(context.WithoutCancel(ctx), "ROLLBACK"))
		}
		if d.inTx = texts(results[len(results)-1])[0][0] == "t"; d.inTx {
			return true, nil
		}
		return false, d.Exec(ctx, "ROLLBACK")
	})
}

// ask asks for the lock until it is there or the time is over.
func (d *database) ask(ctx context.Context, wait time.Duration, try func() (bool, error)) error {
	deadline := time.Now().Add(wait)
	for pause := 10 * time.Millisecond; ; pause = min(pause*2, 200*time.Millisecond) {
		if got, err := try(); err != nil || got {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the database %w%s, still after %s; nothing was changed; --wait gives them longer",
				engine.ErrBusy, d.holder(ctx), wait)
		}
		if began := deadline.Add(-wait); time.Since(began) > waiting.After && d.waits.watch.Report != nil {
			d.waits.watch.OnProgress("another run of erbario"+d.holder(ctx), "")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// Lock takes the lock for the session, until Release.
func (d *database) Lock(ctx context.Context, wait time.Duration) error {
	if d.pooled {
		return fmt.Errorf(
			"%w: a migration that is not one transaction needs a direct connection; add direct = \"URL\" next to the url in erbario.toml",
			engine.ErrNoSession,
		)
	}
	if d.held {
		d.holds++
		return nil
	}
	return d.ask(ctx, wait, func() (bool, error) {
		rows, err := d.Select(ctx, "SELECT pg_try_advisory_lock("+strconv.FormatInt(d.lock, 10)+")")
		if err != nil {
			return false, err
		}
		d.held = rows[0][0] == "t"
		return d.held, nil
	})
}

// Unlock lets the lock go.
func (d *database) Unlock(ctx context.Context) error {
	if !d.held {
		return nil
	}
	if d.holds > 0 { // within another
		d.holds--
		return nil
	}
	d.held = false
	if d.pg().IsClosed() {
		return nil
	}
	return d.Exec(ctx, "SELECT pg_advisory_unlock("+strconv.FormatInt(d.lock, 10)+")")
}

// holder tells who has the lock, as far as one may know.
func (d *database) holder(ctx context.Context) string {
	rows, err := d.Select(
		ctx,
		`SELECT a.usename, coalesce(a.client_addr::text, 'this machine') FROM pg_locks l JOIN pg_stat_activity a USING (pid)
		WHERE l.locktype = 'advisory' AND l.granted AND l.objsubid = 1 AND (l.classid::bigint << 32) | l.objid::bigint = ? AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database()) LIMIT 1`,
		d.lock,
	)
	if err != nil || len(rows) == 0 || rows[0][0] == "" {
		return ""
	}
	return fmt.Sprintf(" (%s from %s)", rows[0][0], rows[0][1])
}

// Step runs one statement of a migration. What it does to the transaction is looked
// at afterwards: a procedure could have ended it.
func (d *database) Step(ctx context.Context, statement string) error {
	if err := (Engine{}).Validate(statement); err != nil {
		return err
	}
	restore, err := d.aside(ctx, statement)
	if err != nil {
		return err
	}
	if err := d.watched(ctx, func() error { return d.Exec(ctx, statement) }); err != nil {
		return err
	}
	if d.inTx && d.pg().TxStatus() != 'T' {
		return errors.New(
			"the statement ended the migration's transaction: what it did is permanent, and the rest is not done",
		)
	}
	goes, comes := exchange(statement)
	if give := d.own[comes]; give != nil {
		delete(d.own, comes)
		if err := give(); err != nil {
			return err
		}
	}
	if again := d.dependents[comes]; again != nil {
		delete(d.dependents, comes)
		restore = again
	}
	if goes != "" && restore != nil { // it comes when that comes
		if d.dependents == nil {
			d.dependents = map[string]func() error{}
		}
		d.dependents[goes] = restore
		return nil
	}
	if restore == nil {
		return nil
	}
	return restore()
}

// TrackIntegrity takes the locks under which a migration destroys something, before anything
// is asked: no row comes between what is asked or kept and what is done. References
// the server holds itself.
func (d *database) TrackIntegrity(ctx context.Context, statements, _ []string) error {
	var tables []string
	for _, s := range statements {
		if t := destroys(s); t != "" && !slices.Contains(tables, t) {
			tables = append(tables, t)
		}
	}
	slices.Sort(tables) // the same order for everybody
	for _, t := range tables {
		rows, err := d.Select(ctx, "SELECT 1 FROM pg_class WHERE oid = to_regclass(?)::oid AND relkind IN ('r', 'p')",
			quoteTable(t))
		if err != nil {
			return err
		}
		if len(rows) == 0 {
			continue // it comes with the migration, or has another name yet
		}
		lock := "LOCK TABLE " + quoteTable(t) + " IN ACCESS EXCLUSIVE MODE"
		if err := d.watched(ctx, func() error { return d.Exec(ctx, lock) }); err != nil {
			return err
		}
	}
	return nil
}

// destroys gives the table of which a statement destroys something, or keeps
// something that a later one destroys; "" for none.
func destroys(statement string) string {
	list := tokens(statement)
	if len(list) < 3 {
		return ""
	}
	from := func() string {
		for i, t := range list {
			if t.Is("FROM") && i+1 < len(list) && list[i+1].Named() && !own(list[i+1].Name()) {
				return list[i+1].Name()
			}
		}
		return ""
	}
	switch {
	case list[0].Is("DROP") && list[1].Is("TABLE") && list[2].Named() && !own(list[2].Name()):
		return list[2].Name()
	case list[0].Is("DELETE"):
		return from()
	case (list[0].Is("INSERT") || list[0].Is("CREATE")) && list[2].Named() && own(list[2].Name()):
		return from()
	case list[0].Is("ALTER") && list[1].Is("TABLE") && list[2].Named() && !own(list[2].Name()):
		for i, t := range list[3:] {
			if t.Is("TYPE") || t.Is("DROP") && i+4 < len(list) && list[i+4].Is("COLUMN") {
				return list[2].Name()
			}
		}
	}
	return ""
}

// CheckIntegrity holds again what was held at the end alone.
func (d *database) CheckIntegrity(ctx context.Context) error {
	for name := range d.dependents {
		return fmt.Errorf("views of other users depend on %s, which is dropped: drop or change them first", name)
	}
	return d.holdAgain(ctx)
}

// Commit ends the transaction, and with it the lock.
func (d *database) Commit(ctx context.Context) error {
	err := engine.End(ctx, func(ctx context.Context) error { return d.Exec(ctx, "COMMIT") })
	if err != nil {
		return err
	}
	d.inTx, d.deferred, d.dependents = false, nil, nil
	return nil
}

// Rollback takes everything since Begin back and lets the lock go.
func (d *database) Rollback() error {
	if !d.inTx {
		return nil
	}
	d.inTx, d.deferred, d.dependents, d.own = false, nil, nil, nil
	if d.pg().IsClosed() { // the server has rolled back
		return nil
	}
	ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
	defer stop()
	return d.Exec(ctx, "ROLLBACK")
}
