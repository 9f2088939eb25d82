package suite

// This file adopts databases that were created by SQL, as other programs create them: each table
// is declared exactly, what is created from nothing is the same, and a change goes there and back.

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/adopt"
	"erbario/internal/declare"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// everything is what creates all that a database holds, but for Erbario's own tables.
func everything(t require.TestingT, ctx context.Context, e engine.Engine, db engine.Database) []string {
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	s.Tables = slices.DeleteFunc(s.Tables, func(t *sqlschema.Table) bool { return schema.Own(t.Name) })
	list := e.DDL().CreateAll(s)
	if v, ok := engine.As[engine.Verbatim](db); ok {
		list, err = v.Verbatim(ctx, s)
		require.NoError(t, err)
	}
	var out []string
	for _, c := range list {
		out = append(out, strings.TrimSpace(c.Before+"\n"+c.SQL))
	}
	slices.Sort(out)
	return out
}

// adopted are the models and the first migration of a database.
type adopted struct {
	rules   declare.Rules
	files   map[string]string
	first   *migration.Migration
	all     int // tables that have models
	outside []string
	inSQL   []string
	tables  map[string]bool // those of them that are declared in SQL and have models
}

func adoptAll(t require.TestingT, ctx context.Context, e engine.Engine, db engine.Database, src string) *adopted {
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	rules := rules(e)
	rules.PerTable = map[string]bool{e.Name(): e.Caps().IndexesPerTable}
	rules, _ = adopt.Choose(live, e.Name(), rules)
	in := adopt.Input{Engine: e, DB: db, Live: live, Rules: rules, Folder: "models"}
	o, err := adopt.Look(ctx, in)
	require.NoError(t, err, src)
	a := &adopted{rules: rules, files: map[string]string{}, tables: map[string]bool{}}
	for _, table := range o.Tables {
		if table.Outside {
			a.outside = append(a.outside, fmt.Sprintf("%s: %v", table.Name, table.Why))
		}
		if table.InSQL {
			a.inSQL = append(a.inSQL, fmt.Sprintf("%s: %v", table.Name, table.Why))
		}
		if table.Model != "" {
			a.all++
			a.tables[table.Name] = table.InSQL
		}
	}
	var left []engine.LeftOut
	a.first, left, err = in.Beginning(ctx, o, "20260101T000000-adopted", nil)
	require.NoError(t, err, src)
	require.Empty(t, left, src)
	for _, f := range o.Files {
		a.files[f.Path] = f.Text
	}
	for _, x := range o.Left {
		require.NotContains(t, []string{"view", "trigger", "function", "procedure", "policy", "materialised view"}, x.Kind,
			"%s is declared in SQL\n%s", x.Name, src)
	}
	return a
}

