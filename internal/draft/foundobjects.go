package draft

// This file has a migration create, where it is missing, what exists in the database, is declared in SQL, and was
// created by no migration.

import (
	"maps"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/plan"
	"erbario/internal/sqlschema"
)

// finding is what a line of migrations says of objects.
type finding struct {
	d     engine.Dialect
	words engine.ObjectWords
	line  []*migration.Migration
	said  map[string]bool // their statements, by objects.WordsOf; nil: nobody has asked yet
	named map[string]bool // the names in them, in lower case
	known map[string]bool // what they found, by kind and name in lower case
}

func (s *State) finding(line []*migration.Migration) *finding {
	f := &finding{d: s.Engine.SQL(), words: s.Engine.DDL().(engine.ObjectWords), line: line,
		named: migration.Names(line, s.Engine), known: migration.FoundObjects(line)}
	maps.Copy(f.named, migration.FoundNames(line, s.Engine))
	return f
}

// says tells whether a migration has a statement, word for word.
func (f *finding) says(sql string) bool {
	if f.said == nil {
		f.said = map[string]bool{}
		for _, m := range f.line {
			for _, sql := range slices.Concat(m.SQL(false), m.FoundSQL()) {
				f.said[objects.WordsOf(f.d, sql)] = true
			}
		}
	}
	return f.said[objects.WordsOf(f.d, sql)]
}

// isNamed tells whether a migration names an object.
func (f *finding) isNamed(kind, name, short string) bool {
	return f.known[kind+" "+strings.ToLower(name)] || f.named[strings.ToLower(short)]
}

// again are statements that create an object as often as they are run, where there are some and no migration has
// them.
func (f *finding) again(o *objects.Object) []string {
	var out []string
	for _, c := range o.Make {
		sql := f.words.AgainObject(c)
		if sql == "" || f.says(sql) || f.says(c.SQL) {
			return nil
		}
		out = append(out, sql)
	}
	return out
}

// statements create an object, as often as they are run where that is possible.
func (f *finding) statements(o *objects.Object) []string {
	out := f.again(o)
	if out == nil {
		for _, c := range o.Make {
			out = append(out, c.SQL)
		}
	}
	for i, sql := range out {
		out[i] = strings.TrimRight(strings.TrimSpace(sql), ";")
	}
	return out
}

// missing tells whether no migration creates an object that exists.
func (f *finding) missing(o *objects.Object) bool {
	if f.words.AgainObject(o.Make[0]) != "" {
		return f.again(o) != nil
	}
	return !f.isNamed(o.Kind, o.Name, objects.ShortName(o))
}

// found adds to a plan what exists here, is declared in SQL and was created by no migration.
func (s *State) found(p *plan.Plan) error {
	line, err := s.line()
	if err != nil || len(s.Status.Pending) > 0 || len(p.Questions) > 0 {
		return err
	}
	f := s.finding(line)
	var list []*objects.Object
	for _, o := range s.sql.wanted {
		there := objects.Find(s.sql.there, o.ObjectKey)
		was := there
		if there != nil && there.Before != nil {
			was = there.Before // it is created before names change
		}
		switch {
		case there != nil && !s.sql.line[was.ObjectKey] && f.missing(was):
			if was == there && objects.Same(there, o) {
				was = o // as its file says: users of this server are not those of others
			}
			list = append(list, was)
		case there == nil && s.sql.line[o.ObjectKey]: // dropped outside Erbario
			list = append(list, o)
		}
	}
	var titles []string
	for _, o := range list {
		found := plan.Found{Kind: o.Kind, Table: o.Name}
		about := func(x *objects.Object) bool { return objects.About(o, x) }
		switch {
		case slices.ContainsFunc(list, about): // it comes with that
			continue
		case f.again(o) != nil:
			if i := slices.IndexFunc(s.sql.there, about); i >= 0 {
				s.sql.stood = append(s.sql.stood, s.sql.there[i])
			}
		case o.OfKind != "":
			continue
		case o.Kind == "trigger", o.Kind == engine.Exclusion:
			found = plan.Found{Table: o.Of, Beside: o.Name}
		case o.Of != "" && o.Kind != "policy":
			continue
		}
		found.Make = f.statements(o)
		for _, x := range s.sql.wanted {
			if objects.About(x, o) {
				found.Make = append(found.Make, f.statements(x)...)
			}
		}
		p.Found = append(p.Found, found)
		titles = append(titles, objects.Words(o))
	}
	for _, x := range s.foundEnums(f) {
		p.Found = append(p.Found, plan.Found{Kind: x.Kind, Table: x.Name, Make: x.Make})
		titles = append(titles, x.Kind+" "+x.Name)
	}
	if len(titles) > 0 && len(p.Steps) == 0 {
		p.Steps = append(p.Steps, engine.Step{Title: "have " + strings.Join(titles, ", "),
			Note: "created above if missing; nothing else to do"})
	}
	return nil
}

// foundEnums are the enum types that are declared in SQL, exist here just so, and are named by no migration.
func (s *State) foundEnums(f *finding) []*sqlschema.Other {
	if s.sql.made == nil {
		return nil
	}
	var out []*sqlschema.Other
	for _, x := range s.sql.made.Enums {
		live := s.Live.Enum(x.Name)
		if live != nil && slices.Equal(live.Values, x.Values) && !f.isNamed(x.Kind, x.Name, x.Name) {
			out = append(out, x)
		}
	}
	return out
}
