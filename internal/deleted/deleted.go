// Package deleted works on the rows that soft deletion has marked: it lists them, brings them
// back, and deletes them permanently, children first. Everything it changes happens in one
// transaction; a dry run is the same one, undone.
//
//	counted, err := t.Purge(ctx, nil, time.Now().AddDate(0, -3, 0), time.Minute, false) // only counts
//	done, err := t.Purge(ctx, nil, time.Now().AddDate(0, -3, 0), time.Minute, true)
package deleted

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Database is what is needed of a connection here: statements, and references that are held
// or not.
type Database interface {
	engine.Conn
	EnforceReferences(ctx context.Context, enforce bool) error
}

// Table is a table with soft deletion in its database.
type Table struct {
	DB     Database
	SQL    engine.Dialect
	Schema *sqlschema.Schema // what is live
	*sqlschema.Table
}

// Row is a deleted row.
type Row struct {
	Key      []string // as literals, in the order of the key's columns
	At       string   // when it was deleted, as a literal
	Values   []string // of the columns that Shown names, as literals
	Taken    []Taken
	Children []Children
}

// Taken is a uniqueness that keeps a row from coming back: a live row has its
// values.
type Taken struct {
	Columns []string
	Values  []string
	By      []string // the live row's key
	Key     []string // the deleted row's
}

// Children are rows that refer to a deleted one and are not deleted.
type Children struct {
	Table string
	Rows  int64
}

const shownColumns = 3

// Shown are the columns beside the key by which people know a row: what is
// unique first, then what comes first.
func (t Table) Shown() []string {
	var out []string
	add := func(n string) {
		c := t.Column(n)
		if c == nil || schema.Own(n) || len(out) >= shownColumns || slices.Contains(out, n) ||
			slices.Contains(t.Key(), n) || strings.EqualFold(n, t.SoftDelete) || c.Stamped || n == "created_at" {
			return
		}
		out = append(out, n)
	}
	for _, x := range t.Indexes {
		if x.Unique {
			for _, n := range sqlschema.Names(x.Parts) {
				add(n)
			}
		}
	}
	for _, c := range t.Columns {
		add(c.Name)
	}
	return out
}

func (t Table) q(name string) string { return t.SQL.Quote(name) }

func (t Table) table(name string) string { return t.SQL.QuoteTable(name) }

func (t Table) names(list []string) string {
	out := make([]string, len(list))
	for i, n := range list {
		out[i] = t.q(n)
	}
	return strings.Join(out, ", ")
}

// mark is the condition that a row is deleted.
// every is every column of the table, also those that * leaves out.
func (t Table) every() string {
	var list []string
	for _, c := range t.Columns {
		list = append(list, c.Name)
	}
	return t.names(list)
}

func (t Table) mark() string { return t.q(t.SoftDelete) + " IS NOT NULL" }

// Count is the number of deleted rows, and of all.
func (t Table) Count(ctx context.Context) (gone, all int64, err error) {
	if gone, err = t.DB.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s", t.table(t.Name), t.mark())); err == nil {
		all, err = t.DB.Count(ctx, "SELECT 1 FROM "+t.table(t.Name))
	}
	return gone, all, err
}

// List gives the rows that were deleted last, no more than limit (0: all), and
// what would keep each from coming back.
func (t Table) List(ctx context.Context, limit int) ([]Row, error) {
	return t.rows(ctx, t.mark()+" ORDER BY "+t.q(t.SoftDelete)+" DESC", limit, true)
}

func (t Table) rows(ctx context.Context, where string, limit int, whole bool) ([]Row, error) {
	columns := append(append(slices.Clone(t.Key()), t.SoftDelete), t.Shown()...)
	found, err := t.DB.Sample(ctx, fmt.Sprintf("SELECT %s FROM %s WHERE %s", t.names(columns), t.table(t.Name), where),
		limit)
	if err != nil {
		return nil, err
	}
	var out []Row
	for _, v := range found.Values {
		n := len(t.Key())
		r := Row{Key: v[:n], At: v[n], Values: v[n+1:]}
		if whole && n > 0 {
			if r.Taken, err = t.taken(ctx, r); err != nil {
				return nil, err
			}
			if r.Children, err = t.children(ctx, r); err != nil {
				return nil, err
			}
		}
		out = append(out, r)
	}
	return out, nil
}