// parsed are the models as files.
func (a *adopted) parsed(t require.TestingT) []*lang.File {
	var out []*lang.File
	for path, text := range a.files {
		if strings.HasSuffix(path, ".sql") {
			continue
		}
		f, wrong := lang.Parse(path, text)
		require.Empty(t, wrong, text)
		require.Equal(t, text, lang.Format(f), "the models are laid out as fmt does")
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b *lang.File) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// wanted is what the models declare.
func (a *adopted) wanted(t require.TestingT, e engine.Engine) *sqlschema.Schema {
	d, diags := declare.Resolve(a.parsed(t), a.rules, e.Name())
	for _, x := range diags {
		require.True(t, x.Warning, "%v", x)
	}
	s, _ := e.DDL().Lower(d.Schema)
	for path, text := range a.files {
		if strings.HasSuffix(path, ".sql") {
			list, wrong := objects.Parse(e.SQL(), path, text, d.Schema)
			require.Empty(t, wrong, text)
			s.Objects = append(s.Objects, list...)
		}
	}
	return s
}

// adoptCase adopts what statements create, creates it from nothing, and takes it a step further and
// back.
func adoptCase(t require.TestingT, p testserver.Place, statements []string) {
	ctx, e := context.Background(), p.Engine
	src := strings.Join(statements, ";\n")
	db := p.Open(t)
	defer db.Close()
	for _, sql := range statements {
		require.NoError(t, db.Exec(ctx, sql), sql)
	}
	before := everything(t, ctx, e, db)
	a := adoptAll(t, ctx, e, db, src)
	require.Empty(t, a.outside, "every table is declared exactly\n%s", src)
	files := []*migration.Migration{a.first}
	fresh := p.Open(t)
	defer fresh.Close()
	_, err := runner.Apply(ctx, fresh, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err, a.first.Text)
	require.Equal(t, before, everything(t, ctx, e, fresh), "the same from nothing\n%s", a.first.Text)
	require.NoError(t, runner.Record(ctx, db, e, []*migration.Migration{a.first}, nil))
	require.Equal(t, before, everything(t, ctx, e, db), "nothing was changed")

	for table, inSQL := range a.tables {
		if inSQL {
			q := e.SQL().QuoteTable(table)
			a.files["models/added_"+table+".sql"] = "ALTER TABLE " + q + " ADD COLUMN erbarium_no VARCHAR(20);\n" +
				"ALTER TABLE " + q + " ADD COLUMN sheets INT DEFAULT 1;\n"
		}
	}
	for path, text := range a.files {
		if head, _, _ := strings.Cut(text, "\n"); strings.HasPrefix(text, "model ") && !strings.HasSuffix(head, " in sql") {
			model := strings.Fields(text)[1]
			out, wrong := lang.Declare(path, text, model, []string{"erbarium_no text(20) optional",
				"sheets integer default 1"})
			require.Empty(t, wrong)
			f, _ := lang.Parse(path, out)
			a.files[path] = lang.Format(f)
		}
	}
	look := func() *draft.State {
		wanted := a.wanted(t, e)
		s, err := draft.Look(ctx, e, db, func() (*sqlschema.Schema, []*migration.Migration, error) {
			return wanted, files, nil
		})
		require.NoError(t, err)
		return s
	}
	d, err := look().Make(ctx, draft.Request{Title: "more", Now: time.Now()})
	require.NoError(t, err, src)
	require.Empty(t, d.Plan.Questions, src)
	require.NotNil(t, d.Migration, src)
	require.Len(t, d.Plan.Changes, 2*a.all, "the change alone\n%s\n%s", d.Migration.Text, src)
	require.Empty(t, d.Migration.Found, "what was adopted is not found again\n%s", d.Migration.Text)
	files = append(files, d.Migration)
	_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err, d.Migration.Text)
	left, err := look().Changes(ctx)
	require.NoError(t, err)
	require.Empty(t, left.Changes, src)
	_, err = runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err, d.Migration.Text)
	require.Equal(t, before, everything(t, ctx, e, db), "the undo of\n%s", d.Migration.Text)

	// And a change for which tables may have to be created again, by what models say of them.
	_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err, d.Migration.Text)
	narrow := maps.Clone(a.files)
	for path, text := range a.files {
		text = strings.Replace(text, "erbarium_no VARCHAR(20)", "erbarium_no VARCHAR(30)", 1)
		a.files[path] = strings.Replace(text, "text(20)                optional\n", "text(30)                optional\n", 1)
	}
	d, err = look().Make(ctx, draft.Request{Title: "wider", Now: time.Now()})
	require.NoError(t, err, src)
	require.Empty(t, d.Plan.Questions, src)
	if a.all == 0 {
		return
	}
	require.NotNil(t, d.Migration, src)
	require.True(t, d.Outcome.Proved(), "%v\n%s\n%s", d.Outcome.Differ, d.Migration.Text, src)
	files = append(files, d.Migration)
	_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err, d.Migration.Text)
	left, err = look().Changes(ctx)
	require.NoError(t, err)
	require.Empty(t, left.Changes, src)
	_, err = runner.Apply(ctx, fresh, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err, d.Migration.Text)
	require.Equal(t, everything(t, ctx, e, fresh), everything(t, ctx, e, db), "the same from nothing\n%s", src)
	_, err = runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err, d.Migration.Text)
	a.files, files = narrow, files[:2]
	left, err = look().Changes(ctx)
	require.NoError(t, err)
	require.Empty(t, left.Changes, "the undo of\n%s", d.Migration.Text)
}

// setsColumns tells whether a reference can say which of its columns it sets to NULL: on PostgreSQL from 15 on.
func setsColumns(t *testing.T, p testserver.Place) bool {
	if p.Name != "postgres" {
		return false
	}
	db := p.Open(t)
	defer db.Close()
	n, err := db.Count(context.Background(),
		"SELECT 1 WHERE current_setting('server_version_num')::integer >= 150000")
	require.NoError(t, err)
	return n > 0
}

