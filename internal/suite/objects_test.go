package suite

// This file declares views, functions, triggers and the like in SQL, changes them and the tables
// below them at random, and takes each change there, back and there again.

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/declare"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// declaredThing is something declared in SQL, in forms of which a state has one. {note} is a column
// that comes, goes and changes its name.
type declaredThing struct {
	name  string
	needs []string // the names of others
	note  bool     // it names the column note
	forms []string
}

// things are, by engine, what random states are made of.
var things = map[string][]declaredThing{
	"": {
		{name: "plain", forms: []string{"CREATE VIEW plain AS SELECT id, sheet FROM loans", "CREATE VIEW plain AS SELECT id, sheet, due FROM loans", "CREATE VIEW plain AS SELECT due FROM loans WHERE sheet <> 'x'"}},
		{name: "over", needs: []string{"plain"}, forms: []string{"CREATE VIEW over_it AS SELECT count(*) AS n FROM plain", "CREATE VIEW over_it AS SELECT count(*) AS n, 1 AS one FROM plain"}},
		{name: "noted", note: true, forms: []string{"CREATE VIEW noted AS SELECT id, {note} AS what FROM loans", "CREATE VIEW noted AS SELECT {note} AS what, id FROM loans WHERE {note} IS NOT NULL"}},
		{name: "shown", note: true, forms: []string{"CREATE VIEW shown AS SELECT id, {note} FROM loans", "CREATE VIEW shown AS SELECT {note}, id FROM loans"}},
		{name: "reads", needs: []string{"shown"}, note: true, forms: []string{"CREATE VIEW reads_it AS SELECT {note} FROM shown"}},
		{name: "joined", forms: []string{"CREATE VIEW joined AS SELECT l.id, b.name FROM loans l JOIN boxes b ON b.id = l.box_id"}},
	},
	"sqlite": {
		{name: "trays", forms: []string{
			"CREATE TABLE trays (id INTEGER PRIMARY KEY, a TEXT NOT NULL ON CONFLICT IGNORE DEFAULT 'x')",
			"CREATE TABLE trays (id INTEGER PRIMARY KEY, a TEXT DEFAULT 'y', b INT REFERENCES boxes (id)); CREATE INDEX trays_a ON trays (a)",
			"CREATE TABLE trays (id INTEGER PRIMARY KEY, a TEXT DEFAULT 'y', b INT REFERENCES gone (id) CHECK (b > 0))",
		}},
		{name: "tray view", needs: []string{"trays"}, forms: []string{"CREATE VIEW full_trays AS SELECT t.id, l.sheet FROM trays t JOIN loans l ON l.id = t.id"}},
		{name: "search", note: true, forms: []string{
			"CREATE VIRTUAL TABLE search USING fts5(sheet, content='loans')", "CREATE VIRTUAL TABLE search USING fts5(sheet, {note}, content='loans', content_rowid='id')",
		}},
		{name: "spots", forms: []string{"CREATE VIRTUAL TABLE spots USING fts5(what)", "CREATE VIRTUAL TABLE spots USING fts5(what, prefix='2')"}},
		{name: "log", forms: []string{
			"CREATE TRIGGER loans_log AFTER INSERT ON loans BEGIN UPDATE boxes SET name = 'new' WHERE id = NEW.box_id; END",
			"CREATE TRIGGER loans_log AFTER UPDATE OF sheet ON loans BEGIN UPDATE boxes SET name = 'more' WHERE id = NEW.box_id; END",
		}},
		{name: "noting", note: true, forms: []string{"CREATE TRIGGER noting AFTER INSERT ON loans WHEN NEW.{note} IS NULL BEGIN UPDATE loans SET {note} = 'new' WHERE id = NEW.id; END"}},
		{name: "instead", needs: []string{"plain"}, forms: []string{
			"CREATE TRIGGER instead INSTEAD OF DELETE ON plain BEGIN DELETE FROM boxes WHERE false; END",
			"CREATE TRIGGER instead INSTEAD OF DELETE ON plain BEGIN SELECT 1; END",
		}},
	},
	"mariadb": {
		{name: "log", forms: []string{
			"CREATE TRIGGER loans_log BEFORE INSERT ON loans FOR EACH ROW BEGIN IF NEW.sheet = 'x' THEN SET NEW.sheet = 'y'; END IF; END",
			"CREATE TRIGGER loans_log BEFORE INSERT ON loans FOR EACH ROW SET NEW.sheet = upper(NEW.sheet)",
		}},
		{name: "trays", forms: []string{
			"CREATE TABLE trays (id INTEGER PRIMARY KEY, a INTEGER DEFAULT 3)",
			"CREATE TABLE trays (id INTEGER PRIMARY KEY, a INTEGER NOT NULL, b BIGINT REFERENCES boxes (id)); CREATE INDEX trays_a ON trays (a)",
			"CREATE TABLE trays (id INTEGER PRIMARY KEY, a INTEGER); ALTER TABLE trays ADD CONSTRAINT sound CHECK (a > 0)",
		}},
		{name: "tray view", needs: []string{"trays"}, forms: []string{"CREATE VIEW full_trays AS SELECT t.id, l.sheet FROM trays t JOIN loans l ON l.id = t.id"}},
		{name: "second", forms: []string{
			"CREATE TRIGGER second BEFORE INSERT ON loans FOR EACH ROW SET NEW.due = '2026-01-02'",
			"CREATE TRIGGER second BEFORE INSERT ON loans FOR EACH ROW SET NEW.due = '2026-01-03'",
		}},
		{name: "noting", note: true, forms: []string{"CREATE TRIGGER noting BEFORE UPDATE ON loans FOR EACH ROW SET NEW.{note} = 'n'"}},
		{name: "f", forms: []string{
			"CREATE FUNCTION f(n int) RETURNS int DETERMINISTIC RETURN n + 1",
			"CREATE FUNCTION f(n int) RETURNS int DETERMINISTIC BEGIN DECLARE m int DEFAULT 2; RETURN n + m; END",
			"SET STATEMENT sql_mode = 'PIPES_AS_CONCAT,STRICT_ALL_TABLES' FOR CREATE FUNCTION f(n int) RETURNS int DETERMINISTIC RETURN n || 2",
		}},
		{name: "called", needs: []string{"f"}, forms: []string{"CREATE SQL SECURITY INVOKER VIEW called AS SELECT f(id) AS n FROM loans"}},
		{name: "noted p", note: true, forms: []string{
			"CREATE PROCEDURE noted_p() UPDATE loans SET {note} = 'n'", "CREATE PROCEDURE noted_p() SELECT {note} FROM loans",
		}},
		{name: "tidy", forms: []string{
			"CREATE EVENT tidy ON SCHEDULE EVERY 1 HOUR DO DELETE FROM loans WHERE sheet = 'x'",
			"CREATE EVENT tidy ON SCHEDULE EVERY 1 HOUR STARTS '2031-01-01 00:00:00' ON COMPLETION PRESERVE DISABLE COMMENT 'do it' DO DELETE FROM loans",
			"CREATE EVENT tidy ON SCHEDULE AT '2032-01-01 10:00:00' DO BEGIN DELETE FROM loans; DELETE FROM boxes; END",
		}},
		{name: "noted event", note: true, forms: []string{
			"CREATE EVENT noting_it ON SCHEDULE EVERY 2 HOUR ENABLE DO UPDATE loans SET {note} = NULL",
		}},
		{name: "p", forms: []string{
			"CREATE PROCEDURE p(IN n int) BEGIN UPDATE boxes SET name = 'p;' WHERE id = n; END",
			"CREATE PROCEDURE p(IN n int, OUT m int) SET m = n",
		}},
	},
	"postgres": {
		{name: "f", forms: []string{
			"CREATE FUNCTION f(n bigint) RETURNS bigint LANGUAGE sql IMMUTABLE AS $$ SELECT n + 1 $$",
			"CREATE FUNCTION f(n bigint) RETURNS bigint LANGUAGE sql IMMUTABLE AS $$ SELECT n + 2 $$",
			"CREATE FUNCTION f(n bigint) RETURNS text LANGUAGE sql IMMUTABLE AS $$ SELECT 'a' $$",
		}},
		{name: "called", needs: []string{"f"}, forms: []string{
			"CREATE VIEW called AS SELECT f(id) AS n FROM loans", "CREATE VIEW called AS SELECT id FROM loans WHERE f(id) IS NOT NULL",
		}},
		{name: "p", forms: []string{"CREATE PROCEDURE p() LANGUAGE sql AS $$ DELETE FROM boxes WHERE false $$", "CREATE PROCEDURE p(n integer) LANGUAGE plpgsql AS $$ BEGIN NULL; END $$"}},
		{name: "noted f", note: true, forms: []string{
			"CREATE FUNCTION noted_f() RETURNS void LANGUAGE plpgsql AS $$ BEGIN UPDATE loans SET {note} = 'n'; END $$",
		}},
		{name: "fun", forms: []string{
			"CREATE FUNCTION fun() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.sheet := upper(NEW.sheet); RETURN NEW; END $$",
			"CREATE FUNCTION fun() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN NEW; END $$",
		}},
		{name: "trigger", needs: []string{"fun"}, forms: []string{
			"CREATE TRIGGER loans_log BEFORE INSERT ON loans FOR EACH ROW EXECUTE FUNCTION fun()",
			"CREATE TRIGGER loans_log BEFORE INSERT OR UPDATE OF sheet ON loans FOR EACH ROW EXECUTE FUNCTION fun()",
		}},
		{name: "off", needs: []string{"trigger"}, forms: []string{"ALTER TABLE loans DISABLE TRIGGER loans_log"}},
		{name: "trigger said", needs: []string{"trigger"}, forms: []string{"COMMENT ON TRIGGER loans_log ON loans IS 'why'", "COMMENT ON TRIGGER loans_log ON loans IS 'else'"}},
		{name: "noting", needs: []string{"fun"}, note: true, forms: []string{
			"CREATE TRIGGER noting BEFORE UPDATE OF {note} ON loans FOR EACH ROW EXECUTE FUNCTION fun()",
		}},
		{name: "trays", forms: []string{
			"CREATE TABLE trays (id INTEGER PRIMARY KEY, a INTEGER DEFAULT 3)",
			"CREATE TABLE trays (id INTEGER PRIMARY KEY, a INTEGER NOT NULL, b BIGINT REFERENCES boxes (id)); CREATE INDEX trays_a ON trays (a)",
			"CREATE TABLE trays (id INTEGER PRIMARY KEY, a INTEGER); ALTER TABLE trays ADD CONSTRAINT sound CHECK (a > 0)",
		}},
		{name: "tray view", needs: []string{"trays"}, forms: []string{"CREATE VIEW full_trays AS SELECT t.id, l.sheet FROM trays t JOIN loans l ON l.id = t.id"}},
		{name: "kept", forms: []string{
			"CREATE MATERIALIZED VIEW kept AS SELECT sheet, count(*) AS n FROM loans GROUP BY sheet",
			"CREATE MATERIALIZED VIEW kept AS SELECT sheet FROM loans",
		}},
		{name: "by_sheet", needs: []string{"kept"}, forms: []string{"CREATE INDEX by_sheet ON kept (sheet)"}},
		{name: "secured", forms: []string{"ALTER TABLE loans ENABLE ROW LEVEL SECURITY"}},
		{name: "mine", forms: []string{"CREATE POLICY mine ON loans USING (sheet <> 'x')", "CREATE POLICY mine ON loans FOR SELECT USING (true)"}},
		{name: "said", needs: []string{"plain"}, forms: []string{"COMMENT ON VIEW plain IS 'what it''s for'", "COMMENT ON VIEW plain IS 'else'"}},
		{name: "given", needs: []string{"plain"}, forms: []string{"GRANT SELECT ON plain TO PUBLIC", "GRANT SELECT, UPDATE ON plain TO pg_monitor WITH GRANT OPTION", "GRANT SELECT (sheet) ON loans TO PUBLIC"}},
		{name: "called by", needs: []string{"f"}, forms: []string{"REVOKE ALL ON FUNCTION f(bigint) FROM PUBLIC"}},
		{name: "words", forms: []string{"CREATE TYPE words AS (a integer, b text)", "CREATE TYPE words AS (a integer)"}},
		{name: "shelf", forms: []string{
			"CREATE DOMAIN shelf AS text CHECK (value <> '')", "CREATE DOMAIN shelf AS text", "CREATE DOMAIN shelf AS varchar(30)",
			"CREATE DOMAIN shelf AS integer CHECK (value > 0)",
		}},
		{name: "shelved", needs: []string{"shelf", "words"}, forms: []string{
			"CREATE TABLE shelved (id bigint PRIMARY KEY, place shelf, parts words)",
			"CREATE TABLE shelved (id bigint PRIMARY KEY, place shelf NOT NULL, parts words, more shelf[]); CREATE INDEX shelved_at ON shelved (place)",
		}},
		{name: "shelved view", needs: []string{"shelved"}, forms: []string{"CREATE VIEW shelved_view AS SELECT place, (parts).a FROM shelved"}},
		{name: "published", note: true, forms: []string{
			"CREATE PUBLICATION published FOR TABLE loans", "CREATE PUBLICATION published FOR TABLE loans (id, {note}), boxes WITH (publish = 'insert')",
			"CREATE PUBLICATION published FOR ALL TABLES", "CREATE PUBLICATION published FOR TABLE boxes WHERE (id > 1 AND id BETWEEN 2 AND 9)",
		}},
		{name: "sees", forms: []string{
			"CREATE FUNCTION sees() RETURNS event_trigger LANGUAGE plpgsql AS $$ BEGIN END $$", "CREATE FUNCTION sees() RETURNS event_trigger LANGUAGE plpgsql AS $$ BEGIN NULL; END $$",
		}},
		{name: "watch", needs: []string{"sees"}, forms: []string{
			"CREATE EVENT TRIGGER watch ON ddl_command_end EXECUTE FUNCTION sees()", "CREATE EVENT TRIGGER watch ON sql_drop WHEN TAG IN ('DROP TABLE') EXECUTE FUNCTION sees()",
		}},
		{name: "watch off", needs: []string{"watch"}, forms: []string{"ALTER EVENT TRIGGER watch DISABLE"}},
		{name: "apart", forms: []string{
			"ALTER TABLE boxes ADD CONSTRAINT apart EXCLUDE USING btree (id WITH =)", "ALTER TABLE boxes ADD CONSTRAINT apart EXCLUDE USING hash (id WITH =) WHERE (id > 3)",
		}},
		{name: "odd", forms: []string{
			"CREATE FUNCTION odd(n integer) RETURNS boolean LANGUAGE sql AS $$ SELECT n <> 0 AND even(n - 1) $$; CREATE FUNCTION even(n integer) RETURNS boolean LANGUAGE sql AS $$ SELECT n = 0 OR odd(n - 1) $$",
		}},
		{name: "deep", forms: []string{"CREATE STATISTICS deep ON sheet, due FROM loans", "CREATE STATISTICS deep (ndistinct) ON sheet, due FROM loans"}},
		{name: "quiet", forms: []string{"CREATE RULE quiet AS ON DELETE TO loans DO INSTEAD NOTHING", "CREATE RULE quiet AS ON DELETE TO loans DO ALSO NOTIFY gone"}},
		{name: "sum_of", forms: []string{"CREATE AGGREGATE sum_of(integer) (SFUNC = int4pl, STYPE = integer)", "CREATE AGGREGATE sum_of(integer) (SFUNC = int4mul, STYPE = integer)"}},
		{name: "near", forms: []string{"CREATE FUNCTION near(a integer, b integer) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$ SELECT abs(a - b) < 2 $$"}},
		{name: "~~~", needs: []string{"near"}, forms: []string{"CREATE OPERATOR ~~~ (LEFTARG = integer, RIGHTARG = integer, FUNCTION = near)"}},
		{name: "plants", forms: []string{"CREATE TEXT SEARCH CONFIGURATION plants (COPY = simple)"}},
		{name: "by default", forms: []string{"ALTER DEFAULT PRIVILEGES IN SCHEMA public GRANT SELECT ON SEQUENCES TO pg_monitor"}},
		{name: "visits", forms: []string{
			"CREATE TABLE visits (id bigint, day date NOT NULL, note text) PARTITION BY RANGE (day)",
			"CREATE TABLE visits (id bigint, day date NOT NULL, note text, box bigint REFERENCES boxes (id)) PARTITION BY RANGE (day)",
		}},
		{name: "visits 26", needs: []string{"visits"}, forms: []string{
			"CREATE TABLE visits_26 PARTITION OF visits FOR VALUES FROM ('2026-01-01') TO ('2027-01-01')",
			"CREATE TABLE visits_26 PARTITION OF visits (CONSTRAINT late CHECK (id > 1)) FOR VALUES FROM ('2026-01-01') TO ('2026-07-01')",
		}},
		{name: "visits rest", needs: []string{"visits"}, forms: []string{"CREATE TABLE visits_rest PARTITION OF visits DEFAULT PARTITION BY LIST (id)"}},
		{name: "visits rest 1", needs: []string{"visits rest"}, forms: []string{
			"CREATE TABLE visits_rest_1 PARTITION OF visits_rest FOR VALUES IN (1)", "CREATE TABLE visits_rest_1 PARTITION OF visits_rest FOR VALUES IN (1, 2)",
		}},
		{name: "by id", needs: []string{"visits 26"}, forms: []string{"CREATE INDEX by_id ON visits_26 (id)", "CREATE UNIQUE INDEX by_id ON visits_26 (note)"}},
		{name: "26 said", needs: []string{"visits 26"}, forms: []string{"COMMENT ON TABLE visits_26 IS 'this year'"}},
		{name: "heir", forms: []string{"CREATE TABLE heirs (extra integer) INHERITS (boxes)"}},
		{name: "options", forms: []string{"CREATE VIEW bare WITH (security_barrier) AS SELECT id FROM boxes", "CREATE VIEW bare AS SELECT id FROM boxes"}},
	},
}