// is is the condition that a row has this key.
func (t Table) is(key []string, alias string) string {
	var terms []string
	for i, k := range t.Key() {
		terms = append(terms, fmt.Sprintf("%s%s = %s", alias, t.q(k), key[i]))
	}
	return strings.Join(terms, " AND ")
}

// taken finds the uniquenesses among live rows that a deleted row would break.
func (t Table) taken(ctx context.Context, r Row) ([]Taken, error) {
	return t.takenBy(ctx, t.is(r.Key, ""))
}

// takenBy finds the uniquenesses among live rows that deleted rows would break, the first
// of each uniqueness.
func (t Table) takenBy(ctx context.Context, where string) ([]Taken, error) {
	var out []Taken
	for _, x := range t.Indexes {
		u, ok := t.amongLive(x)
		if !ok {
			continue
		}
		names := sqlschema.Names(u.parts)
		var same []string
		for _, p := range u.parts {
			s := t.SQL.SameValue(p, t.Column(p.Column), "l."+t.q(p.Column), "d."+t.q(p.Column))
			same = append(same, s)
		}
		rest := where
		if u.back != "" { // holds of the row too, once it is back
			rest += " AND " + u.back
		}
		query := fmt.Sprintf(
			"SELECT %s, %s, %s FROM (SELECT %s FROM %s WHERE %s) AS d JOIN (SELECT %s FROM %s WHERE %s) AS l ON %s",
			t.of("l", t.Key()), t.of("k", t.Key()), t.of("d", names), t.every(), t.table(t.Name), rest, t.every(),
			t.table(t.Name), u.live, strings.Join(same, " AND "))
		rows, err := t.DB.Sample(ctx, query, 1)
		if err != nil {
			return nil, err
		}
		for _, v := range rows.Values {
			n := len(t.Key())
			out = append(out, Taken{Columns: names, By: v[:n], Key: v[n : 2*n], Values: v[2*n:]})
		}
	}
	return out, nil
}

// uniqueness is one among the rows that are not deleted.
type uniqueness struct {
	parts []sqlschema.Part
	live  string // the condition of the rows that it counts
	back  string // what else than to be live it asks of a row; "": nothing
}

// amongLive tells what an index asks that is unique among the rows that are not deleted: by
// its condition, or by a generated column of ours that is null in all other rows.
func (t Table) amongLive(x *sqlschema.Index) (u uniqueness, ok bool) {
	if !x.Unique || slices.ContainsFunc(x.Parts, func(p sqlschema.Part) bool { return p.Expr != nil }) {
		return u, false
	}
	if t.Among(x) {
		back, more := strings.CutSuffix(x.Where.Text, " AND "+t.q(t.SoftDelete)+" IS NULL")
		if !more {
			back = ""
		}
		return uniqueness{x.Parts, x.Where.Text, back}, true
	}
	for _, p := range x.Parts {
		c := t.Column(p.Column)
		if c == nil || !schema.Own(c.Name) || c.Generated == nil ||
			!strings.Contains(c.Generated.SQL.Text, t.q(t.SoftDelete)) {
			u.parts = append(u.parts, p)
			continue
		}
		u.live = t.q(c.Name) + " IS NOT NULL"
		u.back = "(" + strings.ReplaceAll(c.Generated.SQL.Text, t.q(t.SoftDelete), "NULL") + ") IS NOT NULL"
	}
	return u, u.live != ""
}

func (t Table) of(alias string, list []string) string {
	out := make([]string, len(list))
	from := alias
	if alias == "k" { // the key of the deleted row
		from = "d"
	}
	for i, n := range list {
		out[i] = from + "." + t.q(n) + " AS " + t.q(fmt.Sprintf("%s%d", alias, i))
	}
	return strings.Join(out, ", ")
}

// reference is a foreign key of another table, or this one, that points here.
type reference struct {
	table Table
	key   *sqlschema.ForeignKey
}

func (t Table) references() []reference {
	var out []reference
	for _, o := range t.Schema.Tables {
		for _, k := range o.ForeignKeys {
			if strings.EqualFold(k.Table, t.Name) && len(k.References) == len(k.Columns) && !schema.Own(o.Name) {
				out = append(out, reference{Table{t.DB, t.SQL, t.Schema, o}, k})
			}
		}
	}
	return out
}