// Databases by SQL of random parts.
func TestAdoptRandom(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		n := map[string]int{"sqlite": 160, "mariadb": 80, "postgres": 60}[p.Name]
		if s := os.Getenv("ERBARIO_ADOPTIONS"); s != "" {
			var err error
			n, err = strconv.Atoi(s)
			require.NoError(t, err)
		}
		require.NoError(t, flagSet("rapid.checks", strconv.Itoa(n)))
		unsaid := setsColumns(t, p)
		rapid.Check(t, func(rt *rapid.T) { adoptCase(rt, p, drawSQL(rt, p.Name, unsaid)) })
	})
}

// parts are what random databases of an engine are made of. In a column {c} is its name, in all
// else {t} is the table and {n} a number.
type parts struct {
	quote    string
	keys     []string // definitions of a first column that is the key
	columns  []string
	together []string // constraints of a table over its columns {a}, {b}
	behind   []string // options of a table
	indexes  []string
	objects  []string // statements over a table
}

var adoptParts = map[string]parts{
	"sqlite": {
		quote: `"`,
		keys: []string{
			"{c} INTEGER PRIMARY KEY", "{c} INTEGER PRIMARY KEY AUTOINCREMENT", "{c} INTEGER NOT NULL PRIMARY KEY",
			"{c} INT PRIMARY KEY", "{c} TEXT PRIMARY KEY", "{c} VARCHAR(20) NOT NULL PRIMARY KEY",
			"{c} CHAR(36) PRIMARY KEY",
			"{c} BIGINT NOT NULL", "{c} INTEGER PRIMARY KEY NOT NULL", "{c} INTEGER PRIMARY KEY DEFAULT 0",
			"{c} TEXT NOT NULL PRIMARY KEY DESC",
		},
		columns: []string{
			"{c} TEXT", "{c} TEXT NOT NULL DEFAULT ''", "{c} VARCHAR(40)",
			"{c} varchar(255) DEFAULT 'a ''b''' NOT NULL",
			"{c} INTEGER DEFAULT 0", "{c} int DEFAULT '0'", "{c} BIGINT", "{c} tinyint(1) DEFAULT 1",
			"{c} BOOLEAN DEFAULT 0",
			"{c} DATETIME DEFAULT CURRENT_TIMESTAMP", "{c} DATE", "{c} TIMESTAMP DEFAULT (datetime('now'))",
			"{c} REAL DEFAULT 1.5",
			"{c} DOUBLE PRECISION", "{c} DECIMAL(10,2) DEFAULT 0.00", "{c} NUMERIC", "{c} BLOB", "{c}", "{c} JSON",
			"{c} STRING",
			"{c} TEXT COLLATE NOCASE", "{c} NVARCHAR(100) DEFAULT NULL", "{c} FLOAT CHECK ({c} > 0)",
			"{c} INTEGER CHECK (/* at least */ {c} > 0 -- really\n AND {c} < 9)",
			"{c} UNSIGNED BIG INT",
			"{c} TEXT CHECK ({c} IN ('a', 'b'))", "{c} CHAR(2) UNIQUE", "{c} TEXT CONSTRAINT {t}_u{n} UNIQUE", "{c} TEXT UNIQUE ON CONFLICT REPLACE",
			"{c} UUID",
			"{c} INTEGER CHECK (typeof({c}) = 'integer')", "{c} TEXT DEFAULT \"x\"", "{c} INTEGER DEFAULT -1",
			"{c} TEXT NOT NULL ON CONFLICT IGNORE DEFAULT 'q'", "{c} INTEGER CHECK ({c} > 1 OR {c} = 0)", "{c} INTEGER REFERENCES gone (id)",
			"{c} TEXT DEFAULT (lower('A'))", "{c} TEXT /* said */ DEFAULT 'x' -- and why\n",
		},
		together: []string{
			"UNIQUE ({a}, {b})", "CONSTRAINT {t}_two{n} UNIQUE ({b}, {a})", "UNIQUE ({b}, {a}) ON CONFLICT IGNORE",
			"CHECK ({a} IS NOT NULL OR {b} IS NOT NULL)",
			"CONSTRAINT some{n} CHECK ({a} <> 'x')",
		},
		behind: []string{"", "", "", " "},
		indexes: []string{
			"CREATE INDEX {t}_i{n} ON {t} ({a})", "CREATE UNIQUE INDEX {t}_i{n} ON {t} ({a}, {b})",
			"CREATE INDEX {t}_i{n} ON {t} ({a} DESC, {b}) WHERE {a} IS NOT NULL",
			"CREATE INDEX {t}_i{n} ON {t} (lower({a}))",
			"CREATE INDEX {t}_i{n} ON {t} ({a} COLLATE NOCASE)",
		},
		objects: []string{
			"CREATE VIEW {t}_v{n} AS SELECT {a}, {b} FROM {t} WHERE {a} IS NOT NULL",
			"CREATE TRIGGER {t}_g{n} AFTER INSERT ON {t} BEGIN UPDATE {t} SET {a} = NEW.{a} WHERE {b} = NEW.{b}; END",
			"CREATE VIRTUAL TABLE {t}_s{n} USING fts5(word, note, prefix = '2 3')", "CREATE VIRTUAL TABLE {t}_r{n} USING rtree (id, x0, x1, +{a} TEXT)",
			"CREATE VIRTUAL TABLE {t}_c{n} USING fts5({a}, content={t})",
		},
	},
	"mariadb": {
		quote: "`",
		keys: []string{
			"{c} int(11) NOT NULL AUTO_INCREMENT PRIMARY KEY", "{c} bigint(20) unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY",
			"{c} int(10) unsigned NOT NULL PRIMARY KEY", "{c} varchar(20) NOT NULL PRIMARY KEY", "{c} char(36) NOT NULL PRIMARY KEY",
			"{c} smallint NOT NULL AUTO_INCREMENT PRIMARY KEY", "{c} mediumint(8) unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY",
			"{c} binary(16) NOT NULL PRIMARY KEY", "{c} int NOT NULL AUTO_INCREMENT, KEY k_{n} ({c})", "{c} bigint",
			"{c} varchar(128) NOT NULL, PRIMARY KEY ({c}(20))", "{c} text NOT NULL, PRIMARY KEY ({c}(9))",
		},
		columns: []string{
			"{c} varchar(255) DEFAULT NULL", "{c} varchar(100) NOT NULL DEFAULT ''", "{c} text", "{c} mediumtext NOT NULL", "{c} longtext",
			"{c} tinytext", "{c} int(11) DEFAULT '0'", "{c} int(10) unsigned NOT NULL DEFAULT 0", "{c} tinyint(1) NOT NULL DEFAULT 0",
			"{c} tinyint(4) DEFAULT NULL", "{c} tinyint(3) unsigned", "{c} smallint(5) unsigned DEFAULT 7", "{c} bigint(20)",
			"{c} mediumint", "{c} decimal(10,2) NOT NULL DEFAULT 0.00", "{c} decimal(8,3) unsigned", "{c} float", "{c} double(10,2)",
			"{c} double DEFAULT 1.5", "{c} datetime DEFAULT NULL", "{c} datetime NOT NULL DEFAULT current_timestamp()",
			"{c} datetime(3) DEFAULT current_timestamp(3) ON UPDATE current_timestamp(3)",
			"{c} timestamp NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp()", "{c} timestamp NULL DEFAULT NULL",
			"{c} date DEFAULT '2000-01-31'", "{c} time", "{c} time(3)", "{c} year(4)", "{c} enum('yes','no') NOT NULL DEFAULT 'no'",
			"{c} enum('a','it''s','c d') DEFAULT NULL", "{c} set('x','y')", "{c} blob", "{c} longblob", "{c} varbinary(40)", "{c} json",
			"{c} char(2) CHARACTER SET latin1 COLLATE latin1_swedish_ci DEFAULT NULL", "{c} varchar(40) COLLATE utf8mb4_bin DEFAULT 'x'",
			"{c} varchar(10) COMMENT 'what it''s for'", "{c} int CHECK ({c} > 0)", "{c} bit(1) DEFAULT b'0'", "{c} uuid", "{c} inet6",
			"{c} int INVISIBLE DEFAULT 4", "{c} varchar(30) DEFAULT uuid()", "{c} int(5) unsigned zerofill",
		},
		together: []string{
			"UNIQUE KEY uq_{n} ({a}, {b})", "KEY ix ({b})", "KEY pre_{n} ({a}, {b})", "CONSTRAINT some{n} CHECK ({a} IS NOT NULL OR {b} IS NOT NULL)",
			"UNIQUE KEY {b} ({b})", "KEY ign ({a}) COMMENT 'slow' IGNORED", "KEY back_{n} ({a} DESC)",
		},
		behind: []string{
			"", " ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci", " ENGINE=InnoDB DEFAULT CHARSET=latin1",
			" ENGINE=InnoDB DEFAULT CHARSET=utf8mb3 COLLATE=utf8mb3_unicode_ci COMMENT='old'", " ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 ROW_FORMAT=DYNAMIC",
			" ENGINE=MyISAM DEFAULT CHARSET=utf8mb4", " ENGINE=InnoDB DEFAULT CHARSET=binary",
		},
		objects: []string{
			"CREATE VIEW {t}_v{n} AS SELECT {a}, {b} FROM {t} WHERE {a} IS NOT NULL",
			"CREATE TRIGGER {t}_g{n} BEFORE UPDATE ON {t} FOR EACH ROW SET NEW.{a} = OLD.{a}",
			"CREATE FUNCTION {t}_f{n}(n int) RETURNS int DETERMINISTIC RETURN n + 1",
			"CREATE PROCEDURE {t}_p{n}(n int) again:BEGIN one:LOOP LEAVE again; END LOOP one; END",
		},
	},
	"postgres": {
		quote: `"`,
		keys: []string{
			"{c} serial PRIMARY KEY", "{c} bigserial PRIMARY KEY", "{c} integer PRIMARY KEY", "{c} bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY",
			"{c} bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY", "{c} uuid DEFAULT gen_random_uuid() PRIMARY KEY", "{c} text CONSTRAINT pk_{n} PRIMARY KEY",
			"{c} varchar(20) PRIMARY KEY", "{c} serial", "{c} bigint",
		},
		columns: []string{
			"{c} text", "{c} text NOT NULL DEFAULT ''", "{c} varchar(40)", "{c} varchar", "{c} character(2)", "{c} integer DEFAULT 0",
			"{c} bigint NOT NULL DEFAULT 7", "{c} smallint", "{c} numeric(10,2) DEFAULT 0.00", "{c} numeric", "{c} real", "{c} double precision DEFAULT 1.5",
			"{c} boolean NOT NULL DEFAULT false", "{c} date DEFAULT CURRENT_DATE", "{c} timestamptz DEFAULT now()", "{c} timestamp(3) DEFAULT CURRENT_TIMESTAMP",
			"{c} timestamp", "{c} time", "{c} interval", "{c} json", "{c} jsonb DEFAULT '{}'", "{c} bytea", "{c} uuid", "{c} inet", "{c} text[]",
			"{c} integer[] DEFAULT '{1,2}'", "{c} text COLLATE \"C\"", "{c} integer CHECK ({c} > 0)", "{c} text UNIQUE", "{c} integer CONSTRAINT some_{n} CHECK ({c} < 90) NOT NULL",
			"{c} text CHECK ({c} IN ('a', 'b'))", "{c} varchar(30) DEFAULT 'it''s'", "{c} smallserial", "{c} tsvector", "{c} money", "{c} bit(3)",
			"{c} timestamptz(0)", "{c} name", "{c} integer GENERATED BY DEFAULT AS IDENTITY (START WITH 10)", "{c} \"char\"",
			"{c} varchar(9) CHECK ({c} IN ('a', 'b'))", "{c} varchar CHECK ({c} NOT IN ('x', 'it''s'))", "{c} bigint DEFAULT '0' NOT NULL",
			"{c} numeric(20,0) DEFAULT '-1'", "{c} double precision DEFAULT '99.9'", "{c} varchar DEFAULT 'a'::text",
			"{c} mood NOT NULL DEFAULT 'new'", "{c} mood DEFAULT 'it''s'", "{c} mood[] DEFAULT '{}'", "{c} count DEFAULT 3", "{c} count[]", "{c} word DEFAULT 'a'",
			"{c} pair", "{c} pair[]", "{c} " + testserver.OtherSchema + ".kind DEFAULT 'a'", "{c} " + testserver.OtherSchema + ".kind[] NOT NULL DEFAULT '{b}'",
		},
		together: []string{
			"UNIQUE ({a}, {b})", "CONSTRAINT two_{n} UNIQUE ({b}, {a}) DEFERRABLE INITIALLY DEFERRED", "CHECK ({a} IS NOT NULL OR {b} IS NOT NULL)",
			"CONSTRAINT inner_{n} CHECK (plain_a > 0 AND (plain_b > 'a' AND {a} IS NOT NULL))",
			"CONSTRAINT first_{n} CHECK (plain_a BETWEEN 1 AND 9 AND {a} IS NOT NULL)", "CHECK (plain_a NOT BETWEEN 3 AND 4 OR (plain_b = 'x' OR {b} IS NULL))",
			"CONSTRAINT inc_{n} UNIQUE ({a}) INCLUDE ({b})", "CONSTRAINT noi_{n} CHECK ({a} IS NOT NULL) NO INHERIT",
		},
		behind: []string{"", "", " WITH (fillfactor=70)", " WITH (autovacuum_enabled=false, fillfactor=80)"},
		indexes: []string{
			"CREATE INDEX {t}_i{n} ON {t} ({a})", "CREATE UNIQUE INDEX {t}_i{n} ON {t} ({a}, {b})", "CREATE INDEX {t}_i{n} ON {t} ({a} DESC NULLS LAST, {b}) WHERE {a} IS NOT NULL",
			"CREATE INDEX {t}_i{n} ON {t} ({b}) INCLUDE ({a})", "CREATE UNIQUE INDEX {t}_i{n} ON {t} (lower({a}::text))", "CREATE INDEX {t}_i{n} ON {t} ({a}) WITH (fillfactor=60)",
			"COMMENT ON COLUMN {t}.{a} IS 'what it''s for'", "COMMENT ON TABLE {t} IS E'two\\nlines'", "ALTER TABLE {t} ADD CONSTRAINT nv_{n} CHECK ({a} IS NOT NULL) NOT VALID",
			"CREATE INDEX {t}_i{n} ON {t} USING brin ({b})", "CREATE INDEX {t}_i{n} ON {t} (plain_b text_pattern_ops) WHERE plain_b IN ('a', 'b')",
			"CREATE INDEX {t}_i{n} ON {t} ({b}) WHERE plain_a BETWEEN 1 AND 5 AND {a} IS NOT NULL", "CREATE INDEX {t}_i{n} ON {t} ((plain_a > 1 AND (plain_a < 5 AND plain_b = 'x')))",
			"CREATE INDEX ci_{n} ON {t} ({b}); COMMENT ON INDEX ci_{n} IS 'names no table'",
		},
		objects: []string{
			"CREATE VIEW {t}_v{n} AS SELECT {a}, {b} FROM {t} WHERE {a} IS NOT NULL", "CREATE MATERIALIZED VIEW {t}_m{n} AS SELECT {a} FROM {t}",
			"CREATE FUNCTION {t}_f{n}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN NEW; END $$", "CREATE STATISTICS {t}_s{n} ON {a}, {b} FROM {t}",
			"CREATE RULE {t}_r{n} AS ON DELETE TO {t} DO NOTHING", "CREATE SEQUENCE {t}_q{n} START 5 INCREMENT 2", "CREATE POLICY p{n} ON {t} USING (true)",
			"CREATE VIEW {t}_v{n} AS SELECT {a}, {b} FROM {t} WHERE plain_b NOT IN ('a', 'b') AND plain_b IN ('c', 'd')",
			"CREATE VIEW {t}_v{n} AS SELECT {a}, {b} FROM {t} WHERE plain_a BETWEEN 1 AND 4 AND (plain_b > 'a' AND {a} IS NOT NULL)",
			"CREATE PUBLICATION pub{n} FOR TABLE {t} WITH (publish = 'insert')", "CREATE PUBLICATION pub{n} FOR ALL TABLES WITH (publish = 'insert, update, delete')",
			"CREATE FUNCTION ev{n}() RETURNS event_trigger LANGUAGE plpgsql AS $$ BEGIN END $$; CREATE EVENT TRIGGER et{n} ON ddl_command_start EXECUTE FUNCTION ev{n}()",
			"CREATE MATERIALIZED VIEW {t}_m{n} AS SELECT count(*) FROM {t} GROUP BY {a} HAVING count(*) > 1 OR (count(*) < 0 OR {a} IS NULL)",
			"CREATE TABLE part{n} (k integer NOT NULL, day date NOT NULL DEFAULT CURRENT_DATE, note text, PRIMARY KEY (k, day)) PARTITION BY RANGE (day); CREATE TABLE part{n}_25 PARTITION OF part{n} (CONSTRAINT c{n} CHECK (k > 1)) FOR VALUES FROM (MINVALUE) TO ('2026-01-01'); CREATE INDEX ON part{n}_25 (note)",
			"CREATE TABLE part{n} (k integer, note text DEFAULT 'a') PARTITION BY LIST (k); CREATE TABLE part{n}_1 PARTITION OF part{n} FOR VALUES IN (1, 2) WITH (fillfactor=80); CREATE UNLOGGED TABLE part{n}_rest PARTITION OF part{n} DEFAULT PARTITION BY HASH (k); CREATE TABLE \"Part {n}\" PARTITION OF part{n}_rest FOR VALUES WITH (MODULUS 1, REMAINDER 0); ALTER TABLE part{n}_1 ALTER note SET DEFAULT 'b'",
			"CREATE TABLE heir{n} (extra integer NOT NULL DEFAULT 3 CHECK (extra > 0)) INHERITS ({t}); CREATE INDEX ON heir{n} (extra); COMMENT ON TABLE heir{n} IS 'an heir'",
		},
	},
}

