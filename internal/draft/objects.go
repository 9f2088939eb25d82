package draft

// This file plans what is declared in SQL: what the server makes of it on scratch is compared with
// what there is, and its steps stand around those of the tables.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/plan"
	"erbario/internal/proof"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// sqlState is how what is declared in SQL stands.
type sqlState struct {
	ahead   []*objects.Object // what there is once the waiting migrations are applied
	there   []*objects.Object // the same with the renames of the plan made
	made    *objects.Made
	line    map[engine.ObjectKey]bool // what belongs to the migrations
	asked   map[engine.ObjectKey]bool // parts of tables that an answer drops
	wanted  []*objects.Object
	changes []objects.Change
	aside   []*objects.Object // that are dropped and created again for the sake of others
	// stood is on what stands what was found, where that is not created with it.
	stood []*objects.Object
	// keep begins the names of the tables in which parts are set aside; empty: their rows are not kept.
	keep string
	// viewsFirst: views are dropped before names change, since they would not follow.
	viewsFirst bool
}

// StaleError says that a change would break something declared in SQL whose file says what it said
// before.
type StaleError struct {
	Failure objects.Failure
	Names   string // what its text names and the change takes away; empty: the server says why
	Another bool   // that name is another's afterwards
}

func (e *StaleError) Error() string {
	if e.Names != "" {
		return fmt.Sprintf("%s:%d: it names %s, %s: change it, too, or add --leave-broken if it "+
			"means something else; nothing was written",
			e.Failure.Object.Path, e.Failure.Object.Line, e.Names, becomes(e.Another))
	}
	return fmt.Sprintf("%s:%d: it would not work after this change (%s): change it, too; nothing was written",
		e.Failure.Object.Path, e.Failure.Object.Line, e.Failure.Why())
}

// again is a state that knows only what there is.
func (s *sqlState) again() *sqlState {
	if s == nil {
		return nil
	}
	return &sqlState{ahead: s.ahead, there: s.ahead}
}

// ofTables are the changes that are not about something declared in SQL.
func ofTables(list []diff.Change) []diff.Change {
	return slices.DeleteFunc(slices.Clone(list), func(c diff.Change) bool {
		_, is := c.Object.(*objects.Object)
		return is
	})
}

// withSQL tells whether anything is declared in SQL, or was.
func (s *State) withSQL() bool {
	if s.sqlAsked || s.Wanted != nil && len(s.Wanted.Objects) > 0 {
		return true
	}
	line, err := s.line()
	return err == nil && len(migration.ObjectsOf(line, s.Engine)) > 0
}

// readSQL finds out what is declared in SQL and what there is of it, once.
func (s *State) readSQL(ctx context.Context) error {
	if !s.withSQL() || s.sql != nil && s.sql.made != nil {
		return nil
	}
	line, err := s.line()
	if err != nil {
		return err
	}
	if err := s.readThere(ctx); err != nil {
		return err
	}
	s.sql.line = migration.ObjectsOf(line, s.Engine)
	if s.sqlLater {
		return nil
	}
	if s.sql.made, err = s.makeObjects(ctx); err != nil {
		return err
	}
	if err = s.putTables(); err != nil {
		s.sql.made = nil
	}
	return err
}

// readThere reads what the live database holds.
func (s *State) readThere(ctx context.Context) (err error) {
	if s.sql != nil {
		return nil
	}
	s.sql = &sqlState{}
	s.sql.ahead, err = objects.Read(ctx, s.DB, s.Live)
	s.sql.there = s.sql.ahead
	return err
}

