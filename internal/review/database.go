package review

// This file asks one database what a migration meets there. It only reads.

import (
	"context"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/runner"
)

// On adds what a migration meets on a database: which requirements rows block there, what each step
// locks, and about how long it takes.
func (m *Migration) On(ctx context.Context, name string, db engine.Database, e runner.Engine,
	s *runner.LineStatus, file *migration.Migration) error {
	d := &Database{Name: name, State: Applied}
	m.Databases = append(m.Databases, d)
	at := slices.IndexFunc(s.Pending, func(p *migration.Migration) bool { return p.ID == file.ID })
	if at < 0 {
		return nil
	}
	d.State = Pending
	for _, p := range s.Pending[:at] {
		d.Before = append(d.Before, p.ID)
	}
	asked := &asking{db: db, engine: e, sizes: map[string]*Table{}}
	if err := asked.tables(ctx); err != nil {
		return err
	}
	bound := file.Bound(e, nil, nil)
	for _, q := range bound.BeforeApply {
		need := Need{Requirement: q}
		if n, err := db.Count(ctx, q.Query); err == nil {
			need.Rows, need.Asked = n, true
		} else if ctx.Err() != nil {
			return ctx.Err()
		}
		d.Needs = append(d.Needs, need)
	}
	for i := range bound.Steps {
		cost, err := asked.cost(ctx, &bound.Steps[i])
		if err != nil {
			return err
		}
		d.Steps = append(d.Steps, cost)
	}
	return nil
}

// asking asks one database for the sizes of its tables, each once.
type asking struct {
	db     engine.Database
	engine runner.Engine
	sizes  map[string]*Table // by name in lower case; nil: not counted yet
}

func (a *asking) tables(ctx context.Context) error {
	s, err := a.db.Inspect(ctx)
	if err != nil {
		return err
	}
	for _, t := range s.Tables {
		if t.Options.Virtual == "" {
			a.sizes[strings.ToLower(t.Name)] = nil
		}
	}
	return nil
}

// size is a table as large as it is; nil: it does not exist.
func (a *asking) size(ctx context.Context, name string) (*Table, error) {
	key := strings.ToLower(name)
	t, exists := a.sizes[key]
	if !exists || t != nil {
		return t, nil
	}
	n, err := a.db.Count(ctx, "SELECT 1 FROM "+a.engine.SQL().QuoteTable(name))
	if err != nil {
		return nil, err
	}
	bytes, err := a.db.TableSize(ctx, name)
	if err != nil {
		bytes = 0 // rows are what is estimated with
	}
	a.sizes[key] = &Table{Name: name, Rows: n, Bytes: bytes}
	return a.sizes[key], nil
}

// cost is what a step does here.
func (a *asking) cost(ctx context.Context, s *migration.Step) (Cost, error) {
	var c Cost
	var failed error
	room := func(table string) (string, bool) {
		t, err := a.size(ctx, table)
		if err != nil {
			failed = err
		}
		if t == nil {
			return "", false
		}
		return plan.SizeWords(t.Rows, t.Bytes), true
	}
	var locks []engine.Lock
	c.Lock, locks = plan.LockWords(a.engine, texts(s.Apply), engine.Step{Work: s.Work, Kind: s.Kind}, room)
	if _, online := engine.OnlineOf(a.engine); !online {
		c.Lock = "the whole database, for writers"
	}
	work := map[string]engine.Work{}
	for _, l := range locks {
		work[strings.ToLower(l.Table)] = max(l.Work, min(s.Work, engine.Keeps))
	}
	for _, st := range s.Apply {
		// The first is the one that the statement changes.
		if names := sqltext.Touches(a.engine.SQL().Lex(st.SQL), nil).Tables; len(names) > 0 && len(locks) == 0 {
			work[strings.ToLower(names[0])] = s.Work
		}
	}
	for _, name := range sorted(work) {
		t, err := a.size(ctx, name)
		if err != nil {
			return c, err
		}
		if t != nil {
			c.Tables = append(c.Tables, *t)
			c.About += Estimate(a.engine.Caps().Rates, work[name], t.Rows)
		}
	}
	return c, failed
}

func sorted(of map[string]engine.Work) (names []string) {
	for name := range of {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Estimate is about how long some work with rows takes, at the rates that were measured.
func Estimate(r engine.Rates, w engine.Work, rows int64) time.Duration {
	rate := 0
	switch w {
	case engine.Reads:
		rate = r.Reads
	case engine.Rewrites, engine.Copies:
		rate = r.Rewrites
	}
	if rate == 0 {
		return 0
	}
	return time.Duration(float64(rows) / float64(rate) * float64(time.Second))
}
