package deleted

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/lang"
	"erbario/internal/sqlschema"
)

const models = `
model Taxon
    table "taxa"
    name text(20) unique
    parent references Taxon optional
    soft delete with view with children

model Specimen
    accession text(20) unique ignoring case
    taxon references Taxon
    soft delete with view with children

model Sheet
    label text(20)
    drawer integer
    specimen references Specimen
    soft delete
    unique label, drawer

model Photo
    file text(20)
    specimen references Specimen optional on delete set null
    soft delete

model Note
    remark text(20)
    specimen references Specimen on delete cascade
`

func herbarium(t require.TestingT) (engine.Database, *sqlschema.Schema, engine.Engine) {
	e, err := engines.All().ByName("sqlite")
	require.NoError(t, err)
	f, diags := lang.Parse("models/test.erbario", models)
	require.Empty(t, diags)
	d, diags := declare.Resolve([]*lang.File{f}, declare.Rules{}, e.Name())
	require.Empty(t, diags)
	s, _ := e.DDL().Lower(d.Schema)
	db, err := e.Scratch(context.Background())
	require.NoError(t, err)
	require.NoError(t, engine.FillWhole(context.Background(), db, e.DDL().CreateAll(s)))
	live, err := db.Inspect(context.Background())
	require.NoError(t, err)
	return db, live, e
}

// row is a row as plain Go has it. up is the row it refers to, 0 for none.
type row struct {
	up      int
	what    string // the unique value, or any
	deleted string // when; empty: it is not
}

// plain is the herbarium in plain Go: soft deletion with children, uniqueness
// among the rows that are left, and what a purge takes along, written down once
// more as the documents say it.
type plain map[string]map[int]*row

// below are the references to a table: child table, and what happens there.
var below = map[string][]struct{ table, action string }{
	"taxa":      {{"taxa", "restrict"}, {"specimens", "restrict"}},
	"specimens": {{"sheets", "restrict"}, {"photos", "set null"}, {"notes", "cascade"}},
}

func (p plain) clone() plain {
	out := plain{}
	for t, rows := range p {
		out[t] = map[int]*row{}
		for id, r := range rows {
			c := *r
			out[t][id] = &c
		}
	}
	return out
}

type at struct {
	table string
	id    int
}

// with are the rows that go or come back with one: those that refer to it,
// through rows that pass.
func (p plain) with(start at, pass func(*row) bool) []at {
	out := []at{start}
	for i := 0; i < len(out); i++ {
		for _, ref := range below[out[i].table] {
			if ref.action != "restrict" {
				continue
			}
			for id, r := range p[ref.table] {
				if x := (at{ref.table, id}); r.up == out[i].id && pass(r) && !slices.Contains(out, x) {
					out = append(out, x)
				}
			}
		}
	}
	return out
}

// delete marks a row, and those that are with it; one that is marked already has another
// time then, and so have those that went with it.
func (p plain) delete(table string, id int, when string) {
	was := p[table][id].deleted
	for _, x := range p.with(at{table, id}, func(r *row) bool { return r.deleted == was }) {
		p[x.table][x.id].deleted = when
	}
}

func unique(table, what string) string {
	switch table {
	case "photos", "notes":
		return ""
	case "specimens":
		return strings.ToLower(what)
	}
	return what
}

// restore tells whether it can be.
func (p plain) restore(table string, id int) bool {
	when := p[table][id].deleted
	if when == "" {
		return true
	}
	back := p.with(at{table, id}, func(r *row) bool { return r.deleted == when || r.deleted == "" })
	for _, x := range back {
		if p[x.table][x.id].deleted == when {
			p[x.table][x.id].deleted = ""
		}
	}
	for t, rows := range p {
		seen := map[string]bool{}
		for _, r := range rows {
			if u := unique(t, r.what); u != "" && r.deleted == "" {
				if seen[u] {
					return false
				}
				seen[u] = true
			}
		}
	}
	return true
}

// purge tells whether it can be.
func (p plain) purge(table string, ids []int) bool {
	for _, id := range ids {
		if p[table][id] == nil {
			continue
		}
		for _, ref := range below[table] {
			for child, r := range p[ref.table] {
				if r.up != id {
					continue
				}
				switch {
				case ref.action == "set null":
					r.up = 0
				case ref.action == "restrict" && r.deleted == "":
					return false
				default:
					if !p.purge(ref.table, []int{child}) {
						return false
					}
				}
			}
		}
		delete(p[table], id)
	}
	return true
}

