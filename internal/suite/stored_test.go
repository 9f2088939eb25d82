package suite

// This file changes how things are kept: each clause of the language that says it is added, changed
// and removed, on every engine that has it, and each change goes there, back and there again.

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"erbario/internal/declare"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// storedChanges are, by engine, lines of a model, a field or what belongs to it, before and after a
// change.
var storedChanges = map[string][][2]string{
	"": {
		{"note text(40)", "note char(40)"},
		{"code char(4)\n    unique code", "code char(6)\n    unique code"},
		{"at timestamp(3) optional", "at timestamp optional"},
		{"at datetime(0) optional", "at datetime(3) optional"},
		{"at time(0) optional", "at time(6) optional"},
		{"size smallint unsigned default 3", "size integer unsigned default 3"},
		{"size integer unsigned optional", "size bigint unsigned optional"},
		{"size integer", "size integer unsigned"},
		{"code text(20) unique named \"the_code\"", "code text(20) unique"},
		{"code text(20) index named \"by_code\"", "code text(20) index named \"codes\""},
		{"code text(20) unique", "code text(20) unique named \"the_code\""},
		{"name text(20)\n    index \"odd name\": name", "name text(20)\n    index name"},
		{"sound text(8)\n    check \"odd check\": {sound} <> 'x'", "sound text(8)\n    check plain: {sound} <> 'x'"},
		{"parent references Sheet optional on delete cascade named \"fk_7\"", "parent references Sheet optional on delete set null"},
		{"state choice(fresh, dry)", "state choice(fresh, dry) as enum"},
		{"state choice(fresh, dry) as enum", "state choice(fresh, dry, lost) as enum"},
		{"no type checks\n    flag boolean", "flag boolean"},
	},
	"sqlite": {
		{"note text as \"CLOB\"", "note text"},
		{"note text as \"\" optional", "note text(20) optional"},
		{"size integer as \"MEDIUMINT\" default 3", "size integer default 3"},
		{"options \"STRICT\"\n    no type checks\n    note text", "no type checks\n    note text"},
		{"code text(9) key\n    options \"WITHOUT ROWID\"", "code text(9) key"},
		{"number integer key rowid", "number integer key identity"},
		{"code text(9) key optional", "code text(9) key"},
		{"name text(20) collation \"NOCASE\"", "name text(20)"},
		{"collation \"NOCASE\"\n    name text(20)", "name text(20)"},
		{"code text(9) unique as constraint", "code text(9) unique as index"},
		{"code text(9)\n    unique named_so: code as constraint", "code text(9)\n    unique named_so: code as index"},
		{"name text(20)\n    index name collation \"NOCASE\" desc", "name text(20)\n    index name desc"},
		{"parent references Sheet deferrable initially deferred optional", "parent references Sheet optional"},
	},
	"postgres": {
		{"parent references Sheet named \"fk_7\" optional", "parent references Sheet optional"},
		{"note text as \"varchar\"", "note text"},
		{"amount decimal as \"numeric\" optional", "amount decimal(10,2) optional"},
		{"data json as \"json\" optional", "data json optional"},
		{"tags array of text optional", "tags array of text(20) optional"},
		{"number integer key serial", "number integer key identity"},
		{"number integer key identity", "number integer key identity always"},
		{"number integer serial", "number integer"},
		{"number bigint identity always start 100", "number bigint identity"},
		{"options \"UNLOGGED\"\n    note text", "note text\n    options \"fillfactor=80\""},
		{"name text(20) collation \"C\"", "name text(20)"},
		{"code text(9) unique as index", "code text(9) unique as constraint"},
		{"code text(9) unique deferrable initially deferred", "code text(9) unique deferrable"},
		{"code text(9) unique deferrable", "code text(9) unique"},
		{"code text(9)\n    size integer\n    index by_code: code class \"text_pattern_ops\" include size", "code text(9)\n    size integer\n    index by_code: code"},
		{"code text(9)\n    index by_code: code desc nulls last", "code text(9)\n    index by_code: code desc"},
		{"code text(9)\n    index by_code: code options \"fillfactor=70\"", "code text(9)\n    index by_code: code options \"fillfactor=90\""},
		{"parent references Sheet deferrable initially deferred optional", "parent references Sheet optional"},
		{"size integer optional\n    check big no inherit: {size} > 3", "size integer optional\n    check big: {size} > 3"},
		{"code text(9) key named \"the key\"", "code text(9) key named \"the key\"\n    more text optional"},
	},
	"mariadb": {
		{"parent references Sheet named \"fk_7\" optional", "parent references Sheet optional"},
		{"note text as \"mediumtext\"", "note text as \"text\""},
		{"note text as \"tinytext\" optional", "note text(80) optional"},
		{"size integer as \"mediumint unsigned\" default 3", "size integer unsigned default 3"},
		{"data bytes(16) as \"binary(16)\" optional", "data bytes(16) optional"},
		{"at timestamp as \"timestamp\" default now on update now", "at timestamp default now"},
		{"at timestamp(0) optional on update now", "at timestamp(0) optional"},
		{"name text(20) collation \"utf8mb4_general_ci\"", "name text(20)"},
		{"collation \"utf8mb4_general_ci\"\n    name text(20) unique", "collation \"utf8mb4_unicode_ci\"\n    name text(20) unique"},
		{"options \"ROW_FORMAT=COMPRESSED\"\n    name text(20)", "options \"ROW_FORMAT=DYNAMIC\"\n    name text(20)"},
		{"name text(200)\n    index by_name: name(20)", "name text(200)\n    index by_name: name(30)"},
		{"note text\n    index words: note using fulltext", "note text\n    index words: note"},
		{"name text(20)\n    index by_name comment \"slow\": name invisible", "name text(20)\n    index by_name: name invisible"},
		{"hidden integer optional invisible", "hidden integer optional"},
		{"number integer identity index\n    no key", "number integer index\n    no key"},
		{"size integer check unnamed: {size} > 3", "size integer"},
	},
}

