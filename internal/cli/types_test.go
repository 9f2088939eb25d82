package cli

// Rows of a real database go through the types that are written for it and back, unchanged.

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"erbario/internal/testserver"
)

func TestTypesRoundTrip(t *testing.T) {
	here, err := os.Getwd()
	require.NoError(t, err)
	root := filepath.Join(here, "../..")
	read := func(name string) string {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		return string(text)
	}
	for language, c := range map[string]struct {
		file    string
		sources map[string]string
		run     [][]string
	}{
		"python": {"models.py", map[string]string{"trip.py": "trip.py"}, [][]string{{"python3", "trip.py"}}},
		"php":    {"types.php", map[string]string{"trip.php": "trip.php"}, [][]string{{"php", "trip.php"}}},
		"typescript": {"types.ts", map[string]string{"trip.ts": "trip.ts"}, [][]string{
			{filepath.Join(root, "tools/node/node_modules/.bin/tsc"), "--strict", "--target", "es2022", "--module",
				"commonjs", "--esModuleInterop", "--skipLibCheck", "--types", "node", "trip.ts"}, {"node", "trip.js"}}},
		"go": {"models/types.go", map[string]string{"trip.go.txt": "main.go"}, [][]string{{"go", "run", "-mod=mod", "."}}},
	} {
		t.Run(language, func(t *testing.T) {
			t.Setenv("TZ", "Pacific/Auckland") // nothing depends on the zone of the machine
			p := evolve(t, testserver.At(t, "sqlite"))
			p.write("models/sheet.erbario", read("testdata/types/sheet.erbario"))
			p.must("draft", "sheets", "--apply")
			before := strings.TrimPrefix(p.url, "sqlite:")
			empty, err := os.ReadFile(before)
			require.NoError(t, err)
			p.exec(read("testdata/types/rows.sql"))
			p.write("models/more.erbario", "seed some\n    Box 3\n        Sheet 20\n")
			p.must("seed", "some")
			// JSON that was read as a value is written without blanks.
			p.exec("UPDATE sheets SET notes = json(notes), extra = json(extra)")
			old := p.rows()

			work := t.TempDir()
			p.must("types", "--lang", language, "-o", filepath.Join(work, c.file))
			for from, to := range c.sources {
				require.NoError(t, os.WriteFile(filepath.Join(work, to), []byte(read("testdata/types/"+from)), 0o644))
			}
			after := filepath.Join(work, "after.db")
			require.NoError(t, os.WriteFile(after, empty, 0o644))
			switch language {
			case "go":
				for _, name := range []string{"go.mod", "go.sum"} {
					require.NoError(t, os.WriteFile(filepath.Join(work, name), []byte(read(filepath.Join(root, name))), 0o644))
				}
			case "typescript":
				require.NoError(t, os.Symlink(filepath.Join(root, "tools/node/node_modules"),
					filepath.Join(work, "node_modules")))
			}
			for i, line := range c.run {
				args := line[1:]
				if i == len(c.run)-1 {
					args = append(args, before, after)
				}
				cmd := exec.Command(line[0], args...)
				cmd.Dir = work
				out, err := cmd.CombinedOutput()
				require.NoError(t, err, "%v\n%s", cmd.Args, out)
			}
			p.url = "sqlite:" + after
			was, is := strings.Split(old, "\n"), strings.Split(p.rows(), "\n")
			require.Len(t, is, len(was))
			for i := range was {
				require.Equal(t, was[i], is[i])
			}
		})
	}
}
