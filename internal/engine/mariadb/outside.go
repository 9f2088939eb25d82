package mariadb

// This file runs what commits by itself, and finds out afterwards how far it came. What a
// step touches is noted before it; where nobody knows whether a statement was done, its
// effect on what was noted is worked out on scratch, and held against what is there.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
)

// ExecAutocommit runs one statement that commits by itself, or one under LOCK TABLES. Where it
// meets somebody who is at work on the table it is tried again, for as long as the run
// may wait.
func (d *Database) ExecAutocommit(ctx context.Context, sql string) error {
	if err := (Engine{}).Validate(sql); err != nil {
		return err
	}
	if d.inTx {
		return errors.New("a transaction is open")
	}
	switch {
	case locksTables(sql) && d.latched, unlocksTables(sql) && d.latched:
		return nil // more than that is locked, and a while longer
	case unlocksTables(sql):
		d.locked = false
	}
	deadline := time.Now().Add(max(d.wait, time.Second))
	for pause := 50 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		err := d.watched(ctx, func() error { return d.checked(ctx, sql) })
		if err == nil {
			d.locked = d.locked || locksTables(sql)
			return nil
		}
		if !errors.Is(err, engine.ErrBusy) || d.locked || time.Now().Add(pause).After(deadline) {
			return errors.Join(err, d.unlock(context.WithoutCancel(ctx)))
		}
		select {
		case <-ctx.Done():
			return errors.Join(ctx.Err(), d.unlock(context.WithoutCancel(ctx)))
		case <-time.After(pause):
		}
	}
}

// checked runs a statement, unless it would reach beyond scratch.
func (d *Database) checked(ctx context.Context, sql string) error {
	if d.scratch != nil {
		if name := otherDatabase(sql); name != "" {
			return &engine.BeyondError{Names: name}
		}
	}
	return d.raw(ctx, sql)
}

// LockTables locks tables beside those that statements lock, until UnlockTables: what is
// kept of rows and then destroyed is nobody else's meanwhile.
func (d *Database) LockTables(ctx context.Context, tables, statements []string) error {
	list := slices.Clone(tables)
	var items []string
	for _, sql := range statements {
		if locksTables(sql) {
			items = append(items, strings.TrimPrefix(sql, "LOCK TABLES "))
		}
	}
	for _, t := range list {
		if item := quote(t) + " WRITE"; !slices.Contains(strings.Split(strings.Join(items, ", "), ", "), item) {
			items = append(items, item)
		}
	}
	if err := d.ExecAutocommit(ctx, "LOCK TABLES "+strings.Join(items, ", ")); err != nil {
		return err
	}
	d.latched = true
	return nil
}

// UnlockTables ends LockTables.
func (d *Database) UnlockTables(ctx context.Context) error {
	d.latched = false
	return d.unlock(context.WithoutCancel(ctx))
}

func (d *Database) unlock(ctx context.Context) error {
	if !d.locked {
		return nil
	}
	d.locked, d.latched = false, false
	err := errors.Join(d.raw(ctx, "UNLOCK TABLES"), d.raw(ctx, "SET "+quiet+" = NULL"), d.raw(ctx, holdReferences))
	if errors.Is(err, engine.ErrLost) {
		return nil
	}
	return err
}

// touched is something beside tables that a statement creates, changes or drops.
type touched struct{ kind, name string }

// shown is in which column of SHOW CREATE the statement of each kind is.
var shown = map[string]int{"TABLE": 1, "VIEW": 1, "TRIGGER": 2, "FUNCTION": 2, "PROCEDURE": 2, "SEQUENCE": 1, "EVENT": 3}

// touches are the tables that statements create, change or drop, and what else they do.
func touches(statements []string) (tables []string, parts []touched) {
	add := func(name string) {
		if name != "" && !slices.Contains(tables, name) {
			tables = append(tables, name)
		}
	}
	for _, sql := range statements {
		list := slices.DeleteFunc(tokens(withoutMode(sql)), func(t sqltok.Token) bool {
			return t.Is("IF") || t.Is("NOT") || t.Is("EXISTS") || t.Is("OR") || t.Is("REPLACE") || t.Is("SQL") ||
				t.Is("SECURITY") || t.Is("INVOKER") || t.Is("DEFINER") && t.Bare() || t.Is("ALGORITHM") || t.Is("=") ||
				t.Is("UNDEFINED") || t.Is("MERGE") || t.Is("TEMPTABLE") || t.Is("AGGREGATE")
		})
		for len(list) > 4 && list[2].Is("@") { // the user with whose rights it runs
			list = slices.Delete(list, 1, 4)
		}
		if len(list) < 3 || !list[2].Named() {
			continue
		}
		name := list[2].Name()
		kind := list[1].Word()
		switch one := (touched{kind, name}); {
		case kind == "TABLE":
			add(name)
			for i, t := range list { // RENAME TABLE a TO b
				if list[0].Is("RENAME") && t.Is("TO") && i+1 < len(list) && list[i+1].Named() {
					add(list[i+1].Name())
				}
			}
		case shown[kind] > 0 && !slices.Contains(parts, one):
			parts = append(parts, one)
		}
	}
	slices.SortStableFunc(parts, func(a, b touched) int { // as they stand on each other
		order := []string{"SEQUENCE", "FUNCTION", "PROCEDURE", "VIEW", "TRIGGER", "EVENT"}
		return slices.Index(order, a.kind) - slices.Index(order, b.kind)
	})
	return tables, parts
}