// follow runs migrations or renames on scratch, and notes what becomes of the objects. What scratch
// had not before stays as it is. same tells, of renames, which object is which; nil: they are
// migrations.
func (s *State) follow(ctx context.Context, db engine.Database, run func(db engine.Database) error,
	same func(was, now *objects.Object) bool) error {
	renames := same != nil
	if !s.withSQL() {
		return run(db)
	}
	if err := s.readThere(ctx); err != nil {
		return err
	}
	read := func() ([]*objects.Object, error) {
		schema, err := db.Inspect(ctx)
		if err != nil {
			return nil, err
		}
		return objects.Read(ctx, db, schema)
	}
	before, err := read()
	if err != nil {
		return err
	}
	for _, o := range s.sql.there { // what a copy of the schema has not
		was := objects.Find(before, o.ObjectKey)
		for i, c := range o.Make {
			if was == nil || i > 0 && len(was.Make) < len(o.Make) {
				_ = db.Exec(ctx, c.SQL) // what cannot be there stays as it is
			}
		}
	}
	if before, err = read(); err != nil {
		return err
	}
	if err := run(db); err != nil {
		return err
	}
	after, err := read()
	if err != nil {
		return err
	}
	stays := func(o *objects.Object) bool { // with what belongs to it
		return renames && (o.Kind == "view" || o.OfKind == "view") && s.viewsFirst()
	}
	var out []*objects.Object
	for _, o := range s.sql.there {
		if objects.Find(before, o.ObjectKey) == nil || stays(o) {
			out = append(out, o)
		}
	}
	for _, o := range after {
		if stays(o) {
			continue
		}
		for _, was := range s.sql.there {
			if renames && same(was, o) {
				o.Before = was
				break
			}
		}
		out = append(out, o)
	}
	s.sql.there = out
	if !renames {
		s.sql.ahead = out
	}
	return nil
}

// viewsFirst tells whether views are dropped before names change.
func (s *State) viewsFirst() bool {
	return !s.Engine.Caps().ViewsFollow || s.sql != nil && s.sql.viewsFirst
}

// planObjects adds to a plan what is declared in SQL.
func (s *State) planObjects(ctx context.Context, p *plan.Plan, titled bool) error {
	strict := titled && len(p.Questions) == 0
	wanted, err := s.wantedObjects(ctx, strict)
	if err != nil {
		return err
	}
	s.sql.wanted = wanted
	s.partsGo(p)
	s.sql.changes = objects.Compare(s.sql.there, wanted, s.sql.line, s.sql.asked)
	known := slices.Clone(wanted)
	for _, c := range s.sql.changes {
		known = append(known, c.Object())
	}
	p.Undeclared = slices.DeleteFunc(p.Undeclared, func(c diff.Change) bool { return objects.Drops(c, known) })
	if err := s.stale(p); err != nil && strict {
		return err
	}
	asked := len(p.BeforeApply)
	s.partRows(p)
	s.retypedRows(p)
	if err := s.blocking(ctx, p, asked); err != nil {
		return err
	}
	lost := s.sql.lost()
	if titled {
		if err := s.found(p); err != nil {
			return err
		}
	}
	if len(s.sql.changes)+len(lost) == 0 {
		return nil
	}
	var ground, tables []engine.Step
	for _, st := range p.Steps {
		if st.First {
			ground = append(ground, st)
		} else {
			tables = append(tables, st)
		}
	}
	names := s.namesFirst(tables)
	touched := func(o *objects.Object) bool {
		return slices.ContainsFunc(p.Changes, func(c diff.Change) bool {
			return objects.NamesColumn(s.Engine.SQL(), o, c.Table, "")
		})
	}
	first, last := s.follows()
	s.goWith(p, tables, names)
	put := func(how objects.How) error {
		how.Touched, how.ViewsFirst, how.DropPart = touched, s.viewsFirst(), s.dropPart
		how.Retype = s.retype
		around, err := objects.Steps(s.Engine, s.sql.changes, s.sql.there, how)
		if err == nil {
			s.sql.aside = around.Aside
			in := func(list []engine.Step) []engine.Step { return engine.Schedule(s.Engine.DDL(), list) }
			p.Steps = slices.Concat(ground, first, in(around.First), tables[:names], in(around.Before), tables[names:],
				in(around.After), last)
		}
		return err
	}
	if err := s.tryWays(ctx, p, put); err != nil {
		return err
	}
	for _, c := range append(lost, s.sql.changes...) {
		p.Changes = append(p.Changes, c.Diff(s.Wanted.Objects))
	}
	diff.Group(p.Changes)
	return nil
}

// tryWays tries ways in which what is there can be changed and dropped, on scratch, until one goes:
// the one that disturbs least first.
func (s *State) tryWays(ctx context.Context, p *plan.Plan, put func(objects.How) error) error {
	kept := func(was *objects.Object) bool { return s.taken(p, was) == nil }
	never := func(*objects.Object) bool { return false }
	ways := []objects.How{
		{InPlace: kept, Alone: true}, {InPlace: kept}, {InPlace: never, Alone: true}, {InPlace: never},
	}
	disturbs := slices.ContainsFunc(s.sql.changes, func(c objects.Change) bool { return c.Was != nil })
	if s.unasked || len(p.Questions) > 0 || !disturbs {
		return put(ways[0])
	}
	for _, how := range ways {
		if err := put(how); err != nil {
			return err
		}
		if s.goes(ctx, p) == nil {
			return nil
		}
	}
	return put(ways[len(ways)-1]) // the proof says why not
}