func (p plain) String() string {
	var b strings.Builder
	for _, t := range slices.Sorted(maps.Keys(p)) {
		for _, id := range slices.Sorted(maps.Keys(p[t])) {
			r := p[t][id]
			fmt.Fprintf(&b, "%s %d up %d %s %s\n", t, id, r.up, r.what, r.deleted)
		}
	}
	return b.String()
}

// read is what the database holds, in the same form.
func read(t require.TestingT, db engine.Database) plain {
	out := plain{}
	for table, query := range map[string]string{
		"taxa":      "SELECT id, coalesce(parent_id, 0), name, coalesce(deleted_at, '') FROM taxa",
		"specimens": "SELECT id, taxon_id, accession, coalesce(deleted_at, '') FROM specimens",
		"sheets":    "SELECT id, specimen_id, label || drawer, coalesce(deleted_at, '') FROM sheets",
		"photos":    "SELECT id, coalesce(specimen_id, 0), file, coalesce(deleted_at, '') FROM photos",
		"notes":     "SELECT id, specimen_id, remark, '' FROM notes",
	} {
		rows, err := db.Select(context.Background(), query)
		require.NoError(t, err)
		out[table] = map[int]*row{}
		for _, r := range rows {
			var id, up int
			fmt.Sscan(r[0], &id)
			fmt.Sscan(r[1], &up)
			out[table][id] = &row{up, r[2], r[3]}
		}
	}
	return out
}

// Random scripts of inserts, deletes, restores and purges end as the same script
// ends in plain Go, step by step.
func TestAgainstPlainGo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		ctx := context.Background()
		db, live, e := herbarium(t)
		defer db.Close()
		require.NoError(t, db.EnforceReferences(ctx, true))
		want := read(t, db)
		clock := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
		next := 0
		some := func(table string, zero bool) int {
			ids := slices.Sorted(maps.Keys(want[table]))
			if zero {
				ids = append(ids, 0)
			}
			if len(ids) == 0 {
				return -1
			}
			return rapid.SampledFrom(ids).Draw(t, "row of "+table)
		}
		for range rapid.IntRange(10, 50).Draw(t, "steps") {
			clock = clock.Add(time.Hour)
			now := clock.Format("2006-01-02 15:04:05")
			kind := rapid.SampledFrom([]string{"insert", "insert", "insert", "delete", "delete", "restore", "purge",
				"purge old"}).
				Draw(t, "what")
			table := rapid.SampledFrom([]string{"taxa", "specimens", "sheets", "photos", "notes"}).Draw(t, "table")
			after := want.clone()
			var err error
			ok := true
			switch kind {
			case "insert":
				next++
				what := rapid.SampledFrom([]string{"a", "B", "b", "c"}).Draw(t, "value")
				up := -1
				switch table {
				case "taxa":
					up = some("taxa", true)
				case "specimens":
					up = some("taxa", false)
				case "photos":
					up = some("specimens", true)
				default:
					up = some("specimens", false)
				}
				if up < 0 {
					continue
				}
				ref := fmt.Sprint(up)
				if up == 0 {
					ref = "NULL"
				}
				sql := map[string]string{
					"taxa":      "INSERT INTO taxa (id, name, parent_id) VALUES (%d, '%s', %s)",
					"specimens": "INSERT INTO specimens (id, accession, taxon_id) VALUES (%d, '%s', %s)",
					"sheets":    "INSERT INTO sheets (id, label, drawer, specimen_id) VALUES (%d, '%s', 1, %s)",
					"photos":    "INSERT INTO photos (id, file, specimen_id) VALUES (%d, '%s', %s)",
					"notes":     "INSERT INTO notes (id, remark, specimen_id) VALUES (%d, '%s', %s)",
				}[table]
				err = db.Exec(ctx, fmt.Sprintf(sql, next, what, ref))
				if table == "sheets" {
					what += "1"
				}
				for _, r := range want[table] {
					if u := unique(table, what); u != "" && r.deleted == "" && unique(table, r.what) == u {
						ok = false
					}
				}
				after[table][next] = &row{up, what, ""}
			case "delete":
				id := some(table, false)
				if id < 0 || table == "notes" {
					continue
				}
				err = db.Exec(ctx, fmt.Sprintf("UPDATE %s SET deleted_at = '%s' WHERE id = %d", table, now, id))
				if table == "photos" || table == "sheets" {
					after[table][id].deleted = now
				} else {
					after.delete(table, id, now)
				}
			case "restore":
				id := some(table, false)
				if id < 0 || table == "notes" {
					continue
				}
				ok = after.restore(table, id)
				_, err = Table{db, e.SQL(), live, live.Table(table)}.Restore(ctx, [][]string{{fmt.Sprint(id)}}, 0, true)
				require.NoError(t, db.EnforceReferences(ctx, true))
			case "purge":
				id := some(table, false)
				if id < 0 || table == "notes" || want[table][id].deleted == "" {
					continue
				}
				ok = after.purge(table, []int{id})
				_, err = Table{
					db,
					e.SQL(),
					live,
					live.Table(table),
				}.Purge(ctx, [][]string{{fmt.Sprint(id)}}, time.Time{}, 0, true)
				require.NoError(t, db.EnforceReferences(ctx, true))
			case "purge old":
				if table == "notes" {
					continue
				}
				before := clock.Add(-time.Duration(rapid.IntRange(0, 20).Draw(t, "hours")) * time.Hour)
				var ids []int
				for id, r := range want[table] {
					if r.deleted != "" && r.deleted < before.Format("2006-01-02 15:04:05") {
						ids = append(ids, id)
					}
				}
				ok = after.purge(table, ids)
				counted, first := Table{db, e.SQL(), live, live.Table(table)}.Purge(ctx, nil, before, 0, false)
				require.Equal(t, want.String(), read(t, db).String(), "a dry run changes nothing")
				var done Purged
				done, err = Table{db, e.SQL(), live, live.Table(table)}.Purge(ctx, nil, before, 0, true)
				require.Equal(t, counted, done, "what was counted is what went")
				require.Equal(t, first == nil, err == nil)
				require.NoError(t, db.EnforceReferences(ctx, true))
			}
			if !ok {
				require.Error(t, err, "%s of %s", kind, table)
				after = want
			} else {
				require.NoError(t, err, "%s of %s in\n%s", kind, table, want)
			}
			require.Equal(t, after.String(), read(t, db).String(), "after %s of %s in\n%s", kind, table, want)
			want = after
		}
	})
}