// oddNames are names of tables and columns that other programs give.
var oddNames = []string{"Sheet", "loan_items", "order", "Reading Room", "key", "boxId", "no", "unique", "índice", "CARDS", "on_loan", "user", "x-ray", "T1"}

// ownTypes are types that columns may be of.
var ownTypes = []string{
	"CREATE TYPE mood AS ENUM ('new', 'old', 'it''s')", "CREATE DOMAIN count AS integer NOT NULL CHECK (VALUE > 0)",
	"CREATE DOMAIN word AS varchar(9) DEFAULT 'b' CHECK (VALUE <> '')", "CREATE TYPE pair AS (a integer, \"b c\" text)",
	"CREATE TYPE " + testserver.OtherSchema + ".kind AS ENUM ('a', 'b')",
}

// drawSQL draws statements that create a database; unsaid: with references that no model says.
func drawSQL(t *rapid.T, engineName string, unsaid bool) []string {
	p := adoptParts[engineName]
	q := func(name string) string { return p.quote + name + p.quote }
	var out, objects []string
	n := 0
	put := func(s string, table string, columns []string) string {
		n++
		pick := func() string { return q(rapid.SampledFrom(columns).Draw(t, "column")) }
		a := pick()
		columns = slices.DeleteFunc(slices.Clone(columns), func(c string) bool { return q(c) == a })
		b := pick()
		return strings.NewReplacer("{t}_", "x"+strconv.Itoa(len(table))+"_", "{t}", q(table), "{n}", strconv.Itoa(n), "{a}", a, "{b}", b).Replace(s)
	}
	names := rapid.SliceOfNDistinct(rapid.SampledFrom(oddNames), 1, 3, func(s string) string { return strings.ToLower(s) }).Draw(t, "tables")
	type done struct{ table, key, typ string }
	var before []done
	for i, table := range names {
		path := "" // in which names are looked up
		if engineName == "postgres" {
			path = "public"
			if len(before) > 0 {
				path += ", " + testserver.OtherSchema
			}
			if rapid.IntRange(0, 2).Draw(t, "away") == 0 {
				path = testserver.OtherSchema + ", public"
			}
		}
		within := func(sql string) string {
			if path == "" {
				return sql
			}
			return "SET search_path = " + path + "; " + sql + "; SET search_path = public"
		}
		key := "id"
		def := rapid.SampledFrom(p.keys).Draw(t, "key")
		n++
		items := []string{strings.NewReplacer("{c}", q(key), "{n}", strconv.Itoa(n)).Replace(def)}
		columns := []string{key}
		for j := range rapid.IntRange(2, 7).Draw(t, "columns") {
			n++
			name := fmt.Sprintf("c%d", j)
			if rapid.IntRange(0, 3).Draw(t, "odd") == 0 {
				name = rapid.SampledFrom(oddNames).Draw(t, "name")
			}
			if slices.ContainsFunc(columns, func(s string) bool { return strings.EqualFold(s, name) }) {
				continue
			}
			columns = append(columns, name)
			items = append(items, strings.NewReplacer("{c}", q(name), "{n}", strconv.Itoa(n), "{t}_", fmt.Sprintf("x%d_", i)).
				Replace(rapid.SampledFrom(p.columns).Draw(t, "definition")))
		}
		items = append(items, q("plain_a")+" integer", q("plain_b")+" varchar(20)")
		columns = append(columns, "plain_a", "plain_b")
		plain := columns[1:]
		if engineName != "sqlite" { // not every type can be indexed
			plain = []string{"plain_a", "plain_b"}
		}
		for _, d := range before {
			if rapid.IntRange(0, 1).Draw(t, "refers") == 0 {
				continue
			}
			n++
			name := rapid.SampledFrom([]string{d.table + "_id", "parent" + strconv.Itoa(n), "ref_" + strconv.Itoa(n)}).Draw(t, "reference")
			if slices.ContainsFunc(columns, func(s string) bool { return strings.EqualFold(s, name) }) {
				continue
			}
			columns = append(columns, name)
			items = append(items, q(name)+" "+d.typ)
			actions := []string{"", " ON DELETE CASCADE", " ON DELETE SET NULL ON UPDATE CASCADE"}
			if unsaid { // what no model says
				actions = append(actions, " ON DELETE SET NULL ("+q(name)+")")
			}
			action := rapid.SampledFrom(actions).Draw(t, "action")
			constraint := rapid.SampledFrom([]string{"", "CONSTRAINT " + q(fmt.Sprintf("fk_%d", n)) + " "}).Draw(t, "constraint")
			items = append(items, fmt.Sprintf("%sFOREIGN KEY (%s) REFERENCES %s (%s)%s", constraint, q(name), q(d.table), q(d.key), action))
		}
		// Constraints come behind the columns.
		slices.SortStableFunc(items, func(a, b string) int {
			last := func(s string) int {
				if strings.HasPrefix(s, "FOREIGN") || strings.HasPrefix(s, "CONSTRAINT") {
					return 1
				}
				return 0
			}
			return last(a) - last(b)
		})
		for range rapid.IntRange(0, 2).Draw(t, "constraints") {
			item := put(rapid.SampledFrom(p.together).Draw(t, "together"), table, plain)
			if !slices.Contains(items, item) && !(strings.HasPrefix(item, "KEY ix") && slices.ContainsFunc(items, func(s string) bool { return strings.HasPrefix(s, "KEY ix") })) &&
				!(strings.HasPrefix(item, "KEY ign") && slices.ContainsFunc(items, func(s string) bool { return strings.HasPrefix(s, "KEY ign") })) {
				items = append(items, item)
			}
		}
		behind := rapid.SampledFrom(p.behind).Draw(t, "behind")
		out = append(out, within("CREATE TABLE "+q(table)+" (\n  "+strings.Join(items, ",\n  ")+"\n)"+behind))
		for range rapid.IntRange(0, 2).Draw(t, "indexes") {
			if len(p.indexes) > 0 {
				out = append(out, within(put(rapid.SampledFrom(p.indexes).Draw(t, "index"), table, plain)))
			}
		}
		if rapid.IntRange(0, 2).Draw(t, "object") == 0 {
			objects = append(objects, within(put(rapid.SampledFrom(p.objects).Draw(t, "what"), table, plain)))
		}
		if strings.Contains(def, "PRIMARY KEY") && !strings.Contains(behind, "MyISAM") {
			typ := strings.Fields(strings.TrimPrefix(def, "{c} "))[0]
			if strings.Contains(def, "unsigned") {
				typ += " unsigned"
			}
			typ = map[string]string{"serial": "integer", "bigserial": "bigint"}[typ] + map[bool]string{true: "", false: typ}[typ == "serial" || typ == "bigserial"]
			if typ == "TEXT" || typ == "text" || strings.Contains(typ, "char") && engineName == "mariadb" {
				continue
			}
			before = append(before, done{table, key, typ})
		}
	}
	out = append(out, objects...)
	for _, sql := range ownTypes { // that a column has
		name := strings.Fields(sql)[2]
		if engineName == "postgres" && slices.ContainsFunc(out, func(s string) bool { return strings.Contains(s, " "+name) }) {
			out = slices.Insert(out, 0, sql)
		}
	}
	if all := strings.Join(out, " "); strings.Contains(all, "= "+testserver.OtherSchema) ||
		strings.Contains(all, testserver.OtherSchema+".") {
		out = slices.Insert(out, 0, "CREATE SCHEMA "+testserver.OtherSchema)
	}
	return out
}
