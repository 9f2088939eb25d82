package cli

// The scripts in testdata drive the built program in a temporary folder. Beside
// the usual commands of scripts there are:
//
//	exits CODE PROGRAM ARGS…   the program ends with just this code
//	sql FILE STATEMENT         the statement on an SQLite file, or on the server of a
//	                           URL; its rows go to stdout
//	edit FILE OLD NEW          the first OLD in the file becomes NEW

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/testserver"
)

func TestMain(m *testing.M) {
	if os.Getenv("COLUMNS") == "" { // lines break at the width of a terminal: where a script says which
		os.Setenv("COLUMNS", "2000")
	}
	testscript.Main(tests{m}, map[string]func(){
		"erbario": func() {
			code := Main(engines.All(), os.Args, os.Stdin, os.Stdout, os.Stderr)
			engines.All().Close()
			os.Exit(code)
		},
	})
}

// tests are those of the package, with the servers that they started.
type tests struct{ *testing.M }

func (t tests) Run() int {
	code := t.M.Run()
	engines.All().Close()
	testserver.Stop()
	return code
}

func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{ContinueOnError: os.Getenv("ERBARIO_CONTINUE") != "",
		Dir: "testdata",
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"exits": exits, "sql": runSQL, "edit": edit,
		},
		Setup: func(env *testscript.Env) error {
			env.Setenv("USER", "ada")
			env.Setenv("XDG_CACHE_HOME", filepath.Join(env.WorkDir, ".cache"))
			return nil
		},
		UpdateScripts: os.Getenv("UPDATE_SCRIPTS") != "",
	})
}

// The scripts of testdata/servers have a database of their own, not there yet, in $URL,
// which is also reached through a pooler, by $POOLER, and two more in $OTHER and $THIRD,
// on the server of $SERVER.
func TestServerScripts(t *testing.T) {
	place := testserver.At(t, "postgres")
	testscript.Run(t, testscript.Params{ContinueOnError: os.Getenv("ERBARIO_CONTINUE") != "",
		Dir: "testdata/servers",
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"exits": exits, "sql": runSQL, "edit": edit,
		},
		Setup: func(env *testscript.Env) error {
			env.Setenv("USER", "ada")
			env.Setenv("XDG_CACHE_HOME", filepath.Join(env.WorkDir, ".cache"))
			url := place.URL(t)
			env.Setenv("URL", url)
			env.Setenv("POOLER", testserver.Pooler(t, url))
			env.Setenv("OTHER", place.URL(t))
			env.Setenv("THIRD", place.URL(t))
			env.Setenv("SERVER", testserver.PostgresServer(t))
			env.Setenv("CUT", testserver.Cut(t, url, "INSERT INTO erbario_history", false))
			env.Setenv("HELD", testserver.Held(t, url, "INSERT INTO erbario_history", 3*time.Second))
			env.Setenv("HELD_EVER", testserver.Held(t, url, "INSERT INTO erbario_history", 0))
			env.Setenv("CUT_BEFORE", testserver.Cut(t, url, "INSERT INTO erbario_history", true))
			return nil
		},
		UpdateScripts: os.Getenv("UPDATE_SCRIPTS") != "",
	})
}

// The scripts of testdata/mariadb have a database of their own, not there yet, in $URL,
// two more in $OTHER and $THIRD, and the server's in $SERVER.
func TestMariaDBScripts(t *testing.T) {
	place := testserver.At(t, "mariadb")
	testscript.Run(t, testscript.Params{ContinueOnError: os.Getenv("ERBARIO_CONTINUE") != "",
		Dir: "testdata/mariadb",
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"exits": exits, "sql": runSQL, "edit": edit,
		},
		Setup: func(env *testscript.Env) error {
			env.Setenv("USER", "ada")
			env.Setenv("XDG_CACHE_HOME", filepath.Join(env.WorkDir, ".cache"))
			env.Setenv("URL", place.URL(t))
			env.Setenv("OTHER", place.URL(t))
			env.Setenv("THIRD", place.URL(t))
			env.Setenv("SERVER", testserver.MariaDBServer(t))
			return nil
		},
		UpdateScripts: os.Getenv("UPDATE_SCRIPTS") != "",
	})
}

// The scripts of testdata/every run on each engine: they have a database of their own,
// not there yet, in $URL, and two more in $OTHER and $THIRD. A line can be for one engine alone by
// [sqlite], [postgres] or [mariadb].
func TestEveryEngineScripts(t *testing.T) {
	testserver.Each(t, func(t *testing.T, place testserver.Place) {
		testscript.Run(t, testscript.Params{ContinueOnError: os.Getenv("ERBARIO_CONTINUE") != "",
			Dir: "testdata/every",
			Cmds: map[string]func(*testscript.TestScript, bool, []string){
				"exits": exits, "sql": runSQL, "edit": edit,
			},
			Condition: func(cond string) (bool, error) { return cond == place.Name, nil },
			Setup: func(env *testscript.Env) error {
				env.Setenv("USER", "ada")
				env.Setenv("XDG_CACHE_HOME", filepath.Join(env.WorkDir, ".cache"))
				env.Setenv("URL", place.URL(t))
				env.Setenv("OTHER", place.URL(t))
				env.Setenv("THIRD", place.URL(t))
				env.Setenv("ENGINE", place.Name)
				return nil
			},
			UpdateScripts: os.Getenv("UPDATE_SCRIPTS") != "",
		})
	})
}

func exits(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: exits CODE PROGRAM ARGS…")
	}
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	got := 0
	var e *exec.ExitError
	if err := ts.Exec(args[1], args[2:]...); errors.As(err, &e) {
		got = e.ExitCode()
	} else {
		ts.Check(err)
	}
	if got != want {
		ts.Fatalf("it ended with %d, not %d", got, want)
	}
}

func runSQL(ts *testscript.TestScript, neg bool, args []string) {
	if len(args) != 2 {
		ts.Fatalf("usage: sql FILE STATEMENT")
	}
	url := args[0]
	if !strings.Contains(url, "://") && !strings.HasPrefix(url, "sqlite:") {
		url = "sqlite:" + ts.MkAbs(url)
	}
	e, err := engines.All().ForURL(url)
	ts.Check(err)
	ctx := context.Background()
	db, err := e.Open(ctx, url, engine.Make)
	ts.Check(err)
	defer db.Close()
	ts.Check(db.EnforceReferences(ctx, true))
	for _, p := range e.SQL().Split(args[1] + ";") {
		rows, err := db.Select(ctx, p.Text)
		if neg {
			if err == nil {
				ts.Fatalf("the statement went through")
			}
			fmt.Fprintln(ts.Stderr(), err)
			return
		}
		ts.Check(err)
		for _, r := range rows {
			fmt.Fprintln(ts.Stdout(), strings.Join(r, "|"))
		}
	}
}

func edit(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 3 {
		ts.Fatalf("usage: edit FILE OLD NEW")
	}
	text := ts.ReadFile(args[0])
	if !strings.Contains(text, args[1]) {
		ts.Fatalf("%s does not hold %q", args[0], args[1])
	}
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(strings.Replace(text, args[1], args[2], 1)), 0o644))
}
