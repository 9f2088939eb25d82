package cli

// What a review says is what diff, apply --dry-run and the file say: asked at every draft of the random walks.

import (
	"encoding/json"
	"os"
	"strings"

	"github.com/stretchr/testify/require"
)

// reviewed holds the review of the migration that was just drafted against the other commands.
func (w *walk) reviewed() {
	read := func(into any, args ...string) {
		out, code := w.erbario(append(args, "--format", "json")...)
		if args[0] != "apply" { // which fails where rows block it
			require.Equal(w.t, 0, code, "%s\n%v\n%s", strings.Join(w.steps, "\n"), args, out)
		}
		out = out[strings.Index(out, "{"):]
		require.NoError(w.t, json.NewDecoder(strings.NewReader(out)).Decode(into), out)
	}
	type change struct{ Kind, Table, Name, What string }
	var review struct {
		Migrations []struct {
			Migration string
			Changes   []change
			Steps     []struct {
				Title     string
				SQL, Undo []string
			}
			Databases []struct {
				State        string
				Requirements []struct {
					Sentence string
					Rows     int64
					Asked    bool
				}
				Steps []struct {
					Tables []struct{ Rows int64 }
				}
			}
		}
	}
	read(&review, "review")
	require.Len(w.t, review.Migrations, 1)
	m := review.Migrations[0]

	var diff struct{ Drafted []change }
	read(&diff, "diff")
	require.Equal(w.t, diff.Drafted, append([]change{}, m.Changes...), strings.Join(w.steps, "\n"))

	var dry struct {
		Migrations []struct {
			Migration    string
			Requirements []struct {
				Sentence string
				Rows     int64
				Asked    bool
			}
			Steps []struct {
				Title string
				SQL   []string
			}
		}
	}
	read(&dry, "apply", "--dry-run")
	require.Len(w.t, dry.Migrations, 1)
	require.Equal(w.t, dry.Migrations[0].Migration, m.Migration)
	require.Len(w.t, m.Databases, 1)
	require.Len(w.t, m.Databases[0].Requirements, len(dry.Migrations[0].Requirements))
	for i, r := range m.Databases[0].Requirements {
		other := dry.Migrations[0].Requirements[i]
		require.Equal(w.t, other.Rows, r.Rows)
		require.Equal(w.t, other.Asked, r.Asked)
		require.True(w.t, strings.HasSuffix(r.Sentence, other.Sentence), "%s and %s", r.Sentence, other.Sentence)
	}
	files := w.files()
	text, err := os.ReadFile(files[len(files)-1])
	require.NoError(w.t, err)
	require.Len(w.t, m.Steps, len(dry.Migrations[0].Steps))
	require.Len(w.t, m.Databases[0].Steps, len(m.Steps))
	markdown, code := w.erbario("review")
	require.Equal(w.t, 0, code)
	for i, s := range m.Steps {
		require.Equal(w.t, dry.Migrations[0].Steps[i].Title, s.Title)
		require.Equal(w.t, dry.Migrations[0].Steps[i].SQL, s.SQL)
		require.Contains(w.t, string(text), s.Title)
		for _, sql := range append(s.SQL, s.Undo...) {
			require.Contains(w.t, string(text), sql)
			require.Contains(w.t, markdown, sql)
		}
		for _, t := range m.Databases[0].Steps[i].Tables {
			require.Equal(w.t, int64(len(w.rows)), t.Rows, strings.Join(w.steps, "\n"))
		}
	}
}
