package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMeasure(t *testing.T) {
	dir := t.TempDir()
	wide := "// " + strings.Repeat("w", columns) + "\n"
	text := "var x = \"" + strings.Repeat("t", columns) + "\"\n"
	long := "func long(ctx context.Context, a, b int, c, d, e, f string) {\n" + strings.Repeat("\tlong()\n", funcLines) + "}\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.go"), []byte("package a\n\n"+wide+text+long), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a_test.go"), []byte("package a\n\n"+wide), 0o644))
	found, err := measure(dir)
	require.NoError(t, err)
	path := filepath.Join(dir, "a.go")
	assert.Equal(t, larger{path + " long": funcLines + 2, path + " long parameters": 6, path + " lines": 1}, found)

	assert.Empty(t, compare(found, found))
	assert.Len(t, compare(larger{}, found), 3, "what is not named")
	assert.Len(t, compare(larger{path + " long": funcLines + 1, path + " long parameters": 6, path + " lines": 1}, found), 1, "what has grown")
	assert.Len(t, compare(larger{path + " lines": 2}, larger{path + " lines": 1}), 1, "what has shrunk")
	require.NoError(t, os.WriteFile(path, []byte(found.text()), 0o644))
	again, err := read(path)
	require.NoError(t, err)
	assert.Equal(t, found, again)
}
