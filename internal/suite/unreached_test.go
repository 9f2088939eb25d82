package suite

// This file drafts for an engine of which no server can be reached, from what a draft
// for another engine found, and then lets a server prove it: whatever is worked out
// has to hold, and what cannot be is refused.

import (
	"context"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/declare"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/proof"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// unreached drafts one random change on SQLite, and for the engine of p from that; it
// tells why the second was refused.
func unreached(t *rapid.T, p testserver.Place) (refused string) {
	ctx := context.Background()
	a := drawSchema(t)
	b := evolve(t, a)
	r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
	home, err := engines.All().ByName("sqlite")
	require.NoError(t, err)
	e := p.Engine

	db, err := home.Open(ctx, "sqlite::memory:", engine.Make)
	require.NoError(t, err)
	defer db.Close()
	_, files := step(t, ctx, home, db, text(a), nil, r)
	look := func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted(t, home, text(b)), files, nil }
	s, err := draft.Look(ctx, home, db, look)
	require.NoError(t, err)
	d, _, err := answeringBy(t, ctx, s, r, false)
	require.NoError(t, err)
	if len(d.Plan.Questions) > 0 || d.Migration == nil {
		return ""
	}

	scratch, err := e.Scratch(ctx)
	require.NoError(t, err)
	first, err := draft.Look(ctx, e, scratch,
		func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted(t, e, text(a)), nil, nil })
	require.NoError(t, err)
	made := answered(t, ctx, first, r)
	scratch.Close()
	var before []*migration.Migration
	if made.Migration != nil {
		before = append(before, made.Migration)
	}

	f, _ := lang.Parse("models/test.erbario", text(b))
	declared, _ := declare.Resolve([]*lang.File{f}, rules(e), e.Name())
	other, err := s.Unreached(e, declared.Schema, d.Plan.Changes, before)
	if err != nil {
		return err.Error()
	}
	other.InUse = r.IntN(2) == 0
	out, err := answering(t, ctx, other, r)
	if err != nil {
		return err.Error()
	}
	if len(out.Plan.Questions) > 0 {
		return "asked: " + out.Plan.Questions[0].Text
	}
	line := before
	if out.Migration != nil {
		line = append(line, out.Migration)
	}
	end, err := proof.Replay(ctx, e, line, nil)
	require.NoError(t, err, "applying what was worked out\n%s\n->\n%s", text(a), text(b))
	live, err := end.Inspect(ctx)
	require.NoError(t, err)
	require.Empty(t, differences(t, ctx, end, live, wanted(t, e, text(b))), "what was worked out for\n%s\n->\n%s",
		text(a), text(b))
	end.Close()
	if out.Migration == nil {
		return ""
	}
	start, err := proof.Replay(ctx, e, before, nil)
	require.NoError(t, err)
	was, err := start.Inspect(ctx)
	require.NoError(t, err)
	start.Close()
	outcome, err := proof.Prove(ctx,
		proof.Input{Engine: e, Start: was, Wanted: wanted(t, e, text(b)), Migration: out.Migration})
	require.NoError(t, err)
	require.Empty(t, outcome.Differ, "the proof of what was worked out for\n%s\n->\n%s\n%s", text(a), text(b),
		out.Migration.Text)
	return ""
}

// Random changes that are worked out for PostgreSQL without a server hold on one.
func TestUnreached(t *testing.T) {
	n := 40
	if s := os.Getenv("ERBARIO_UNREACHED"); s != "" {
		var err error
		n, err = strconv.Atoi(s)
		require.NoError(t, err)
	}
	require.NoError(t, flagSet("rapid.checks", strconv.Itoa(n)))
	place := testserver.At(t, "postgres")
	refused := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		if why := unreached(rt, place); why != "" {
			refused[why]++
		}
	})
	for why, n := range refused {
		t.Logf("refused %d times: %s", n, why)
	}
}
