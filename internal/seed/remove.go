package seed

// This file takes out what the runs of a seed made, and nothing else. A row that
// another one refers to, which no run made, stays; so does what that row needs.
// Which rows may go is worked out before any goes, in tables of the session, so
// that nothing cascades.

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// Removed is what was taken out of one table, and what had to be left.
type Removed struct {
	Table   string
	Gone    int64
	Left    int64
	Because []string // the tables whose rows point at those that were left
}

// going is the rows of one table that are to go.
type going struct {
	table   *sqlschema.Table
	key     []string
	columns []string // the key, and what others refer to
	name    string   // of the table of the session that holds them
	removed *Removed
}

// ErrNothing says that no run of a seed is recorded.
var ErrNothing = errors.New("no run of it is recorded: there is nothing to delete")

// Remove takes out the rows that the runs of a seed made.
func Remove(ctx context.Context, db Database, e Engine, name string,
	wait time.Duration) ([]Removed, error) {
	if err := db.Begin(ctx, wait); err != nil {
		return nil, err
	}
	out, err := remove(ctx, db, e, name)
	if err == nil {
		err = db.Commit(ctx)
	}
	if err != nil {
		return nil, errors.Join(err, db.Rollback())
	}
	return out, nil
}

func remove(ctx context.Context, db Database, e Engine, name string) ([]Removed, error) {
	has, err := recorded(ctx, db)
	if err != nil {
		return nil, err
	}
	if !has {
		return nil, fmt.Errorf("the seed %s: %w", name, ErrNothing)
	}
	runs, err := db.Select(ctx, "SELECT id FROM erbario_seed_runs WHERE seed = ?", name)
	if err != nil {
		return nil, err
	}
	if len(runs) == 0 {
		return nil, fmt.Errorf("the seed %s: %w", name, ErrNothing)
	}
	lines, err := recordedLines(ctx, db, name)
	if err != nil {
		return nil, err
	}
	live, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	byTable := map[string][]segment{}
	for _, list := range lines {
		for _, s := range list {
			byTable[s.table] = append(byTable[s.table], s)
		}
	}
	var all []*going
	var out []Removed
	for _, t := range live.Tables { // a table that is no longer there has lost its rows
		segments := byTable[t.Name]
		if len(segments) == 0 {
			continue
		}
		if t.Unkeyed() { // nothing can refer to its rows, and one that is equal is as good
			rows, err := unkeyed(t, segments)
			if err != nil {
				return nil, err
			}
			n, err := db.DeleteEqual(ctx, rows)
			if err != nil {
				return nil, err
			}
			out = append(out, Removed{Table: t.Name, Gone: n})
			continue
		}
		g := newGoing(live, t, len(all))
		if err := g.gather(ctx, db, e, segments); err != nil {
			return nil, err
		}
		all = append(all, g)
	}
	for again := true; again; {
		again = false
		for _, g := range all {
			stayed, err := g.hold(ctx, db, e, live, all)
			if err != nil {
				return nil, err
			}
			again = again || stayed
		}
	}
	if err := takeOut(ctx, db, e, all); err != nil {
		return nil, err
	}
	for _, g := range all {
		out = append(out, *g.removed)
	}
	slices.SortFunc(out, func(a, b Removed) int { return strings.Compare(a.Table, b.Table) })
	if err := rewrite(ctx, db, e, name, live, out); err != nil {
		return nil, err
	}
	for _, g := range all {
		if err := db.Exec(ctx, "DROP TABLE "+e.SQL().Quote(g.name)); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// recorded tells whether the tables of record are there.
func recorded(ctx context.Context, db Database) (bool, error) {
	list, err := db.Kept(ctx, "erbario_seed_runs")
	return len(list) > 0, err
}

// unkeyed are the recorded rows of a table without a key, with all their values.
func unkeyed(t *sqlschema.Table, segments []segment) (engine.TableRows, error) {
	r := engine.TableRows{Table: t}
	for _, c := range t.Columns {
		if c.Generated == nil {
			r.Columns = append(r.Columns, c.Name)
		}
	}
	for _, s := range segments {
		for _, key := range s.keys {
			if len(key) != len(r.Columns) {
				return r, fmt.Errorf(
					"the rows of %s cannot be identified: it has no primary key, and its columns have changed since",
					t.Name,
				)
			}
			r.Cells = append(r.Cells, plainKey(key)...)
		}
	}
	return r, nil
}

// newGoing is the rows of a table that are to go, the number-th of a run.
func newGoing(live *sqlschema.Schema, t *sqlschema.Table, number int) *going {
	g := &going{table: t, key: t.Key(), name: fmt.Sprintf("erbario_going_%d", number), removed: &Removed{Table: t.Name}}
	g.columns = slices.Clone(g.key)
	for _, p := range sqlschema.Pointers(live, t) {
		for _, c := range p.To {
			if !slices.Contains(g.columns, c) {
				g.columns = append(g.columns, c)
			}
		}
	}
	return g
}

// gather puts the rows that were made, and are there still, into a table of the
// session.
func (g *going) gather(ctx context.Context, db Database, e Engine, segments []segment) error {
	from := fmt.Sprintf("SELECT %s FROM %s", list(e, g.columns), e.SQL().QuoteTable(g.table.Name))
	if err := db.Exec(ctx, fmt.Sprintf("CREATE TEMPORARY TABLE %s AS %s WHERE 1 = 0", e.SQL().Quote(g.name),
		from)); err != nil {
		return err
	}
	var keys []any
	for _, s := range segments {
		if s.keys == nil {
			k := e.SQL().Quote(g.key[0])
			if err := db.Exec(ctx, fmt.Sprintf("INSERT INTO %s %s WHERE %s BETWEEN %d AND %d", e.SQL().Quote(g.name),
				from, k, s.number, s.number+s.rows-1)); err != nil {
				return err
			}
			continue
		}
		for _, key := range s.keys {
			if len(key) == len(g.key) {
				keys = append(keys, plainKey(key)...)
			}
		}
	}
	if len(keys) == 0 {
		return nil
	}
	made := &sqlschema.Table{Name: g.name + "_made"}
	if err := db.Exec(ctx, fmt.Sprintf("CREATE TEMPORARY TABLE %s AS SELECT %s FROM %s WHERE 1 = 0",
		e.SQL().Quote(made.Name), list(e, g.key), e.SQL().QuoteTable(g.table.Name))); err != nil {
		return err
	}
	if err := db.Load(ctx, engine.TableRows{Table: made, Columns: g.key, Cells: keys}); err != nil {
		return err
	}
	where := fmt.Sprintf("(%s) IN (SELECT %s FROM %s)", list(e, g.key), list(e, g.key), e.SQL().Quote(made.Name))
	if err := db.Exec(ctx, fmt.Sprintf("INSERT INTO %s %s WHERE %s", e.SQL().Quote(g.name), from, where)); err != nil {
		return err
	}
	return db.Exec(ctx, "DROP TABLE "+e.SQL().Quote(made.Name))
}

// plainKey is a key of the record as values.
func plainKey(key []any) []any {
	out := make([]any, len(key))
	for i, v := range key {
		out[i] = v
		switch v := v.(type) {
		case json.Number:
			if whole, err := v.Int64(); err == nil {
				out[i] = whole
			} else if f, err := v.Float64(); err == nil {
				out[i] = f
			}
		case map[string]any: // bytes
			s, _ := v["hex"].(string)
			out[i], _ = hex.DecodeString(s)
		}
	}
	return out
}

func list(e Engine, columns []string) string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = e.SQL().Quote(c)
	}
	return strings.Join(out, ", ")
}