// lost are the changes that bring back what migrations created and somebody dropped here. They are
// taken out of those for which there are steps.
func (s *sqlState) lost() (out []objects.Change) {
	s.changes = slices.DeleteFunc(s.changes, func(c objects.Change) bool {
		lost := c.Was == nil && s.line[c.Now.ObjectKey]
		if lost {
			out = append(out, c)
		}
		return lost
	})
	return out
}

// dropped are the answers about what existed before the migrations and is no longer declared in SQL,
// which are taken out of the others.
func (s *State) dropped(a plan.Answers) plan.Answers {
	drop := map[string]bool{}
	s.sql.asked = map[engine.ObjectKey]bool{}
	for name := range a.Drop {
		hit := false
		for _, o := range s.sql.ahead {
			if o.OfKind == "" && (o.Name == name || o.Of+"."+objects.ShortName(o) == name) &&
				objects.Find(s.sql.made.Objects, o.ObjectKey) == nil {
				s.sql.line[o.ObjectKey], hit = true, true
				s.sql.asked[o.ObjectKey] = o.Kind == engine.Part
			}
		}
		if !hit {
			drop[name] = true
		}
	}
	a.Drop = drop
	return a
}

// goes says why the steps of a plan cannot be run on scratch, and undone; nil: they can.
func (s *State) goes(ctx context.Context, p *plan.Plan) error {
	m := planned("try", 0, s.Engine, p).Bound(s.Engine, nil, nil)
	list := []*migration.Migration{m}
	_, _, err := proof.After(ctx, s.Engine, s.Upcoming, nil, list, func(db engine.Database) error {
		for _, sql := range s.attachedBefore() {
			_ = db.Exec(ctx, sql)
		}
		if err := proof.Run(ctx, db, s.Engine, m, false); err != nil {
			return err
		}
		return proof.Run(ctx, db, s.Engine, m, true)
	})
	return err
}

// wantedObjects are the objects that are wanted. What cannot be created on scratch, and is there in
// just these words, stays as it is; with strict, it is an error where the change would break it.
func (s *State) wantedObjects(ctx context.Context, strict bool) ([]*objects.Object, error) {
	wanted := slices.Clone(s.sql.made.Objects)
	if o := s.sql.made.Unseen(s.Wanted.Objects); o != nil {
		return nil, fmt.Errorf("%s:%d: %s %s leaves nothing by which it could be compared: create it with erbario draft --by-hand",
			o.Path, o.Line, o.Kind, o.Name)
	}
	var before *objects.Made
	for _, f := range s.sql.made.Failed {
		if objects.IsTable(f.Object) || s.brokenThere(f) { // it stays
			continue
		}
		there := slices.DeleteFunc(slices.Clone(s.sql.there), func(o *objects.Object) bool {
			return objects.Source([]*sqlschema.Object{f.Object}, o) == nil
		})
		if len(there) == 0 {
			return nil, f
		}
		if before == nil {
			var err error
			as := sqlschema.Schema{Tables: s.Upcoming.Tables, Objects: s.Wanted.Objects}
			if before, err = objects.Make(ctx, s.Engine, &as, s.Upcoming); err != nil {
				return nil, err
			}
		}
		failed := slices.ContainsFunc(before.Failed, func(o objects.Failure) bool { return o.Object == f.Object })
		if !failed && strict {
			return nil, &StaleError{Failure: f}
		}
		said := slices.ContainsFunc(there,
			func(o *objects.Object) bool { return objects.Says(s.Engine.SQL(), f.Object, o) })
		if failed && !said { // nobody can tell what is meant
			return nil, f
		}
		for _, o := range there {
			if objects.Find(wanted, o.ObjectKey) == nil {
				wanted = append(wanted, o)
			}
		}
		if !failed {
			continue
		}
		if err := s.lacks([]engine.LeftOut{{Kind: there[0].Kind, Name: there[0].Name, Err: f.Err}}); err != nil {
			return nil, err
		}
	}
	return wanted, nil
}

