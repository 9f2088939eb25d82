package suite

import (
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// below are the rooms that import nothing of ours.
var below = []string{"schema", "words", "engine/sqltok"} // sqlschema imports schema alone

// among are the rooms that only some others may import.
var among = map[string]func(pkg string) bool{
	"cli":                  func(string) bool { return false }, // main alone
	"engines":              func(pkg string) bool { return pkg == "testserver" || pkg == "bench" },
	"engine/sqlite":        func(pkg string) bool { return pkg == "engines" },
	"engine/postgres":      func(pkg string) bool { return pkg == "engines" },
	"engine/mariadb":       func(pkg string) bool { return pkg == "engines" },
	"script":               func(pkg string) bool { return pkg == "runner" || pkg == "seed" || pkg == "cli" },
	"engine/ddl":           ofEngines,
	"engine/waiting":       ofEngines,
	"engine/preconditions": ofEngines,
	"migration":            func(pkg string) bool { return pkg != "plan" && pkg != "diff" && !ofEngines(pkg) }, // the file is made of a plan
	"testserver":           func(pkg string) bool { return pkg == "bench" },                                    // and tests
}

func ofEngines(pkg string) bool { return strings.HasPrefix(pkg, "engine/") }

// Imports go one way: an engine is known to the list of engines alone, cli to main, and
// nothing below cli knows the terminal.
func TestImports(t *testing.T) {
	terminal := []string{"urfave/cli", "lipgloss", "isatty", "x/term", "runewidth"}
	err := filepath.WalkDir("..", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		pkg := strings.TrimPrefix(filepath.ToSlash(filepath.Dir(path)), "../")
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly|parser.ParseComments)
		require.NoError(t, err)
		for _, i := range f.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			inner, ours := strings.CutPrefix(name, "erbario/internal/")
			if slices.Contains(below, pkg) {
				assert.False(t, ours, "%s imports %s", path, name)
			}
			if may := among[inner]; ours && may != nil {
				assert.True(t, may(pkg), "%s imports %s", path, name)
			}
			for _, w := range terminal {
				assert.False(t, pkg != "cli" && strings.Contains(name, w), "%s imports %s", path, name)
			}
		}
		// Every file opens with what it holds, or is the package's only voice.
		if pkg != "bench" {
			assert.NotEmpty(t, f.Comments, "%s says nothing of what it holds", path)
		}
		return nil
	})
	require.NoError(t, err)
}
