package suite

import (
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Imports go one way: schema imports none of the others, cli is imported by main
// alone, an engine by cli, the bench and tests alone (those share testserver), and nothing below cli knows the
// terminal.
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
			inner := strings.TrimPrefix(name, "erbario/internal/")
			if pkg == "schema" {
				assert.NotContains(t, name, "erbario/", path)
			}
			assert.NotEqual(t, "cli", inner, path)
			if pkg != "cli" && pkg != "bench" {
				shared := strings.HasPrefix(pkg, "engine/") && inner == "engine/preconditions" ||
					inner == "engine/sqltext" // what engines have in common, and what is said of their tokens
				assert.False(t, strings.HasPrefix(inner, "engine/") && !shared && pkg != "testserver", "%s imports %s",
					path, name)
				for _, w := range terminal {
					assert.NotContains(t, name, w, path)
				}
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