// to is the condition that a row of the table refers to one of these rows of t.
func (r reference) to(t Table, where string) string {
	var match []string
	for i, c := range r.key.Columns {
		match = append(match, fmt.Sprintf("p.%s = %s.%s", t.q(r.key.References[i]), t.table(r.table.Name), t.q(c)))
	}
	return fmt.Sprintf("EXISTS (SELECT 1 FROM (SELECT %s FROM %s WHERE %s) AS p WHERE %s)", t.every(), t.table(t.Name),
		where, strings.Join(match, " AND "))
}

// children counts the rows that refer to a deleted row and are not deleted.
func (t Table) children(ctx context.Context, r Row) ([]Children, error) {
	var out []Children
	for _, ref := range t.references() {
		where := ref.to(t, t.is(r.Key, ""))
		if ref.table.SoftDelete != "" {
			where += " AND " + t.q(ref.table.SoftDelete) + " IS NULL"
		}
		n, err := t.DB.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s", t.table(ref.table.Name), where))
		if err != nil {
			return nil, err
		}
		if n > 0 {
			out = append(out, Children{ref.table.Name, n})
		}
	}
	return out, nil
}

// TakenError says that a row cannot come back: a live one has what is unique.
type TakenError struct {
	Table string
	Row   string
	Taken []Taken
	By    []string // the live rows' keys in words
}

func (e *TakenError) Error() string {
	var out []string
	for i, t := range e.Taken {
		out = append(out,
			fmt.Sprintf("%s %s is taken by %s", strings.Join(t.Columns, ", "), strings.Join(t.Values, ", "), e.By[i]))
	}
	return fmt.Sprintf("the row %s of %s cannot be restored: %s; change one of the two, or purge the deleted one",
		e.Row, e.Table, strings.Join(out, "; "))
}

// blockedError says that what went with a row keeps it from coming back.
type blockedError struct {
	table, name string
	key         []string
	at          string
	err         error
}

func (e *blockedError) Error() string {
	return fmt.Sprintf("the row %s of %s cannot be restored with the rows deleted with it: %v", e.name, e.table, e.err)
}

func (e *blockedError) Unwrap() error { return e.err }

// blocking is the first row among those that went with one, level by level, whose place a
// live row has taken; nil: none is found.
func (t Table) blocking(ctx context.Context, where, at string, seen map[string]bool) error {
	for _, ref := range t.references() {
		c := ref.table
		if c.SoftDelete == "" || seen[c.Name] || len(c.Key()) == 0 {
			continue
		}
		seen[c.Name] = true
		below := ref.to(t, where) + " AND " + t.q(c.SoftDelete) + " = " + at
		taken, err := c.takenBy(ctx, below)
		if err != nil {
			return err
		}
		if len(taken) > 0 {
			return &TakenError{
				Table: c.Name,
				Row:   c.KeyWords(taken[0].Key),
				Taken: taken[:1],
				By:    []string{c.KeyWords(taken[0].By)},
			}
		}
		if err := c.blocking(ctx, below, at, seen); err != nil {
			return err
		}
	}
	return nil
}

// Counted is a number of rows of a table.
type Counted struct {
	Table string
	Rows  int64
}

// Mark marks rows as deleted, by their keys, and tells what was marked with them.
func (t Table) Mark(ctx context.Context, keys [][]string, wait time.Duration) (with []Counted, err error) {
	now, err := t.SQL.Literal(schema.Value{Kind: schema.NowValue}, t.Column(t.SoftDelete).Type)
	if err != nil {
		return nil, err
	}
	err = t.inside(ctx, wait, true, func() error {
		before, err := t.marked(ctx)
		if err != nil {
			return err
		}
		mine := int64(0)
		for _, key := range keys {
			rows, err := t.rows(ctx, t.is(key, ""), 1, false)
			if err != nil {
				return err
			}
			switch name := t.KeyWords(key); {
			case len(rows) == 0:
				return fmt.Errorf("%s has no row with %s: nothing was changed", t.Name, name)
			case rows[0].At != "NULL":
				continue // by itself, or with another
			}
			if err := t.DB.Exec(ctx, fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s", t.table(t.Name), t.q(t.SoftDelete),
				now, t.is(key, ""))); err != nil {
				return err
			}
			mine++
		}
		after, err := t.marked(ctx)
		for i := range before {
			n := after[i].Rows - before[i].Rows
			if before[i].Table == t.Name {
				n -= mine
			}
			if err == nil && n > 0 {
				with = append(with, Counted{before[i].Table, n})
			}
		}
		return err
	})
	return with, err
}

