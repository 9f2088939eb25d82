package testserver

// This file names the engines on which a test runs, so that one test is written once
// for all of them.

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	"erbario/internal/engines"
)

// EnginesVariable names the engines to test, where it is not all of them.
const EnginesVariable = "ERBARIO_TEST_ENGINES"

// Place is one engine with a way to get empty databases.
type Place struct {
	Name   string
	Engine engine.Engine
	// URL is that of a database that does not exist yet, and may be made.
	URL func(t testing.TB) string
	// Open gives an empty database that is gone when it is closed, or when the test
	// is over.
	Open func(t require.TestingT) engine.Database
}

// Each runs a test on every engine.
func Each(t *testing.T, f func(t *testing.T, p Place)) {
	for _, name := range engines.All().Names() {
		if only := os.Getenv(EnginesVariable); only != "" && !strings.Contains(only, name) {
			continue
		}
		t.Run(name, func(t *testing.T) { f(t, At(t, name)) })
	}
}

// WholeVariable, where it is set, has every case run on every engine.
const WholeVariable = "ERBARIO_WHOLE"

// Turn tells whether a case, by its number, is run at a place: all are on SQLite, and each
// on one of the servers, unless all are asked for.
func (p Place) Turn(n int) bool {
	switch {
	case os.Getenv(WholeVariable) != "":
		return true
	case p.Name == "postgres":
		return n%2 == 0
	case p.Name == "mariadb":
		return n%2 == 1
	}
	return true
}

// OtherSchema is a schema that tests use next to the one of a database.
const OtherSchema = "stock"

// At is the place of one engine.
func At(t testing.TB, name string) Place {
	e, err := engines.All().ByName(name)
	require.NoError(t, err)
	p := Place{Name: name, Engine: e}
	if name == "postgres" {
		server := PostgresServer(t)
		p.Engine = engine.WithSchemas(engine.At(e, server), []string{OtherSchema})
		p.URL = func(t testing.TB) string {
			name := fmt.Sprintf("erbario_test_%d_%d", os.Getpid(), databases.Add(1))
			t.Cleanup(func() { admin(t, server, "DROP DATABASE IF EXISTS "+name+" WITH (FORCE)") })
			return In(server, name)
		}
		p.Open = func(t require.TestingT) engine.Database {
			db, err := p.Engine.Scratch(context.Background())
			require.NoError(t, err)
			return db
		}
		return p
	}
	if name == "mariadb" {
		server := MariaDBServer(t)
		p.Engine = engine.At(e, server)
		p.URL = func(t testing.TB) string {
			name := fmt.Sprintf("erbario_test_%d_%d", os.Getpid(), databases.Add(1))
			t.Cleanup(func() { mariadbAdmin(t, server, "DROP DATABASE IF EXISTS "+name) })
			return In(server, name)
		}
		p.Open = func(t require.TestingT) engine.Database {
			db, err := p.Engine.Scratch(context.Background())
			require.NoError(t, err)
			return db
		}
		return p
	}
	dir := t.TempDir()
	p.URL = func(testing.TB) string { return fmt.Sprintf("sqlite:%s/herbarium-%d.db", dir, rand.Uint64()) }
	p.Open = func(t require.TestingT) engine.Database {
		db, err := e.Open(context.Background(), fmt.Sprintf("sqlite:%s/herbarium-%d.db", dir, rand.Uint64()),
			engine.Make)
		require.NoError(t, err)
		return db
	}
	return p
}

// Main runs the tests of a package, and stops what was started for them.
func Main(m *testing.M) {
	code := m.Run()
	engines.All().Close()
	Stop()
	os.Exit(code)
}
