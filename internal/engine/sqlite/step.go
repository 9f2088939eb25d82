package sqlite

// This file runs the steps of migrations: copies in slices, tables put aside, references that point at nothing.

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	// the driver "sqlite"

	"erbario/internal/engine"
)

// sliceRows is how many rows of a copy are one statement: so many that no time is
// lost between them, so few that a copy can be watched, and stopped.
const sliceRows = 20000

// copying tells whether a statement fills a new table from the one renamed aside,
// as a copy of a table does.
func copying(statement string) bool {
	return strings.HasPrefix(statement, "INSERT INTO ") && copyTail(statement) >= 0
}

// copyTail is the offset of the statement's end " ORDER BY rowid" behind the name
// of a table renamed aside; -1 if it has no such end.
func copyTail(statement string) int {
	i := strings.LastIndex(statement, " ORDER BY ")
	if i < 0 {
		return -1
	}
	from := strings.LastIndex(statement[:i], " FROM ")
	switch strings.ToLower(statement[i+len(" ORDER BY "):]) {
	case "rowid", "_rowid_", "oid":
	default:
		return -1
	}
	list := tokens(statement[max(from, 0):i])
	if from < 0 || len(list) != 2 || !list[1].Named() || !strings.HasPrefix(list[1].Name(), asideName("")) {
		return -1
	}
	return i
}

// copyInSlices runs a copy by ranges of row numbers, in their order.
func (d *database) copyInSlices(ctx context.Context, statement string, _ ...any) error {
	tail := copyTail(statement)
	row := statement[tail+len(" ORDER BY "):]
	aside := tokens(statement[strings.LastIndex(statement[:tail], " FROM "):tail])[1].Name()
	ends, err := d.Select(ctx,
		fmt.Sprintf("SELECT count(*), coalesce(min(%s), 0), coalesce(max(%s), 0) FROM %s", row, row, quote(aside)))
	if err != nil {
		return err
	}
	var n, low, high int64
	for i, to := range []*int64{&n, &low, &high} {
		if *to, err = strconv.ParseInt(ends[0][i], 10, 64); err != nil {
			return err
		}
	}
	span := uint64(high) - uint64(low) // of row numbers, which may have gaps
	if n <= sliceRows {
		return d.Exec(ctx, statement)
	}
	width := span/uint64(n/sliceRows) + 1
	for at, done := low, int64(0); ; {
		last := uint64(high)-uint64(at) < width
		end := high
		if !last {
			end = at + int64(width) - 1
		}
		res, err := d.conn.ExecContext(ctx,
			fmt.Sprintf("%s WHERE %s BETWEEN %d AND %d%s", statement[:tail], row, at, end, statement[tail:]))
		if err != nil {
			return plain(err)
		}
		if some, err := res.RowsAffected(); err == nil {
			done += some
		}
		if d.report != nil {
			d.report(engine.Progress{Table: strings.TrimPrefix(aside, asideName("")), Done: done, Total: n})
		}
		if last {
			return nil
		}
		at = end + 1
	}
}

// Step runs one statement of a migration. A table renamed aside for a copy
// keeps its old name wherever it is referred to.
func (d *database) Step(ctx context.Context, statement string) error {
	if err := (Engine{}).Validate(statement); err != nil {
		return err
	}
	legacy := legacyRename(statement)
	if legacy {
		if err := d.takeAside(ctx, statement); err != nil {
			return err
		}
		if err := d.Exec(ctx, "PRAGMA legacy_alter_table = ON"); err != nil {
			return err
		}
	}
	run := d.Exec
	if copying(statement) {
		run = d.copyInSlices
	}
	err := d.stepIndexed(ctx, statement, run)
	if legacy {
		if e := d.Exec(context.WithoutCancel(ctx), "PRAGMA legacy_alter_table = OFF"); err == nil {
			err = e
		}
	}
	if err != nil {
		return err
	}
	return d.handBack(ctx, statement)
}