// Restore brings rows back, by their keys, and tells what came back with them.
// Without commit all of it is undone again.
func (t Table) Restore(ctx context.Context, keys [][]string, wait time.Duration,
	commit bool) (with []Counted, err error) {
	err = t.inside(ctx, wait, commit, func() error {
		before, err := t.marked(ctx)
		if err != nil {
			return err
		}
		for _, key := range keys {
			if err := t.restore(ctx, key); err != nil {
				return err
			}
		}
		after, err := t.marked(ctx)
		for i := range before {
			n := before[i].Rows - after[i].Rows
			if before[i].Table == t.Name {
				n -= int64(len(keys))
			}
			if err == nil && n > 0 {
				with = append(with, Counted{before[i].Table, n})
			}
		}
		return err
	})
	var blocked *blockedError
	if errors.As(err, &blocked) { // who is in the way can be asked once the transaction is over
		if by := t.blocking(ctx, t.is(blocked.key, ""), blocked.at, map[string]bool{t.Name: true}); by != nil {
			blocked.err = by
		}
	}
	return with, err
}

func (t Table) restore(ctx context.Context, key []string) error {
	rows, err := t.rows(ctx, t.is(key, ""), 1, true)
	if err != nil {
		return err
	}
	name := t.KeyWords(key)
	if len(rows) == 0 {
		return fmt.Errorf("%s has no row with %s: erbario deleted list %s shows those that are deleted", t.Name, name,
			t.Name)
	}
	if rows[0].At == "NULL" {
		return nil // it has come back with another, or was never away
	}
	if taken := rows[0].Taken; len(taken) > 0 {
		e := &TakenError{Table: t.Name, Row: name, Taken: taken}
		for _, x := range taken {
			e.By = append(e.By, t.KeyWords(x.By))
		}
		return e
	}
	if err := t.DB.Exec(ctx, fmt.Sprintf("UPDATE %s SET %s = NULL WHERE %s", t.table(t.Name), t.q(t.SoftDelete),
		t.is(key, ""))); err != nil {
		return &blockedError{t.Name, name, key, rows[0].At, err}
	}
	return nil
}

// Above names the tables of deleted rows that a row refers to: it can be there
// without them, but somebody should know.
func (t Table) Above(ctx context.Context, key []string) ([]string, error) {
	var out []string
	for _, k := range t.ForeignKeys {
		parent := t.Schema.Table(k.Table)
		if parent == nil || parent.SoftDelete == "" || len(k.References) != len(k.Columns) {
			continue
		}
		var match []string
		for i, c := range k.Columns {
			match = append(match, fmt.Sprintf("p.%s = c.%s", t.q(k.References[i]), t.q(c)))
		}
		n, err := t.DB.Count(
			ctx,
			fmt.Sprintf("SELECT 1 FROM (SELECT %s FROM %s WHERE %s) AS c JOIN %s AS p ON %s WHERE p.%s IS NOT NULL",
				t.every(), t.table(t.Name), t.is(key, ""), t.table(parent.Name), strings.Join(match, " AND "),
				t.q(parent.SoftDelete)),
		)
		if err != nil {
			return nil, err
		}
		if n > 0 {
			out = append(out, parent.Name)
		}
	}
	return out, nil
}

// marked counts the deleted rows of every table.
func (t Table) marked(ctx context.Context) ([]Counted, error) {
	var out []Counted
	for _, o := range t.Schema.Tables {
		if o.SoftDelete == "" {
			continue
		}
		n, err := t.DB.Count(ctx,
			fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL", t.table(o.Name), t.q(o.SoftDelete)))
		if err != nil {
			return nil, err
		}
		out = append(out, Counted{o.Name, n})
	}
	return out, nil
}

// inside runs f in a transaction with references held, which is undone on
// any error, and without commit.
func (t Table) inside(ctx context.Context, wait time.Duration, commit bool, f func() error) error {
	if err := t.DB.EnforceReferences(ctx, true); err != nil {
		return err
	}
	defer t.DB.EnforceReferences(context.WithoutCancel(ctx), false)
	if err := t.DB.Begin(ctx, wait); err != nil {
		return err
	}
	if err := f(); err != nil || !commit {
		if e := t.DB.Rollback(); err == nil {
			err = e
		}
		return err
	}
	return t.DB.Commit(ctx)
}
