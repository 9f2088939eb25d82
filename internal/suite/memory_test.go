package suite

// This file counts how often migrations are run on scratch to know what they make: once,
// until one of them, or what they made, is another.

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// counting counts the scratch databases that are made.
type counting struct {
	engine.Engine
	made int
}

func (c *counting) Scratch(ctx context.Context) (engine.Database, error) {
	c.made++
	return c.Engine.Scratch(ctx)
}

// notes are a memory that lasts as long as a test.
type notes map[string]string

func (n notes) Recall(name string) string  { return n[name] }
func (n notes) Remember(name, text string) { n[name] = text }

// handWritten writes so many migrations, which tell nothing in their heads.
func handWritten(t *testing.T, p testserver.Place, n int) (out []*migration.Migration) {
	outside := ""
	if p.Name == "mariadb" {
		outside = "  (outside transaction)"
	}
	follows := ""
	for i := range n {
		id := fmt.Sprintf("20260101T0000%02d-m%d", i, i)
		up, down := fmt.Sprintf("ALTER TABLE sheets ADD COLUMN c%d integer", i), fmt.Sprintf(
			"ALTER TABLE sheets DROP COLUMN c%d",
			i,
		)
		if i == 0 {
			up, down = "CREATE TABLE sheets (id integer NOT NULL PRIMARY KEY)", "DROP TABLE sheets"
		}
		text := fmt.Sprintf(
			"-- : %s  %s  form 1\n%s-- : not atomic: it can stop between two steps, and is resumed or rolled back from there\n\n-- : step 1  m%d%s\n-- : apply\n%s;\n-- : undo\n%s;\n",
			id, p.Name, follows, i, outside, up, down)
		m, err := migration.Parse("migrations/"+id+".sql", text, p.Engine)
		require.NoError(t, err)
		out, follows = append(out, m), "-- : follows "+id+"\n"
	}
	return out
}

func TestMadeIsRemembered(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		ctx := context.Background()
		files := handWritten(t, p, 55)
		url := p.URL(t)
		db, err := p.Engine.Open(ctx, url, engine.Make)
		require.NoError(t, err)
		defer db.Close()
		_, err = runner.Apply(ctx, db, p.Engine, files, runner.Options{Wait: time.Second})
		require.NoError(t, err)

		e, known := &counting{Engine: p.Engine}, notes{}
		drift := func(files []*migration.Migration, known draft.Memory) (changes, made int) {
			e.made = 0
			s, err := draft.Look(ctx, e, db, func() (*sqlschema.Schema, []*migration.Migration, error) {
				return wanted(t, p.Engine, "model Sheet\n    name text(20)\n"), files, nil
			})
			require.NoError(t, err)
			s.Memory = known
			list, err := s.Drift(ctx)
			require.NoError(t, err)
			return len(list), e.made
		}
		check := func(changes, made int, why string, files []*migration.Migration, known draft.Memory) {
			t.Helper()
			c, m := drift(files, known)
			require.Equal(t, []int{changes, made}, []int{c, m}, why)
		}
		check(0, 1, "nobody knows", files, nil)
		check(0, 1, "nobody knows yet", files, known)
		check(0, 0, "it is remembered", files, known)
		require.Len(t, known, 1)

		require.NoError(t, db.Exec(ctx, "ALTER TABLE sheets ADD COLUMN by_hand integer"))
		check(1, 1, "the database has something else", files, known)
		require.NoError(t, db.Exec(ctx, "ALTER TABLE sheets DROP COLUMN by_hand"))
		check(0, 0, "and has it no longer", files, known)

		// Behind an undo others are applied, which were never run from nothing.
		_, err = runner.Undo(ctx, db, p.Engine, files, runner.Options{Wait: time.Second})
		require.NoError(t, err)
		check(0, 2, "a migration is pending, and those before it are run", files, known) // the waiting one is run too
		check(0, 1, "a migration is pending", files, known)

		for name := range known {
			known[name] = "0123456789ab"
		}
		check(0, 2, "what is remembered is not what is there", files, known)

		short := handWritten(t, p, 3)
		other, err := p.Engine.Open(ctx, p.URL(t), engine.Make)
		require.NoError(t, err)
		defer other.Close()
		_, err = runner.Apply(ctx, other, p.Engine, short, runner.Options{Wait: time.Second})
		require.NoError(t, err)
		db, known = other, notes{}
		check(0, 1, "a few are run", short, known)
		require.Empty(t, known)
	})
}