const (
	nextPart = "\x1e" // between the parts of a note
	noPart   = "\x1f" // what does not exist
)

// Checkpoint gives what statements touch, as it is now: the statements that make it.
func (d *Database) Checkpoint(ctx context.Context, statements []string) (string, error) {
	tables, parts := touches(statements)
	var out []string
	show := func(kind, name string) error {
		rows, err := d.Select(ctx, "SHOW CREATE "+kind+" "+quote(name))
		switch {
		case err != nil && (errors.Is(err, engine.ErrLost) || ctx.Err() != nil):
			return err
		case err != nil || len(rows) == 0:
			out = append(out, noPart)
		case kind == "EVENT":
			e, err := d.showEvent(ctx, name)
			if err != nil {
				return err
			}
			out = append(out, withoutStart(undefined(e.sql)))
		default:
			out = append(out, withoutCounter(undefined(rows[0][shown[kind]])))
		}
		return nil
	}
	for _, t := range tables {
		if err := show("TABLE", t); err != nil {
			return "", err
		}
	}
	for _, p := range parts {
		if err := show(p.kind, p.name); err != nil {
			return "", err
		}
	}
	return strings.Join(out, nextPart), nil
}

// withoutCounter is the text of a table without the number that its next row gets.
func withoutCounter(text string) string {
	i := strings.LastIndex(text, " AUTO_INCREMENT=")
	if i < 0 {
		return text
	}
	rest := text[i+len(" AUTO_INCREMENT="):]
	return text[:i] + strings.TrimLeft(rest, "0123456789")
}

// StatementsDone tells how many of the statements of a step were done, from what it touches, as
// that was noted before it. The effect of each is worked out on scratch.
func (d *Database) StatementsDone(ctx context.Context, statements []string, before string) (int, error) {
	now, err := d.Checkpoint(ctx, statements)
	if err != nil {
		return 0, err
	}
	if now == before {
		return 0, nil
	}
	effects := slices.DeleteFunc(slices.Clone(statements),
		func(s string) bool { return !commits(s) || locksTables(s) || unlocksTables(s) })
	last := func(n int) int { // behind the n-th that commits
		for i, s := range statements {
			if n == 0 {
				return i
			}
			if commits(s) && !locksTables(s) && !unlocksTables(s) {
				n--
			}
		}
		return len(statements)
	}
	scratch, err := Engine{url: d.url()}.Scratch(ctx)
	if err != nil {
		return 0, fmt.Errorf("it cannot be determined whether a step was done: %w", err)
	}
	defer scratch.Close()
	s := scratch.(*Database)
	if err := s.hold(ctx, false); err != nil {
		return 0, err
	}
	tables, others := touches(statements)
	parts := strings.Split(before, nextPart)
	if len(parts) != len(tables)+len(others) {
		return 0, errors.New(
			"the journal does not say what the step was to change: check the database and erbario_journal",
		)
	}
	for i, text := range parts {
		if i == len(tables) { // what stands on tables: these are there for it, with what else stands on them
			for _, text := range append(slices.Clone(parts[i:]), effects...) {
				if err := d.standIn(ctx, s, text); err != nil {
					return 0, err
				}
			}
			if err := d.otherTriggers(ctx, s, others); err != nil {
				return 0, err
			}
		}
		if text == noPart {
			continue
		}
		if err := s.raw(ctx, text); err != nil {
			return 0, fmt.Errorf("it cannot be determined on scratch whether a step was done: %w", err)
		}
	}
	if err := d.standIn(ctx, s, strings.Join(effects, " ; ")); err != nil {
		return 0, err
	}
	for n, sql := range effects {
		if err := s.raw(ctx, sql); err != nil {
			break // then it was not done on the other side either
		}
		there, err := s.Checkpoint(ctx, statements)
		if err != nil {
			return 0, err
		}
		if there == now {
			return last(n + 1), nil
		}
	}
	names := slices.Clone(tables)
	for _, p := range others {
		names = append(names, p.name)
	}
	return 0, fmt.Errorf(
		"what the step changes is neither as it was before nor as it would be after it: it was changed outside Erbario (%s). Restore one of the two states, and run the same command again",
		strings.Join(names, ", "),
	)
}

