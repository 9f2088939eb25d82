package project

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestMemory(t *testing.T) {
	home := t.TempDir()
	t.Setenv("XDG_CACHE_HOME", home)
	t.Setenv("HOME", home)
	m := NewMemory()
	require.Empty(t, m.Recall("a"))
	m.Remember("a", "first")
	m.Remember("a", "second")
	require.Equal(t, "second", NewMemory().Recall("a"))

	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(m.folder, "a"), old, old))
	for i := range most {
		m.Remember(fmt.Sprint("b", i), "x")
	}
	require.Empty(t, m.Recall("a"), "the oldest goes")
	require.Equal(t, "x", m.Recall("b0"))
	left, err := os.ReadDir(m.folder)
	require.NoError(t, err)
	require.Len(t, left, most)

	// Where nothing can be written, nothing is known.
	require.NoError(t, os.WriteFile(filepath.Join(home, "file"), nil, 0o600))
	t.Setenv("XDG_CACHE_HOME", filepath.Join(home, "file"))
	t.Setenv("HOME", filepath.Join(home, "file"))
	m = NewMemory()
	m.Remember("a", "first")
	require.Empty(t, m.Recall("a"))
}
