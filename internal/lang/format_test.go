package lang_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/lang"
)

// Every sample file parses without a mistake, and formatting it gives what the
// sample's .golden file holds, or the sample itself.
func TestFormatSamples(t *testing.T) {
	files, err := filepath.Glob("testdata/*.erbario")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, path := range files {
		t.Run(filepath.Base(path), func(t *testing.T) {
			src, err := os.ReadFile(path)
			require.NoError(t, err)
			f, diags := lang.Parse(path, string(src))
			require.Empty(t, diags)
			want := src
			if golden, err := os.ReadFile(strings.TrimSuffix(path, ".erbario") + ".golden"); err == nil {
				want = golden
			}
			out := lang.Format(f)
			assert.Equal(t, string(want), out)
			again, diags := lang.Parse(path, out)
			require.Empty(t, diags)
			assert.Equal(t, out, lang.Format(again), "formatting twice")
		})
	}
}