// hold takes the rows out of those that go that others point at which stay.
func (g *going) hold(ctx context.Context, db Database, e Engine, live *sqlschema.Schema,
	all []*going) (bool, error) {
	held := false
	for _, p := range sqlschema.Pointers(live, g.table) {
		var where []string
		for _, c := range p.Key.Columns {
			where = append(where, e.SQL().Quote(c)+" IS NOT NULL")
		}
		stay := fmt.Sprintf("SELECT %s FROM %s WHERE %s", list(e, p.Key.Columns), e.SQL().QuoteTable(p.Table.Name),
			strings.Join(where, " AND "))
		if i := slices.IndexFunc(all, func(o *going) bool { return o.table == p.Table }); i >= 0 {
			// A difference of sets, which no server works out row by row: with NOT IN, PostgreSQL
			// reads all that go for each row, where they are too many for its memory.
			columns := slices.Clone(all[i].key)
			for _, c := range p.Key.Columns {
				if !slices.Contains(columns, c) {
					columns = append(columns, c)
				}
			}
			var of, on []string
			for _, c := range columns {
				of = append(of, "t."+e.SQL().Quote(c))
			}
			for _, c := range all[i].key {
				on = append(on, fmt.Sprintf("t.%s = g.%s", e.SQL().Quote(c), e.SQL().Quote(c)))
			}
			stay = fmt.Sprintf(
				"SELECT %s FROM (SELECT %s FROM %s WHERE %s EXCEPT SELECT %s FROM %s AS t JOIN %s AS g ON %s) AS stay",
				list(e, p.Key.Columns), list(e, columns), e.SQL().QuoteTable(p.Table.Name),
				strings.Join(where, " AND "),
				strings.Join(of, ", "), e.SQL().QuoteTable(p.Table.Name), e.SQL().Quote(all[i].name),
				strings.Join(on, " AND "))
		}
		before, err := db.Count(ctx, "SELECT 1 FROM "+e.SQL().Quote(g.name))
		if err != nil {
			return false, err
		}
		if err := db.Exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE (%s) IN (%s)", e.SQL().Quote(g.name), list(e, p.To),
			stay)); err != nil {
			return false, err
		}
		after, err := db.Count(ctx, "SELECT 1 FROM "+e.SQL().Quote(g.name))
		if err != nil {
			return false, err
		}
		if after < before {
			held = true
			g.removed.Left += before - after
			if !slices.Contains(g.removed.Because, p.Table.Name) {
				g.removed.Because = append(g.removed.Because, p.Table.Name)
			}
		}
	}
	return held, nil
}

