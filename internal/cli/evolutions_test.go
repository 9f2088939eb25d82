package cli

// Each file of testdata/evolutions is one change of the models while there are
// rows: the models before, the rows, the models after, the flags of the draft,
// and then, as golden text, what the draft says and the migration that it
// writes. The migration is then applied, undone and applied again, with the
// rows looked at each time. Run with UPDATE_EVOLUTIONS=1 to write the golden
// text again, and read what changed.

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/testserver"
)

// evolving is a project in a temporary folder, used as a person uses it.
type evolving struct {
	t     *testing.T
	dir   string
	place testserver.Place
	url   string // of its database
}

// evolve begins a project on an engine.
func evolve(t *testing.T, place testserver.Place) *evolving {
	p := &evolving{t: t, dir: t.TempDir(), place: place, url: place.URL(t)}
	p.must("init", "--url", p.url)
	return p
}

// erbario runs the program, and returns all it said and its exit code.
func (p *evolving) erbario(args ...string) (string, int) {
	var out bytes.Buffer
	code := Main(engines.All(), append([]string{"erbario", "-C", p.dir}, args...), strings.NewReader(""), &out, &out)
	return out.String(), code
}

func (p *evolving) must(args ...string) string {
	out, code := p.erbario(args...)
	require.Equal(p.t, 0, code, "%v\n%s", args, out)
	return out
}

func (p *evolving) write(name, text string) {
	require.NoError(p.t, os.WriteFile(filepath.Join(p.dir, name), []byte(text), 0o644))
}

func (p *evolving) db() engine.Database {
	db, err := p.place.Engine.Open(context.Background(), p.url, engine.Make)
	require.NoError(p.t, err)
	return db
}

func (p *evolving) exec(script string) {
	db := p.db()
	defer db.Close()
	for _, piece := range p.place.Engine.SQL().Split(script) {
		if !piece.Comment {
			require.NoError(p.t, db.Exec(context.Background(), piece.Text), piece.Text)
		}
	}
}

// rows is every row of every table but the tool's own, and the text of the
// schema without regard to the order of tables.
func (p *evolving) rows() string {
	ctx := context.Background()
	db := p.db()
	defer db.Close()
	s, err := db.Inspect(ctx)
	require.NoError(p.t, err)
	var b strings.Builder
	for _, t := range s.Tables {
		if strings.HasPrefix(t.Name, "erbario_") {
			continue
		}
		var names []string
		for _, c := range t.Columns {
			if c.Name != "created_at" && c.Name != "updated_at" {
				names = append(names, p.place.Engine.SQL().Quote(c.Name))
			}
		}
		if p.place.Engine.Caps().ImmediateReferences { // a server puts a column that comes back behind the others
			slices.SortFunc(names, func(a, b string) int {
				if id := p.place.Engine.SQL().Quote("id"); (a == id) != (b == id) {
					return map[bool]int{true: -1, false: 1}[a == id]
				}
				return strings.Compare(a, b)
			})
		}
		rows, err := db.Sample(ctx,
			fmt.Sprintf("SELECT %s FROM %s ORDER BY 1", strings.Join(names, ", "), p.place.Engine.SQL().QuoteTable(t.Name)),
			0)
		require.NoError(p.t, err)
		fmt.Fprintf(&b, "%s (%s)\n", t.Name, strings.Join(rows.Columns, ", "))
		for _, r := range rows.Values {
			fmt.Fprintf(&b, "    %s\n", strings.Join(r, ", "))
		}
	}
	return b.String()
}

var stamps = regexp.MustCompile(`\d{8}[Tt]\d{6}`)
var proofs = regexp.MustCompile(`proof of [0-9a-f]{12}`)
var drafted = regexp.MustCompile(`-- : drafted .*\n`)
var prints = regexp.MustCompile(`schema [0-9a-f]{12} -> [0-9a-f]{12}`)