// storedCase takes a database from one model to another, back, and there again.
func storedCase(t *testing.T, p testserver.Place, change [2]string) {
	ctx, e := context.Background(), p.Engine
	model := func(lines string) string {
		if !strings.Contains(lines, " key") {
			lines = "id bigint key identity\n    " + lines
		}
		return "model Sheet\n    " + lines + "\n"
	}
	rules := declare.Rules{PerTable: map[string]bool{e.Name(): e.Caps().IndexesPerTable}}
	declared := func(src string) *sqlschema.Schema {
		f, diags := lang.Parse("models/sheet.erbario", src)
		require.Empty(t, diags, src)
		text := lang.Format(f)
		again, diags := lang.Parse("models/sheet.erbario", text)
		require.Empty(t, diags, text)
		require.Equal(t, text, lang.Format(again))
		d, diags := declare.Resolve([]*lang.File{again}, rules, e.Name())
		require.False(t, lang.Errors(diags), "%v\n%s", diags, src)
		s, notices := e.DDL().Lower(d.Schema)
		for _, n := range notices {
			require.False(t, n.Mistake, n.Text)
		}
		return s
	}
	db := p.Open(t)
	defer db.Close()
	var files []*migration.Migration
	look := func(src string) *draft.State {
		wanted := declared(src)
		s, err := draft.Look(ctx, e, db, func() (*sqlschema.Schema, []*migration.Migration, error) {
			return wanted, files, nil
		})
		require.NoError(t, err)
		return s
	}
	go1 := func(src string) bool {
		d, err := look(src).Make(ctx, draft.Request{Title: "change", Now: time.Now()})
		require.NoError(t, err)
		require.Empty(t, d.Plan.Questions)
		require.Empty(t, d.InTheWay)
		if d.Migration == nil {
			return false
		}
		require.True(t, d.Outcome.Proved(), "%v\n%s", d.Outcome.Differ, d.Migration.Text)
		files = append(files, d.Migration)
		_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Minute})
		require.NoError(t, err, d.Migration.Text)
		left, err := look(src).Changes(ctx)
		require.NoError(t, err)
		require.Empty(t, left.Changes, d.Migration.Text)
		return true
	}
	a, b := model(change[0]), model(change[1])
	require.True(t, go1(a))
	before := formOf(t, ctx, e, db)
	if !go1(b) {
		require.Equal(t, everythingOf(e, declared(a)), everythingOf(e, declared(b)), "nothing to do where nothing differs")
		return
	}
	after := formOf(t, ctx, e, db)
	_, err := runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err)
	require.Equal(t, before, formOf(t, ctx, e, db), "the undo of\n%s", files[1].Text)
	_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err)
	require.Equal(t, after, formOf(t, ctx, e, db), files[1].Text)
	fresh := p.Open(t)
	defer fresh.Close()
	_, err = runner.Apply(ctx, fresh, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err)
	require.Equal(t, after, formOf(t, ctx, e, fresh), "from nothing\n%s", files[1].Text)
}

// formOf is everything without the words in which SQLite keeps it.
func formOf(t *testing.T, ctx context.Context, e engine.Engine, db engine.Database) []string {
	if e.Name() != "sqlite" {
		return everything(t, ctx, e, db)
	}
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	s.Tables = slices.DeleteFunc(s.Tables, func(t *sqlschema.Table) bool { return schema.Own(t.Name) })
	for _, table := range s.Tables {
		table.Text = ""
	}
	return everythingOf(e, s)
}

func everythingOf(e engine.Engine, s *sqlschema.Schema) []string {
	var out []string
	for _, c := range e.DDL().CreateAll(s) {
		out = append(out, c.SQL)
	}
	return out
}

// What is said of how things are kept changes both ways.
func TestStored(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		for _, c := range append(storedChanges[""], storedChanges[p.Name]...) {
			for i, way := range [][2]string{c, {c[1], c[0]}} {
				t.Run(fmt.Sprintf("%s/%d", strings.ReplaceAll(c[0], "/", " "), i), func(t *testing.T) {
					storedCase(t, p, way)
				})
			}
		}
	})
}
