package draft

// What was declared before some changes is worked out from what is declared after them, without
// a database. The cases are the pairs of models of package plan.

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"erbario/internal/declare"
	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/lang"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// declared is what models declare for an engine.
func declared(t *testing.T, e engine.Engine, models string) *schema.Schema {
	f, diags := lang.Parse("models/test.erbario", models)
	require.Empty(t, diags, models)
	d, diags := declare.Resolve([]*lang.File{f}, declare.Rules{}, e.Name())
	require.False(t, lang.Errors(diags), models)
	return d.Schema
}

func stored(t *testing.T, e engine.Engine, models string) *sqlschema.Schema {
	s, _ := e.DDL().Lower(declared(t, e, models))
	return s
}

// unknown are the cases that cannot be worked out so, with what is said of them; "": nothing,
// and the difference is known.
var unknown = map[string]string{
	"generated": "cannot be calculated: generated",
	"key":       "cannot be calculated: primary key",
	// a uniqueness among the rows that are left is one of a hidden column there
	"softdelete/mariadb": "cannot be calculated: unique code",
	"enumgrows":          "", // whether a choice is an enum type is told by files, which there are none of
}

func TestEarlier(t *testing.T) {
	paths, err := filepath.Glob("../plan/testdata/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, paths)
	for _, path := range paths {
		name := strings.TrimSuffix(filepath.Base(path), ".txtar")
		archive, err := txtar.ParseFile(path)
		require.NoError(t, err)
		part := map[string]string{}
		for _, f := range archive.Files {
			part[f.Name] = string(f.Data)
		}
		for _, home := range engines.All() {
			for _, e := range engines.All() {
				if home.Name() == e.Name() {
					continue
				}
				t.Run(name+"/"+home.Name()+"/"+e.Name(), func(t *testing.T) {
					changes := diff.Schemas(stored(t, home, part["before"]), stored(t, home, part["after"]))
					w := &earlier{engine: e, home: home, out: declared(t, e, part["after"])}
					before, err := w.without(changes)
					said, ok := unknown[name+"/"+home.Name()]
					if !ok {
						said, ok = unknown[name]
					}
					if ok {
						if said != "" {
							assert.ErrorContains(t, err, said)
						}
						return
					}
					require.NoError(t, err)
					got, _ := e.DDL().Lower(before)
					for _, c := range diff.Schemas(stored(t, e, part["before"]), got) {
						assert.Equal(t, diff.ChangeOrder, c.Kind, "%s %s: %s", c.Kind, c.Target(), c.What)
					}
				})
			}
		}
	}
}