// takeAside drops the indexes and triggers that still stand with a table that is
// about to be renamed aside. The migration does not know them: somebody made
// them by hand on this database. handBack makes them again once the old table is
// gone.
func (d *database) takeAside(ctx context.Context, statement string) error {
	table := tokens(statement)[2].Name()
	rows, err := d.Select(ctx,
		"SELECT type, name, sql FROM sqlite_schema WHERE lower(tbl_name) = lower(?) AND type IN ('index', 'trigger') AND sql IS NOT NULL ORDER BY rowid",
		table)
	if err != nil {
		return err
	}
	for _, r := range rows {
		if err := d.Exec(ctx, "DROP "+strings.ToUpper(r[0])+" "+quote(r[1])); err != nil {
			return err
		}
	}
	if len(rows) > 0 {
		d.aside[strings.ToLower(asideName(table))] = rows
	}
	return nil
}

func (d *database) handBack(ctx context.Context, statement string) error {
	list := tokens(statement)
	if len(d.aside) == 0 || len(list) != 3 || !list[0].Is("DROP") || !list[1].Is("TABLE") {
		return nil
	}
	key := strings.ToLower(list[2].Name())
	for _, r := range d.aside[key] {
		if err := d.Exec(ctx, r[2]); err != nil {
			return fmt.Errorf("the %s %s, which was not created by a migration, cannot be kept (%w): drop it first",
				r[0], r[1], err)
		}
	}
	delete(d.aside, key)
	return nil
}

// TrackIntegrity notes which references of the tables that are touched point at no row
// already.
func (d *database) TrackIntegrity(ctx context.Context, statements, tables []string) error {
	d.touched, d.before = map[string]bool{}, nil
	for _, t := range tables {
		d.touched[strings.ToLower(t)] = true
	}
	for _, s := range statements {
		if !orphaning(s) {
			continue
		}
		for _, t := range tablesOf(s) {
			d.touched[strings.ToLower(t)] = true
		}
	}
	if len(d.touched) == 0 {
		return nil
	}
	var err error
	d.before, err = d.orphans(ctx)
	return err
}

// orphaning tells whether a statement could leave a reference without its row:
// what only makes something new cannot.
func orphaning(statement string) bool {
	list := tokens(statement)
	if len(list) == 0 || list[0].Is("CREATE") || list[0].Is("SELECT") {
		return false
	}
	return !(list[0].Is("ALTER") && len(list) > 3 && (list[3].Is("ADD") || list[3].Is("RENAME") && !legacyRename(statement)))
}

// orphans lists the rows whose reference points at no row, as text, for the
// references of touched tables and to them.
func (d *database) orphans(ctx context.Context) (map[string]bool, error) {
	out := map[string]bool{}
	references, err := d.Select(ctx,
		"SELECT m.name, f.\"table\" FROM sqlite_schema m, pragma_foreign_key_list(m.name) f WHERE m.type = 'table'")
	if err != nil {
		return nil, err
	}
	checked := map[string]bool{}
	for _, r := range references {
		table := r[0]
		if checked[table] || !d.touched[strings.ToLower(table)] && !d.touched[strings.ToLower(r[1])] {
			continue
		}
		checked[table] = true
		rows, err := d.Select(ctx,
			"SELECT \"table\", rowid, parent, fkid FROM pragma_foreign_key_check("+literal(table)+")")
		if err != nil {
			// One reference to something that cannot be referred to makes the
			// whole check an error. It was so before, or the steps made it so.
			out["mismatch "+table+": "+err.Error()] = true
			continue
		}
		for _, r := range rows {
			out[fmt.Sprintf("row %s of %s refers to no row of %s", r[1], r[0], r[2])] = true
		}
	}
	return out, nil
}

// CheckIntegrity looks for references that the steps left without a row.
func (d *database) CheckIntegrity(ctx context.Context) error {
	if d.before == nil {
		return nil
	}
	after, err := d.orphans(ctx)
	if err != nil {
		return err
	}
	var fresh []string
	for o := range after {
		if !d.before[o] {
			fresh = append(fresh, o)
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	slices.Sort(fresh)
	shown := fresh
	if len(shown) > 5 {
		shown = append(slices.Clone(shown[:5]), fmt.Sprintf("and %d more", len(fresh)-5))
	}
	return fmt.Errorf("references would point to no row: %s", strings.Join(shown, "; "))
}
