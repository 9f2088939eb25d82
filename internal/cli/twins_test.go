package cli

// This file puts twins of all that Erbario names into the schema of the models, as anybody
// could who may create functions there, and looks whether one of them is ever run.

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	"erbario/internal/testserver"
)

// calledNames are the words before a bracket in the sources of the program: functions of
// SQL are among them.
func calledNames(t *testing.T) []string {
	call := regexp.MustCompile(`([a-z_0-9]+)\(`)
	found := map[string]bool{}
	err := filepath.WalkDir("../engine/postgres", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range call.FindAllStringSubmatch(string(text), -1) {
			found[m[1]] = true
		}
		return err
	})
	require.NoError(t, err)
	var out []string
	for name := range found {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// twins creates, for each function and operator of the server that is named, those of the
// same name that would be taken before it: for types that the server's own take only by a
// conversion. Each fails when it is run, and says so in the server's log.
const twins = `SET search_path = pg_catalog;
DO $twins$
DECLARE f record; o record; a text; b text; kinds text[]; args text[]; made integer := 0;
BEGIN
	FOR f IN SELECT DISTINCT p.proname, (SELECT array_agg(t.typname ORDER BY n) FROM unnest(p.proargtypes) WITH ORDINALITY x (oid, n) JOIN pg_catalog.pg_type t ON t.oid = x.oid) AS types
		FROM pg_catalog.pg_proc p WHERE p.pronamespace = 'pg_catalog'::regnamespace AND p.proname = ANY (string_to_array(NAMES, ',')) AND p.pronargs BETWEEN 1 AND 3 LOOP
		kinds := ARRAY['varchar', 'name', 'text', 'oid', 'text[]'];
		FOREACH a IN ARRAY kinds LOOP
			args := ARRAY(SELECT CASE WHEN t IN ('any', 'anyelement', 'anyarray', 'anynonarray', 'anycompatible', 'text', 'oid', 'name', 'bpchar', 'regclass', 'int4', 'int8', 'numeric', 'float8') THEN a ELSE quote_ident(t) END FROM unnest(f.types) t);
			BEGIN
				EXECUTE format('CREATE FUNCTION public.%I(%s) RETURNS text LANGUAGE plpgsql AS $f$ BEGIN RAISE EXCEPTION ''a twin was run: %s(%s)''; END $f$', f.proname, array_to_string(args, ', '), f.proname, array_to_string(args, ', '));
				made := made + 1;
			EXCEPTION WHEN OTHERS THEN NULL;
			END;
		END LOOP;
	END LOOP;
	kinds := ARRAY['varchar', 'name', 'text', 'regclass', 'oid', 'int4', '"char"', 'text[]', 'numeric'];
	FOREACH a IN ARRAY kinds LOOP
		FOREACH b IN ARRAY kinds LOOP
			FOR o IN SELECT name, 'twin_' || n AS f, CASE name WHEN '||' THEN 'text' ELSE 'boolean' END AS result FROM unnest(ARRAY['=', '<>', '<', '>=', '<=', '||', '~', '~~', '!~~']) WITH ORDINALITY x (name, n) LOOP
				IF to_regoperator(format('pg_catalog.%s(%s,%s)', o.name, a, b)) IS NULL THEN
					EXECUTE format('CREATE FUNCTION public.%s(%s, %s) RETURNS %s LANGUAGE plpgsql AS $f$ BEGIN RAISE EXCEPTION ''a twin of an operator was run: %s %s %s''; END $f$', o.f, a, b, o.result, a, o.name, b);
					EXECUTE format('CREATE OPERATOR public.%s (LEFTARG = %s, RIGHTARG = %s, FUNCTION = public.%s)', o.name, a, b, o.f);
					made := made + 1;
				END IF;
			END LOOP;
		END LOOP;
	END LOOP;
	FOR f IN SELECT relname FROM pg_catalog.pg_class WHERE relnamespace = 'pg_catalog'::regnamespace AND relkind IN ('r', 'v') LOOP
		EXECUTE format('CREATE VIEW public.%I AS SELECT 1 / (random() - random() - 2)::integer / 0 AS twin', f.relname);
		made := made + 1;
	END LOOP;
	IF made < 700 THEN
		RAISE EXCEPTION 'only % twins', made;
	END IF;
END $twins$`

// TestTwins runs the script of testdata/twins in a database that is full of twins.
func TestTwins(t *testing.T) {
	place := testserver.At(t, "postgres")
	names := strings.Join(calledNames(t), ",")
	testscript.Run(t, testscript.Params{ContinueOnError: os.Getenv("ERBARIO_CONTINUE") != "",
		Dir: "testdata/twins",
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"exits": exits, "sql": runSQL, "edit": edit,
			"twins": func(ts *testscript.TestScript, _ bool, args []string) {
				db, err := place.Engine.Open(context.Background(), args[0], engine.Make)
				ts.Check(err)
				defer db.Close()
				ts.Check(db.Exec(context.Background(), strings.Replace(twins, "NAMES", "'"+names+"'", 1)))
			},
		},
		Setup: func(env *testscript.Env) error {
			env.Setenv("USER", "ada")
			env.Setenv("URL", place.URL(t))
			return nil
		},
	})
}
