package editor_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
)

// The grammar for editors colours the example and every sample of the pages.
func TestColours(t *testing.T) {
	if os.Getenv("ERBARIO_BROWSER") == "" {
		t.Skip("in make matrix")
	}
	files, err := filepath.Glob("../../examples/herbarium/project/models/*.erbario")
	require.NoError(t, err)
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	sample := regexp.MustCompile(`(?s)<<'END'\n(model .*?)\nEND`)
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range sample.FindAllStringSubmatch(string(text), -1) {
			path := filepath.Join(t.TempDir(), "sample.erbario")
			require.NoError(t, os.WriteFile(path, []byte(m[1]), 0o644))
			files = append(files, path)
		}
	}
	out, err := exec.Command("node", append([]string{"testdata/colours.mjs"}, files...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
}
