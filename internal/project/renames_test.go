package project

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What was renamed twice is noted once, from the name that the database has; there and back is nothing.
func TestNoteRename(t *testing.T) {
	for name, c := range map[string]struct{ renames, noted [][2]string }{
		"a chain":             {[][2]string{{"a.x", "y"}, {"a.y", "z"}}, [][2]string{{"a.x", "z"}}},
		"there and back":      {[][2]string{{"a.x", "y"}, {"a.y", "x"}}, nil},
		"two":                 {[][2]string{{"a.x", "y"}, {"b.x", "y"}}, [][2]string{{"a.x", "y"}, {"b.x", "y"}}},
		"a table, its column": {[][2]string{{"a", "b"}, {"b.x", "y"}, {"b.y", "z"}}, [][2]string{{"a", "b"}, {"a.x", "z"}}},
		"a table and back":    {[][2]string{{"a.x", "y"}, {"a", "b"}, {"b.y", "z"}, {"b", "a"}}, [][2]string{{"a.x", "z"}}},
		"a value":             {[][2]string{{"a.x", "y"}, {"a.y.new", "old"}, {"a.y.old", "older"}}, [][2]string{{"a.x", "y"}, {"a.x.new", "older"}}},
		"names that swap":     {[][2]string{{"a.x", "t"}, {"a.y", "x"}, {"a.t", "y"}}, [][2]string{{"a.y", "x"}, {"a.x", "y"}}},
	} {
		t.Run(name, func(t *testing.T) {
			p := &Project{Dir: t.TempDir()}
			for _, r := range c.renames {
				require.NoError(t, NoteRename(filepath.Join(p.Dir, RenamesFile), Renamed{r[0], r[1]}))
			}
			list, err := p.Renames()
			require.NoError(t, err)
			var got [][2]string
			for _, r := range list {
				got = append(got, [2]string{r.From, r.To})
			}
			assert.Equal(t, c.noted, got)
			_, err = os.Stat(filepath.Join(p.Dir, RenamesFile))
			assert.Equal(t, c.noted == nil, os.IsNotExist(err))
		})
	}
}
