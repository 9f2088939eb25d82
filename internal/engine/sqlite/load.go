package sqlite

// This file loads the rows of seeds. Fifty rows to a statement are quickest here,
// and OR FAIL lets SQLite do without the journal that it keeps for each statement
// otherwise: a failure is followed by a rollback of the transaction anyway.

import (
	"context"
	"database/sql"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

const (
	rowsAtOnce  = 50
	marksAtOnce = 30000 // SQLite takes 32,766 in a statement
)

func (d *database) prepared(ctx context.Context, text string) (*sql.Stmt, error) {
	if s := d.statements[text]; s != nil {
		return s, nil
	}
	s, err := d.conn.PrepareContext(ctx, text)
	if err != nil {
		return nil, plain(err)
	}
	if len(d.statements) >= 20 {
		d.forget()
	}
	if d.statements == nil {
		d.statements = map[string]*sql.Stmt{}
	}
	d.statements[text] = s
	return s, nil
}

// forget closes the statements that were kept for the rows of a seed.
func (d *database) forget() {
	for _, s := range d.statements {
		s.Close()
	}
	d.statements = nil
}

func marks(columns, rows int) string {
	row := "(" + strings.TrimSuffix(strings.Repeat("?,", columns), ",") + ")"
	return strings.TrimSuffix(strings.Repeat(row+",", rows), ",")
}

// Load puts rows into a table.
func (d *database) Load(ctx context.Context, r engine.TableRows) error {
	head := "INSERT OR FAIL INTO " + quote(r.Table.Name) + " (" + quoteAll(r.Columns) + ") VALUES "
	w := len(r.Columns)
	each := max(1, min(rowsAtOnce, marksAtOnce/w))
	for at := 0; at < len(r.Cells); at += each * w {
		cells := r.Cells[at:min(at+each*w, len(r.Cells))]
		s, err := d.prepared(ctx, head+marks(w, len(cells)/w))
		if err != nil {
			return err
		}
		if _, err := s.ExecContext(ctx, cells...); err != nil {
			return plain(err)
		}
	}
	return nil
}

// Find looks for rows by the values of some columns.
func (d *database) Find(ctx context.Context, f engine.Finding) ([][]any, error) {
	out := make([][]any, f.Rows())
	w := len(f.Columns)
	var names, on, take []string
	for i, c := range f.Columns {
		names = append(names, fmt.Sprintf("c%d", i))
		term := fmt.Sprintf("t.%s = v.c%d", quote(c), i)
		if slices.Contains(f.Fold, c) {
			term += " COLLATE NOCASE"
		}
		on = append(on, term)
	}
	if f.Live && f.Table.SoftDelete != "" {
		on = append(on, "t."+quote(f.Table.SoftDelete)+" IS NULL")
	}
	for _, c := range f.Take {
		take = append(take, "t."+quote(c))
	}
	const each = 500
	for at := 0; at < len(out); at += each {
		n := min(each, len(out)-at)
		args := make([]any, 0, n*(w+1))
		for i := range n {
			args = append(args, int64(at+i))
			args = append(args, f.Cells[(at+i)*w:(at+i+1)*w]...)
		}
		// CROSS JOIN keeps the rows asked for outside, and the index inside.
		rows, err := d.values(
			ctx,
			fmt.Sprintf("WITH v(i, %s) AS (VALUES %s) SELECT v.i, %s FROM v CROSS JOIN %s AS t ON %s",
				strings.Join(names, ", "), marks(w+1, n), strings.Join(take, ", "), quote(f.Table.Name),
				strings.Join(on, " AND ")),
			args...)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			i, err := strconv.Atoi(row[0].String)
			if err != nil {
				return nil, err
			}
			values := make([]any, len(row)-1)
			for j, v := range row[1:] {
				if v.Valid {
					values[j] = v.String
				}
			}
			out[i] = values
		}
	}
	return out, nil
}

// Change sets columns of rows. SQLite has no way to keep triggers still: quiet
// takes them away and puts them back, in the same transaction.
func (d *database) Change(ctx context.Context, r engine.TableRows, by []string, quiet bool) (int64, error) {
	if quiet {
		triggers, err := d.Select(ctx,
			"SELECT name, sql FROM sqlite_schema WHERE type = 'trigger' AND lower(tbl_name) = lower(?) ORDER BY rowid",
			r.Table.Name)
		if err != nil {
			return 0, err
		}
		for _, t := range triggers {
			if err := d.Exec(ctx, "DROP TRIGGER "+quote(t[0])); err != nil {
				return 0, err
			}
		}
		n, err := d.change(ctx, r, by)
		for _, t := range triggers {
			if err != nil {
				break
			}
			err = d.Exec(ctx, t[1])
		}
		return n, err
	}
	return d.change(ctx, r, by)
}

