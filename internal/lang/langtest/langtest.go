// Package langtest reads test files in which the messages that are expected
// stand beside the lines they are about.
package langtest

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/lang"
)

// Mistakes runs find over each file that pattern names, without what stands
// behind "#>" on its lines, and expects just those messages, by line.
func Mistakes(t *testing.T, pattern string, find func(path, src string) []lang.Diagnostic) {
	files, err := filepath.Glob(pattern)
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, path := range files {
		t.Run(filepath.Base(path), func(t *testing.T) {
			raw, err := os.ReadFile(path)
			require.NoError(t, err)
			var src strings.Builder
			want := map[int][]string{}
			for i, line := range strings.Split(string(raw), "\n") {
				parts := strings.Split(line, "#>")
				for _, message := range parts[1:] {
					want[i+1] = append(want[i+1], strings.TrimSpace(message))
				}
				src.WriteString(strings.TrimRight(parts[0], " ") + "\n")
			}
			got := map[int][]string{}
			for _, d := range find(path, src.String()) {
				text := d.Message
				if d.Hint != "" {
					text += "; " + d.Hint
				}
				got[d.Pos.Line] = append(got[d.Pos.Line], text)
			}
			assert.Equal(t, want, got)
		})
	}
}