// plain takes out what differs from run to run.
func (p *evolving) plain(s string) string {
	seen := map[string]string{}
	s = strings.ReplaceAll(strings.ReplaceAll(s, p.dir, "DIR"), p.url, "URL")
	s = stamps.ReplaceAllStringFunc(s, func(m string) string {
		k := strings.ToUpper(m)
		if seen[k] == "" {
			seen[k] = fmt.Sprintf("ID%d", len(seen)+1)
		}
		return seen[k]
	})
	s = drafted.ReplaceAllString(s, "")
	s = proofs.ReplaceAllString(s, "proof of C")
	return prints.ReplaceAllString(s, "schema A -> B")
}

func TestEvolutions(t *testing.T) {
	t.Setenv("CI", "") // the questions are to be in both outputs
	files, err := filepath.Glob("testdata/evolutions/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	testserver.Each(t, func(t *testing.T, place testserver.Place) { evolutions(t, place, files) })
}

// evolutions runs the changes on one engine. What is not SQLite's is in parts of
// its own, behind an @ with the engine's name.
func evolutions(t *testing.T, place testserver.Place, files []string) {
	on := ""
	if place.Name != "sqlite" {
		on = "@" + place.Name
	}
	for i, path := range files {
		if !place.Turn(i) && os.Getenv("UPDATE_EVOLUTIONS") == "" {
			continue
		}
		t.Run(strings.TrimSuffix(filepath.Base(path), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(path)
			require.NoError(t, err)
			part := map[string]string{}
			for _, f := range archive.Files {
				part[f.Name] = string(f.Data)
			}
			for name, text := range part { // the engine's own wins
				if plain, ok := strings.CutSuffix(name, on); ok && on != "" {
					part[plain] = text
				}
			}
			p := evolve(t, place)
			p.write("models/all.erbario", part["before"])
			p.must("draft", "first")
			p.must("apply")
			p.exec(part["rows"])
			before := p.rows()
			p.write("models/all.erbario", part["after"])

			args := []string{"draft", "change"}
			for line := range strings.Lines(part["flags"]) {
				flag, value, _ := strings.Cut(strings.TrimSpace(line), " ")
				args = append(args, flag, value)
			}
			said, code := p.erbario(args...)
			got := map[string]string{"said": p.plain(said) + fmt.Sprintf("exit %d\n", code)}
			require.Equal(t, before, p.rows(), "a draft changes no row")
			list, err := filepath.Glob(filepath.Join(p.dir, "migrations", "*-change."+place.Name+".sql"))
			require.NoError(t, err)
			if code != 0 {
				require.Empty(t, list, "nothing is written where something is refused")
			} else {
				text, err := os.ReadFile(list[0])
				require.NoError(t, err)
				got["migration"] = p.plain(string(text))
				p.must("apply")
				_, code := p.erbario("diff", "--exit-code")
				assert.Equal(t, 0, code, "the diff is empty right after")
				after := p.rows()
				got["afterwards"] = after
				p.must("undo")
				if back, ok := part["back"]; ok { // what was allowed to be lost
					before = back
				}
				assert.Equal(t, before, p.rows(), "every row is restored")
				p.must("apply")
				assert.Equal(t, after, p.rows(), "and forward again")
				p.must("prove", "--all")
			}
			if os.Getenv("UPDATE_EVOLUTIONS") != "" {
				var kept []txtar.File
				for _, f := range archive.Files {
					if f.Name != "said"+on && f.Name != "migration"+on && f.Name != "afterwards"+on {
						kept = append(kept, f)
					}
				}
				for _, name := range []string{"said", "afterwards", "migration"} {
					if got[name] != "" {
						kept = append(kept, txtar.File{Name: name + on, Data: []byte(got[name])})
					}
				}
				archive.Files = kept
				require.NoError(t, os.WriteFile(path, txtar.Format(archive), 0o644))
				return
			}
			for _, name := range []string{"said", "migration", "afterwards"} {
				assert.Equal(t, string(at(archive, name+on)), got[name], name)
			}
		})
	}
}

// at is a part of an archive.
func at(a *txtar.Archive, name string) []byte {
	for _, f := range a.Files {
		if f.Name == name {
			return f.Data
		}
	}
	return nil
}