// otherTriggers makes the triggers of the tables on scratch that a step does not touch:
// one that it makes may have its place among them.
func (d *Database) otherTriggers(ctx context.Context, scratch *Database, done []touched) error {
	rows, err := d.Select(ctx,
		"SELECT trigger_name, event_object_table FROM information_schema.triggers WHERE trigger_schema = database() ORDER BY event_object_table, event_manipulation, action_timing, action_order DESC")
	if err != nil {
		return err
	}
	for _, r := range rows {
		if slices.Contains(done, touched{"TRIGGER", r[0]}) {
			continue
		}
		if has, err := scratch.Select(ctx, "SELECT 1 FROM information_schema.tables WHERE table_schema = database() AND table_name = ?", r[1]); err != nil ||
			len(has) == 0 {
			continue
		}
		text, err := d.Select(ctx, "SHOW CREATE TRIGGER "+quote(r[0]))
		if err != nil {
			return err
		}
		_ = scratch.raw(ctx, undefined(text[0][2])) // one that cannot be made there is in nobody's way
	}
	return nil
}

// standIn makes the tables, views and functions that SQL names and scratch has not, as they are
// here.
func (d *Database) standIn(ctx context.Context, scratch *Database, sql string) error {
	if err := d.routinesOf(ctx, scratch, sql); err != nil {
		return err
	}
	tables, others := touches([]string{sql})
	for _, name := range tablesOf(sql) {
		if has, err := scratch.Select(ctx, "SELECT 1 FROM information_schema.tables WHERE table_schema = database() AND table_name = ?", name); err != nil ||
			len(has) > 0 {
			continue
		}
		if slices.Contains(tables, name) || slices.Contains(others, touched{"VIEW", name}) {
			continue
		}
		rows, err := d.Select(ctx, "SHOW CREATE TABLE "+quote(name))
		if err != nil || len(rows) == 0 {
			continue
		}
		text := rows[0][1]
		if !strings.HasPrefix(text, "CREATE TABLE") { // a view
			text = undefinedView(text)
			if err := d.standIn(ctx, scratch, text); err != nil {
				return err
			}
		}
		if err := scratch.raw(ctx, text); err != nil {
			return err
		}
	}
	return nil
}

// routinesOf makes the functions that SQL calls and scratch has not.
func (d *Database) routinesOf(ctx context.Context, scratch *Database, sql string) error {
	list := tokens(sql)
	for i, t := range list {
		if !t.Named() || i+1 >= len(list) || !list[i+1].Is("(") {
			continue
		}
		if i > 0 && (list[i-1].Is("FUNCTION") || list[i-1].Is("PROCEDURE")) {
			continue
		}
		has, err := d.Select(ctx,
			"SELECT 1 FROM information_schema.routines WHERE routine_schema = database() AND routine_type = 'FUNCTION' AND routine_name = ?",
			t.Name())
		if err != nil {
			return err
		}
		if len(has) == 0 {
			continue
		}
		rows, err := d.Select(ctx, "SHOW CREATE FUNCTION "+quote(t.Name()))
		if err != nil {
			return err
		}
		_ = scratch.raw(ctx, undefined(rows[0][2])) // it may be there
	}
	return nil
}

// otherDatabase is the table that a statement names with a database before it; "": none.
func otherDatabase(statement string) string {
	list := tokens(statement)
	for i := 0; i+2 < len(list); i++ {
		if !list[i].Named() || !list[i+1].Is(".") || !list[i+2].Named() || i == 0 {
			continue
		}
		behind := list[i-1]
		whole := i+4 < len(list) && list[i+3].Is(".") && list[i+4].Named() && !behind.Is(".")
		place := behind.Is("FROM") || behind.Is("JOIN") || behind.Is("INTO") || behind.Is("UPDATE") ||
			behind.Is("TABLE") || behind.Is("REFERENCES") || behind.Is("TO") || behind.Is("TRIGGER") ||
			behind.Is("VIEW") || behind.Is("ON") && len(list) > 1 && list[1].Is("TRIGGER") && i < 12
		if (behind.Is("FROM") || behind.Is("JOIN")) && list[i].Name()+"."+list[i+2].Name() == rolesTable {
			continue // a guard only reads there who is in a role
		}
		if whole || place {
			return list[i].Name() + "." + list[i+2].Name()
		}
	}
	return ""
}