// objectState is one state of a project: its models, its files of SQL and the answers on the way there.
type objectState struct {
	models, sql string
	answers     plan.Answers
}

// objectWalk takes a database from state to state, back, there again, and from nothing.
func objectWalk(t require.TestingT, p testserver.Place, states []objectState) {
	ctx, e := context.Background(), p.Engine
	db := p.Open(t)
	defer db.Close()
	rules := declare.Rules{PerTable: map[string]bool{e.Name(): e.Caps().IndexesPerTable}}
	var files []*migration.Migration
	look := func(st objectState) *draft.State {
		f, diags := lang.Parse("models/loan.erbario", st.models)
		require.Empty(t, diags)
		d, diags := declare.Resolve([]*lang.File{f}, rules, e.Name())
		require.False(t, lang.Errors(diags), "%v", diags)
		wanted, _ := e.DDL().Lower(d.Schema)
		list, diags := objects.Parse(e.SQL(), "models/loan.sql", st.sql, d.Schema)
		require.Empty(t, append(diags, objects.Twice(list)...), st.sql)
		wanted.Objects = list
		s, err := draft.Look(ctx, e, db, func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted, files, nil })
		require.NoError(t, err)
		return s
	}
	forms := [][]string{allObjects(t, ctx, e, db)}
	for i, st := range states {
		d, err := look(st).Make(ctx, draft.Request{Title: fmt.Sprintf("change %d", i), Now: time.Now(), Answers: st.answers})
		require.NoError(t, err, "%s", st.sql)
		require.Empty(t, d.Plan.Questions)
		require.Empty(t, d.InTheWay, st.sql)
		if d.Migration == nil {
			continue
		}
		require.True(t, d.Outcome.Proved(), "%v %v %s\n%s", d.Outcome.Differ, d.Outcome.Without, d.Outcome.Unsure, d.Migration.Text)
		files = append(files, d.Migration)
		_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Minute})
		require.NoError(t, err, d.Migration.Text)
		left, err := look(st).Changes(ctx)
		require.NoError(t, err)
		require.Empty(t, left.Changes, "%s\n%s", d.Migration.Text, st.sql)
		forms = append(forms, allObjects(t, ctx, e, db))
	}
	for i := len(files) - 1; i >= 0; i-- {
		_, err := runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Minute})
		require.NoError(t, err, files[i].Text)
		require.Equal(t, forms[i], allObjects(t, ctx, e, db), "the undo of\n%s", files[i].Text)
	}
	_, err := runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err)
	last := forms[len(forms)-1]
	require.Equal(t, last, allObjects(t, ctx, e, db), "applied again")
	fresh := p.Open(t)
	defer fresh.Close()
	_, err = runner.Apply(ctx, fresh, e, files, runner.Options{Wait: time.Minute})
	require.NoError(t, err)
	require.Equal(t, last, allObjects(t, ctx, e, fresh), "from nothing")
}