// brokenThere tells whether something can be created and does not work, and is there just so.
func (s *State) brokenThere(f objects.Failure) bool {
	for _, o := range s.sql.made.Objects {
		if objects.Source([]*sqlschema.Object{f.Object}, o) != nil {
			was := objects.Find(s.sql.there, o.ObjectKey)
			return was != nil && objects.Same(was, o)
		}
	}
	return false
}

// namesFirst is with how many steps a plan begins that change names.
func (s *State) namesFirst(list []engine.Step) int {
	for i, st := range list {
		if st.Early {
			continue
		}
		if !slices.ContainsFunc(st.Apply, func(sql string) bool {
			r, ok := migration.ReadRename(s.Engine, sql)
			return ok && !schema.Own(r.To)
		}) {
			return i
		}
	}
	return len(list)
}

// goneName is a table, or a column of one, whose name a plan takes away, or gives to another.
type goneName struct {
	table, column string
	dropped       bool // and not renamed
	another       bool
}

func (g goneName) String() string { return strings.TrimSuffix(g.table+"."+g.column, ".") }

// gone are the names that a plan takes away: of what it drops, and the former ones of what it renames.
func (s *State) gone(p *plan.Plan) []goneName {
	var out []goneName
	for _, c := range p.Changes {
		if c.Kind == diff.DropColumn || c.Kind == diff.DropTable {
			out = append(out, goneName{c.Table, c.Name, true, false})
		}
	}
	renames := plan.Answers{Rename: s.newNames}
	for _, r := range s.newNames {
		table, _ := renames.After(r.Table, "")
		now := s.Wanted.Table(table)
		another := r.Column == "" && s.Wanted.Table(r.Table) != nil ||
			r.Column != "" && now != nil && now.Column(r.Column) != nil
		if r.Value == "" {
			out = append(out, goneName{r.Table, r.Column, false, another})
		}
	}
	return out
}

// taken is what an object names and a plan takes away: a table or a column; nil: nothing.
func (s *State) taken(p *plan.Plan, o *objects.Object) *goneName {
	for _, g := range s.gone(p) {
		if objects.NamesColumn(s.Engine.SQL(), o, g.table, g.column) {
			return &g
		}
	}
	return nil
}

// stale refuses a change that takes away what the unchanged text of something declared names, where
// the server would not say so.
func (s *State) stale(p *plan.Plan) error {
	if s.leaveBroken {
		return nil
	}
	for _, o := range s.sql.made.Objects {
		was, source := objects.Find(s.sql.there, o.ObjectKey), objects.Source(s.Wanted.Objects, o)
		if was == nil { // of a table that has another name now
			i := slices.IndexFunc(s.sql.there, func(x *objects.Object) bool {
				return x.Before != nil && x.Before.ObjectKey == o.ObjectKey
			})
			if i >= 0 {
				was = s.sql.there[i]
			}
		}
		if was == nil || source == nil {
			continue
		}
		same, asBefore := objects.Same(was, o), was.Before != nil && objects.Same(was.Before, o)
		// A server that follows names knows what all that it reads at once means.
		follows := same && s.Engine.Caps().Depends && objects.Resolved(o)
		if g := s.taken(p, o); g != nil && (same || asBefore) && (g.dropped || !follows) {
			return &StaleError{Failure: objects.Failure{Object: source}, Names: g.String(), Another: g.another}
		}
	}
	return nil
}

// triggersInSQL are the triggers that are declared in SQL, or were.
func (s *State) triggersInSQL() []engine.ObjectKey {
	var out []engine.ObjectKey
	add := func(key engine.ObjectKey) {
		if key.Kind == "trigger" {
			out = append(out, key)
		}
	}
	if s.sql == nil {
		return nil
	}
	for key := range s.sql.line {
		add(key)
	}
	if s.sql.made != nil {
		for _, o := range s.sql.made.Objects {
			add(o.ObjectKey)
		}
	}
	slices.SortFunc(out, func(a, b engine.ObjectKey) int { return strings.Compare(a.Of+" "+a.Name, b.Of+" "+b.Name) })
	return slices.Compact(out)
}

// handled are the triggers, by table, to which the steps of the objects see.
func (s *State) handled() map[string][]string {
	out := map[string][]string{}
	if s.sqlLater {
		return out
	}
	for _, key := range s.triggersInSQL() {
		out[key.Of] = append(out[key.Of], key.Name)
	}
	return out
}