// What list tells of a row is why it could not come back, and who refers to it.
func TestList(t *testing.T) {
	ctx := context.Background()
	db, live, e := herbarium(t)
	defer db.Close()
	for _, sql := range []string{
		"INSERT INTO taxa (id, name) VALUES (1, 'Rosa')",
		"INSERT INTO specimens (id, accession, taxon_id) VALUES (1, 'HB-1', 1), (2, 'HB-2', 1)",
		"INSERT INTO notes (remark, specimen_id) VALUES ('seen', 1)",
		"UPDATE specimens SET deleted_at = '2026-02-01 10:00:00' WHERE id = 1",
		"UPDATE specimens SET deleted_at = '2026-02-02 10:00:00' WHERE id = 2",
		"INSERT INTO specimens (id, accession, taxon_id) VALUES (3, 'hb-1', 1)",
	} {
		require.NoError(t, db.Exec(ctx, sql))
	}
	specimens := Table{db, e.SQL(), live, live.Table("specimens")}
	list, err := specimens.List(ctx, 10)
	require.NoError(t, err)
	require.Equal(t, []Row{
		{Key: []string{"2"}, At: "'2026-02-02 10:00:00'", Values: []string{"'HB-2'", "1"}},
		{Key: []string{"1"}, At: "'2026-02-01 10:00:00'", Values: []string{"'HB-1'", "1"},
			Taken: []Taken{
				{Columns: []string{"accession"}, Values: []string{"'HB-1'"}, By: []string{"3"}, Key: []string{"1"}},
			},
			Children: []Children{{"notes", 1}}},
	}, list)
	_, err = specimens.Restore(ctx, [][]string{{"1"}}, 0, true)
	require.EqualError(t, err,
		"the row id 1 of specimens cannot be restored: accession 'HB-1' is taken by id 3; change one of the two, or purge the deleted one")
	_, err = specimens.Purge(ctx, [][]string{{"3"}}, time.Time{}, 0, true)
	require.ErrorContains(t, err, "only deleted rows are purged")
}