// takeOut deletes the rows that go, all of them together: they may refer to each
// other.
func takeOut(ctx context.Context, db Database, e Engine, all []*going) error {
	count := func(g *going) (int64, error) { return db.Count(ctx, "SELECT 1 FROM "+e.SQL().QuoteTable(g.table.Name)) }
	var tables, where []string
	var err error
	for _, g := range all {
		if g.removed.Gone, err = count(g); err != nil {
			return err
		}
		tables = append(tables, g.table.Name)
		where = append(where,
			fmt.Sprintf("(%s) IN (SELECT %s FROM %s)", list(e, g.key), list(e, g.key), e.SQL().Quote(g.name)))
	}
	list := e.Scripts().DeleteTogether(tables, where)
	for _, g := range all {
		list = e.Scripts().Unguarded(g.table, list...)
	}
	for _, sql := range list {
		if err := db.Exec(ctx, sql); err != nil {
			return err
		}
	}
	for _, g := range all {
		left, err := count(g)
		if err != nil {
			return err
		}
		g.removed.Gone -= left
	}
	return nil
}

// rewrite forgets the runs, but for the rows that were left.
func rewrite(ctx context.Context, db Database, e Engine, name string, live *sqlschema.Schema,
	out []Removed) error {
	const runs = "(SELECT id FROM erbario_seed_runs WHERE seed = ?)"
	if !slices.ContainsFunc(out, func(r Removed) bool { return r.Left > 0 }) {
		if err := db.Exec(ctx, "DELETE FROM erbario_seed_rows WHERE run IN "+runs, name); err != nil {
			return err
		}
		return db.Exec(ctx, "DELETE FROM erbario_seed_runs WHERE seed = ?", name)
	}
	rows, err := db.Select(
		ctx,
		"SELECT run, line, table_name, first_row, row_count, "+e.SQL().
			Quote("keys")+
			" FROM erbario_seed_rows WHERE run IN "+runs,
		name,
	)
	if err != nil {
		return err
	}
	if err := db.Exec(ctx, "DELETE FROM erbario_seed_rows WHERE run IN "+runs, name); err != nil {
		return err
	}
	for _, row := range rows {
		i := slices.IndexFunc(out, func(r Removed) bool { return r.Table == row[2] })
		if i < 0 || out[i].Left == 0 {
			continue
		}
		t := live.Table(row[2])
		first, _ := strconv.ParseInt(row[3], 10, 64)
		n, _ := strconv.ParseInt(row[4], 10, 64)
		f := engine.Finding{Take: t.Key()}
		f.Table, f.Columns = t, t.Key()
		if number, err := strconv.ParseInt(row[5], 10, 64); err == nil {
			for j := range n {
				f.Cells = append(f.Cells, number+j)
			}
		} else {
			var keys [][]any
			d := json.NewDecoder(strings.NewReader(row[5]))
			d.UseNumber()
			if err := d.Decode(&keys); err != nil {
				return err
			}
			for _, key := range keys {
				f.Cells = append(f.Cells, plainKey(key)...)
			}
		}
		if len(f.Cells) == 0 { // numbers that a run reserved
			continue
		}
		there, err := db.Find(ctx, f)
		if err != nil {
			return err
		}
		w := len(f.Columns)
		for j, values := range there {
			if values == nil {
				continue
			}
			keys := fmt.Sprint(f.Cells[j*w])
			if strings.HasPrefix(row[5], "[") {
				text, err := json.Marshal([][]any{f.Cells[j*w : (j+1)*w]})
				if err != nil {
					return err
				}
				keys = string(text)
			}
			if err := db.Exec(ctx, "INSERT INTO erbario_seed_rows (run, line, table_name, first_row, row_count, "+e.SQL().Quote("keys")+") VALUES (?, ?, ?, ?, ?, ?)", row[0], row[1], row[2], first+int64(j), 1, keys); err != nil {
				return err
			}
		}
	}
	return nil
}
