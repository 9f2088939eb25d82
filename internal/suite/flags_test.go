package suite

import (
	"cmp"
	"flag"
	"testing"

	"github.com/stretchr/testify/require"

	"erbario/internal/testserver"
)

// flagSet sets a flag of the test binary, such as the number of cases.
func flagSet(name, value string) error { return flag.Set(name, value) }

// cases sets the number of random cases: as many as are asked for, else fewer on a
// server, where each takes some hundred statements' time.
func cases(t *testing.T, p testserver.Place, asked string) {
	n := "100"
	if p.Engine.Caps().Journal {
		n = "20"
	}
	if p.Engine.Caps().CommitsChanges {
		n = "15"
	}
	if asked != "" {
		n = asked
	}
	require.NoError(t, flagSet("rapid.checks", n))
}

// fewer is cases for a test whose cases go a long way each.
func fewer(t *testing.T, p testserver.Place, asked string) {
	n := "40"
	if p.Engine.Caps().Journal {
		n = "8"
	}
	require.NoError(t, flagSet("rapid.checks", cmp.Or(asked, n)))
}