// allObjects are the statements of all that a database holds beside its tables, triggers that run
// at one moment in their order.
func allObjects(t require.TestingT, ctx context.Context, e engine.Engine, db engine.Database) []string {
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	list, err := objects.Read(ctx, db, s)
	require.NoError(t, err)
	var out []string
	for _, o := range list {
		for _, c := range o.Make {
			out = append(out, strings.Join([]string{c.Kind, cmp.Or(c.Form, c.SQL), c.Behind, c.Ahead}, "\t"))
		}
	}
	slices.Sort(out)
	return out
}

// drawObjects draws states that follow each other.
func drawObjects(t *rapid.T, engineName string) []objectState {
	pool := append(slices.Clone(things[""]), things[engineName]...)
	var out []objectState
	had := ""
	for range rapid.IntRange(2, 4).Draw(t, "states") {
		note := rapid.SampledFrom([]string{"note", "note", "remark", ""}).Draw(t, "note")
		st := objectState{answers: plan.Answers{Drop: map[string]bool{}}}
		st.models = "model Box\n    name text(20)\nmodel Loan\n    sheet text(20)\n    due date\n    box references Box\n"
		if note != "" {
			st.models += "    " + note + " text(40) optional\n"
		}
		switch {
		case had == note || had == "":
		case note == "":
			st.answers.Drop["loans."+had] = true
		default:
			st.answers.Rename = []plan.Rename{{Table: "loans", Column: had, To: note}}
		}
		had = note
		in := map[string]bool{}
		var lines []string
		for _, x := range pool {
			if x.note && note == "" || slices.ContainsFunc(x.needs, func(n string) bool { return !in[n] }) ||
				rapid.IntRange(0, 2).Draw(t, x.name) == 0 {
				continue
			}
			in[x.name] = true
			form := rapid.SampledFrom(x.forms).Draw(t, "form")
			lines = append(lines, strings.ReplaceAll(form, "{note}", note)+";\n")
		}
		if rapid.Bool().Draw(t, "turned") { // the order of the statements means nothing
			slices.Reverse(lines)
		}
		st.sql = strings.Join(lines, "")
		out = append(out, st)
	}
	return out
}

// What is declared in SQL is changed together with the tables below it.
func TestObjects(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		n := map[string]int{"sqlite": 40, "mariadb": 10, "postgres": 6}[p.Name]
		if s := os.Getenv("ERBARIO_OBJECTS"); s != "" {
			var err error
			n, err = strconv.Atoi(s)
			require.NoError(t, err)
		}
		require.NoError(t, flagSet("rapid.checks", strconv.Itoa(n)))
		rapid.Check(t, func(rt *rapid.T) { objectWalk(rt, p, drawObjects(rt, p.Name)) })
	})
}
