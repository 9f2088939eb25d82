package draft

// This file holds the reference rows of the models against the database, and
// against what the line of migrations makes from nothing: a row that is right here
// by hand alone is still missing elsewhere.

import (
	"context"
	"maps"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/proof"
	"erbario/internal/rows"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// rows compares the reference rows of all tables that have some, or once had.
func (s *State) rows(ctx context.Context) ([]plan.TableRows, error) {
	if s.tablesAlone {
		return nil, nil
	}
	line, err := s.line()
	if err != nil {
		return nil, err
	}
	made := migration.RowsOf(line, s.Engine)
	known := map[string]rows.Known{} // by the names of the models' tables
	for _, t := range s.Wanted.Tables {
		k := rows.Known{}
		if at := made[strings.ToLower(t.Name)]; at != nil && rows.Has(t, at.By) {
			k = rows.Known{By: at.By, Keys: at.Keys}
		}
		if t.Rows() != nil && !slices.Equal(k.By, t.Rows().KeyParts()) { // told by other fields now
			k = rows.Known{By: t.Rows().KeyParts()}
		}
		if len(k.By) > 0 && !t.Elsewhere() {
			known[t.Name] = k
		}
	}
	if len(known) == 0 {
		return nil, nil
	}
	end, at := s.DB, &sqlschema.Schema{} // what the line makes; nothing is asked where the schema is empty
	if len(made) > 0 {
		if end, err = proof.Replay(ctx, s.Engine, line, s.Wanted); err != nil {
			return nil, err
		}
		defer end.Close()
		if at, err = end.Inspect(ctx); err != nil {
			return nil, err
		}
	}
	var out []plan.TableRows
	for _, name := range slices.Sorted(maps.Keys(known)) {
		r := plan.TableRows{Table: name, By: known[name].By}
		if r.Line, err = (rows.In{DB: end, Schema: at}).Compare(ctx, s.Engine.SQL(), s.Wanted, name, known); err != nil {
			return nil, err
		}
		for i := range r.Line { // a row that only a person inserted does not belong to the line
			r.Line[i].There = r.Line[i].There && slices.Contains(known[name].Keys, r.Line[i].Key)
		}
		r.Here = r.Line
		if len(s.Status.Pending) == 0 {
			if r.Here, err = (rows.In{DB: s.DB, Schema: s.Live}).Compare(ctx, s.Engine.SQL(), s.Wanted, name, known); err != nil {
				return nil, err
			}
		}
		out = append(out, r)
	}
	return out, nil
}

// RowChanges lists what differs between the reference rows of the models and those
// that a whole line of migrations makes from nothing.
func RowChanges(ctx context.Context, e runner.Engine, db engine.Database, end, wanted *sqlschema.Schema,
	line []*migration.Migration) ([]diff.Change, error) {
	s := &State{
		Engine:   e,
		DB:       db,
		Wanted:   wanted,
		Live:     end,
		Upcoming: end,
		Status:   &runner.LineStatus{Pending: line, Files: line},
	}
	p, err := s.Changes(ctx)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(p.Changes, func(c diff.Change) bool {
		return c.Kind != diff.AddRow && c.Kind != diff.ChangeRow && c.Kind != diff.DropRow
	}), nil
}

// rowsToTry gives rows to a proof: a few of the database, where some may be taken of it, and
// the reference rows that others name, without which those could not be inserted. These are
// in the database, or are made by the line of migrations, where that has yet to be applied.
func (s *State) rowsToTry(ctx context.Context,
	some bool) (try func(table string, limit int) (engine.Rows, error), done func(), err error) {
	done = func() {}
	source, in := s.DB, s.Live
	named := slices.ContainsFunc(s.Wanted.Tables, func(t *sqlschema.Table) bool {
		return t.Rows() != nil && slices.ContainsFunc(t.Rows().Points, func(to string) bool { return to != "" })
	})
	var line []*migration.Migration
	if named {
		if line, err = s.line(); err != nil {
			return nil, done, err
		}
		named = len(migration.RowsOf(line, s.Engine)) > 0
	}
	if named && len(s.Status.Pending) > 0 {
		if source, err = proof.Replay(ctx, s.Engine, line, s.Wanted); err != nil {
			return nil, done, err
		}
		done = func() { source.Close() }
		if in, err = source.Inspect(ctx); err != nil {
			done()
			return nil, func() {}, err
		}
	}
	if !named && !some {
		return nil, done, nil
	}
	live := s.sample(ctx)
	rows := func(table string) (engine.Rows, error) {
		where := s.namedRows(table, in.Table(table))
		if !named || where == "" {
			return engine.Rows{}, nil
		}
		return source.Sample(
			ctx,
			"SELECT "+proof.Stored(in.Table(table), s.Engine)+" FROM "+s.Engine.SQL().
				QuoteTable(in.Table(table).Name)+
				" WHERE "+where,
			namedAtMost,
		)
	}
	return func(table string, limit int) (engine.Rows, error) {
		out, err := rows(table)
		if err != nil || !some {
			return out, err
		}
		more, err := live(table, limit)
		if len(out.Values) == 0 || slices.Equal(out.Columns, more.Columns) {
			out.Columns, out.Values = more.Columns, append(out.Values, more.Values...)
		}
		return out, err
	}, done, nil
}

// namedAtMost is how many reference rows of a table are tried for the sake of others.
const namedAtMost = 1000

// namedRows is the condition for the rows of a table that reference rows of others, or of
// its own, name; empty: none does.
func (s *State) namedRows(table string, there *sqlschema.Table) string {
	t := s.Wanted.Table(table)
	if t == nil || t.Rows() == nil || there == nil {
		return ""
	}
	named := map[string]map[string]bool{} // by column: the values that others name
	for _, o := range s.Wanted.Tables {
		if o.Rows() == nil {
			continue
		}
		for i, to := range o.Rows().Points {
			if to != t.Name {
				continue
			}
			for _, row := range o.Rows().Values {
				by := o.Rows().PointsBy[i]
				if there.Column(by) == nil || row[i].Kind == schema.NullValue {
					continue
				}
				if sql, err := s.Engine.SQL().Literal(row[i], t.Column(by).Type); err == nil {
					if named[by] == nil {
						named[by] = map[string]bool{}
					}
					named[by][sql] = true
				}
			}
		}
	}
	var out []string
	for _, by := range slices.Sorted(maps.Keys(named)) {
		out = append(out, s.Engine.SQL().Quote(by)+" IN ("+strings.Join(slices.Sorted(maps.Keys(named[by])), ", ")+")")
	}
	return strings.Join(out, " OR ")
}