func (d *database) change(ctx context.Context, r engine.TableRows, by []string) (changed int64, err error) {
	w := len(r.Columns)
	var set, differs, where []string
	var values, keys []int
	for i, c := range r.Columns {
		if slices.Contains(by, c) {
			where = append(where, quote(c)+" = ?")
			keys = append(keys, i)
			continue
		}
		set = append(set, quote(c)+" = ?")
		differs = append(differs, quote(c)+" IS NOT ?")
		values = append(values, i)
	}
	if len(set) == 0 {
		return 0, nil
	}
	s, err := d.prepared(
		ctx,
		fmt.Sprintf("UPDATE %s SET %s WHERE %s AND (%s)", quote(r.Table.Name), strings.Join(set, ", "),
			strings.Join(where, " AND "), strings.Join(differs, " OR ")),
	)
	if err != nil {
		return 0, err
	}
	args := make([]any, 0, w*2)
	for at := 0; at < len(r.Cells); at += w {
		row := r.Cells[at : at+w]
		args = args[:0]
		for _, list := range [][]int{values, keys, values} {
			for _, i := range list {
				args = append(args, row[i])
			}
		}
		res, err := s.ExecContext(ctx, args...)
		if err != nil {
			return changed, plain(err)
		}
		n, _ := res.RowsAffected()
		changed += n
	}
	return changed, nil
}

// DeleteEqual deletes one row for each of those given, also past a guard.
func (d *database) DeleteEqual(ctx context.Context, r engine.TableRows) (deleted int64, err error) {
	for _, g := range r.Table.Triggers {
		if g.Purpose != schema.ForGuard {
			continue
		}
		if err := d.Exec(ctx, dropTrigger(g)); err != nil {
			return 0, err
		}
		defer func() {
			if err == nil {
				err = d.Exec(ctx, g.SQL.Text)
			}
		}()
	}
	row := rowidName(r.Table)
	if row == "" {
		return 0, fmt.Errorf("the rows of %s cannot be identified", r.Table.Name)
	}
	var where []string
	for _, c := range r.Columns {
		where = append(where, quote(c)+" IS ?")
	}
	s, err := d.prepared(
		ctx,
		fmt.Sprintf("DELETE FROM %s WHERE %s = (SELECT %s FROM %s WHERE %s LIMIT 1)", quote(r.Table.Name), row, row,
			quote(r.Table.Name), strings.Join(where, " AND ")),
	)
	if err != nil {
		return 0, err
	}
	w := len(r.Columns)
	for at := 0; at < len(r.Cells); at += w {
		res, err := s.ExecContext(ctx, r.Cells[at:at+w]...)
		if err != nil {
			return deleted, plain(err)
		}
		n, _ := res.RowsAffected()
		deleted += n
	}
	return deleted, nil
}

// NextNumber is the number that the next row gets.
func (d *database) NextNumber(ctx context.Context, t *sqlschema.Table) (int64, error) {
	key := quote(t.Key()[0])
	rows, err := d.Select(
		ctx,
		fmt.Sprintf(
			"SELECT max(coalesce((SELECT max(%s) FROM %s), 0), coalesce((SELECT max(seq) FROM sqlite_sequence WHERE lower(name) = lower(?)), 0))",
			key, quote(t.Name)),
		t.Name,
	)
	if err != nil {
		return 0, err
	}
	n, err := strconv.ParseInt(rows[0][0], 10, 64)
	return n + 1, err
}

// Reserve lets nobody else get the numbers up to last.
func (d *database) Reserve(ctx context.Context, t *sqlschema.Table, last int64) error {
	if err := d.Exec(ctx, "INSERT INTO sqlite_sequence (name, seq) SELECT ?, 0 WHERE NOT EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = ?)", t.Name, t.Name); err != nil {
		return err
	}
	return d.Exec(ctx, "UPDATE sqlite_sequence SET seq = ? WHERE name = ? AND seq < ?", last, t.Name, last)
}

// Insert is the statement that puts rows into a table.
func (Engine) Insert(r engine.TableRows) string {
	return sqltext.Insert(r, quote(r.Table.Name), quote, cellSQL)
}

// ScriptChange are the statements that set columns of rows.
func (Engine) ScriptChange(r engine.TableRows, by []string, quiet bool) []string {
	var out []string
	if quiet {
		for _, g := range r.Table.Triggers {
			out = append(out, dropTrigger(g)+";")
		}
	}
	for _, sql := range sqltext.Updates(r, quote(r.Table.Name), by, quote, cellSQL) {
		out = append(out, sql+";")
	}
	if quiet {
		for _, g := range r.Table.Triggers {
			out = append(out, g.SQL.Text+";")
		}
	}
	return out
}

func cellSQL(v any) string {
	switch v := v.(type) {
	case nil:
		return "NULL"
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		s := strconv.FormatFloat(v, 'g', -1, 64)
		if !strings.ContainsAny(s, ".eE") {
			s += ".0"
		}
		return s
	case bool:
		if v {
			return "1"
		}
		return "0"
	case []byte:
		return "x'" + hex.EncodeToString(v) + "'"
	case string:
		return literal(v)
	}
	return literal(fmt.Sprint(v))
}
