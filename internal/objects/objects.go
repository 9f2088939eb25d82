// Package objects is what is declared in SQL next to the models: views, functions, triggers, rights
// and the like. What is wanted is what the server itself makes of the statements on scratch, read
// back; it is compared with what the database holds, in the same words.
//
//	made, err := objects.Make(ctx, e, wanted, live)
//	for _, c := range objects.Compare(there, made.Objects, line, nil) {
//		fmt.Println(c.Sign(), c.Object().Kind, c.Object().Name) // + view recent_loans
//	}
package objects

import (
	"context"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// Engine is what is needed of an engine.
type Engine interface {
	Name() string
	Caps() engine.Caps
	SQL() engine.Dialect
	DDL() engine.Compiler
	OwnTables() engine.OwnTables
	Scratch(ctx context.Context) (engine.Database, error)
}

// Object is one thing with the statements that create it, and what says more of it alone, such as
// its state.
type Object struct {
	engine.ObjectKey
	OfKind string // the kind of what it belongs to; empty: a table
	Make   []engine.Creation
	// Before is the object as it is before tables and columns are renamed; nil: the same.
	Before *Object
}

// Same tells whether two objects are the same to their engine. now is the declared one: what it
// does not say, such as with whose rights it runs, does not count.
func Same(was, now *Object) bool {
	return slices.EqualFunc(was.Make, now.Make, func(a, b engine.Creation) bool {
		return a.SQL == b.SQL || form(a) == form(b) && !saysMore(b)
	})
}

// Alike tells whether two objects are the same but for what no file needs to say.
func Alike(a, b *Object) bool {
	return slices.EqualFunc(a.Make, b.Make, func(a, b engine.Creation) bool { return form(a) == form(b) })
}

func form(c engine.Creation) string {
	if c.Form != "" {
		return c.Form
	}
	return c.SQL
}

// saysMore tells whether a statement has in it what its form leaves out.
func saysMore(c engine.Creation) bool {
	return strings.Contains(c.SQL, " DEFINER=") || c.Kind == "event" && strings.Contains(c.SQL, " STARTS '")
}

// attached are the kinds that are part of what they belong to: they come with it.
var attached = map[string]string{
	"more of " + engine.Part: engine.Part, "options of": "view", "state of trigger": "trigger", "state of rule": "rule",
}

// Of groups creations into objects, in their order.
func Of(list []engine.Creation) []*Object {
	var out []*Object
	at := map[engine.ObjectKey]*Object{}
	for _, c := range list {
		key := engine.ObjectKey{Kind: c.Kind, Name: c.Name, Of: c.Of}
		if kind := attached[c.Kind]; kind != "" {
			if key.Kind = kind; kind == "view" {
				key.Of = ""
			}
		}
		o := at[key]
		if o == nil {
			o = &Object{ObjectKey: key, OfKind: c.OfKind}
			if c.Kind != key.Kind && key.Of == "" {
				o.OfKind = ""
			}
			at[key] = o
			out = append(out, o)
		}
		o.Make = append(o.Make, c)
	}
	return out
}

// Read reads the objects of a database.
func Read(ctx context.Context, db engine.Database, s *sqlschema.Schema) ([]*Object, error) {
	v, ok := engine.As[engine.Verbatim](db)
	if !ok {
		return nil, nil
	}
	list, err := v.Objects(ctx, s)
	return Of(list), err
}

// Find is the object with a key, or nil.
func Find(list []*Object, key engine.ObjectKey) *Object {
	for _, o := range list {
		if o.ObjectKey == key {
			return o
		}
	}
	return nil
}

// standing are the kinds that stand on tables: they are created after them, and dropped before.
var standing = map[string]bool{
	"view": true, "materialised view": true, "trigger": true, "policy": true, "rule": true, "statistics": true,
	"row security of": true, "comment": true, "rights on": true, "index": true, "rights": true, "publication": true,
	"event trigger": true, engine.Exclusion: true, engine.Part: true, "constraint": true,
}

// types are the kinds of which columns can be: where one is created again, tables may need it.
var types = map[string]bool{"domain": true, "composite type": true, "range type": true}

// About tells whether an object belongs to another, and is dropped with it: what is of it, and the comment on
// what belongs to the same table.
func About(o, of *Object) bool {
	if o.OfKind != "" && o.OfKind == of.Kind && o.Of == of.Name {
		return true
	}
	word := commented[of.Kind]
	return o.Kind == "comment" && word != "" && o.OfKind == of.OfKind && o.Of == of.Of && o.Name == ShortName(of) &&
		strings.HasPrefix(o.Make[0].SQL, "COMMENT ON "+word+" ")
}

// commented are the words of COMMENT for what belongs to a table or a view.
var commented = map[string]string{
	"trigger": "TRIGGER", "policy": "POLICY", "rule": "RULE", "statistics": "STATISTICS", "index": "INDEX",
	engine.Exclusion: "CONSTRAINT", "constraint": "CONSTRAINT",
}

// compared tells whether an object is compared where it is declared.
func compared(o *Object) bool { return o.Kind != "owner of" }

// names tells whether the statements of an object name something.
func names(d engine.Dialect, o *Object, name string) bool {
	for _, c := range o.Make {
		if !strings.Contains(strings.ToLower(c.SQL), strings.ToLower(name)) {
			continue
		}
		if mentions(d, c.SQL, name) {
			return true
		}
	}
	return false
}

// mentions tells whether SQL, or SQL in a text of it such as a body, has a name in it.
func mentions(d engine.Dialect, sql, name string) bool {
	for _, t := range d.Lex(sql) {
		switch {
		case t.Named() && strings.EqualFold(t.Name(), name):
			return true
		case t.Val != "" && t.Val != sql && !t.Named() && len(t.Val) > len(name) &&
			strings.Contains(strings.ToLower(t.Val), strings.ToLower(name)) && mentions(d, t.Val, name):
			return true
		}
	}
	return false
}

// holding are the kinds that hold what no undo could bring back: they are not dropped once they are
// no longer declared, and not to be replaced.
var holding = map[string]bool{"sequence": true, "extension": true}

// kindWords are the kind of an object in words.
func kindWords(o *Object) string { return strings.TrimSuffix(strings.TrimSuffix(o.Kind, " of"), " on") }

// ShortName is the name of an object without what it belongs to.
func ShortName(o *Object) string { return strings.TrimSuffix(o.Name, " of "+o.Of) }

// Mentions tells whether SQL has the name of an object in it.
func Mentions(d engine.Dialect, sql string, o *Object) bool { return mentions(d, sql, plain(o.Name)) }

// plain is the name of a function without the types that it takes.
func plain(name string) string {
	out, _, _ := strings.Cut(name, "(")
	return out
}

// NamesColumn tells whether an object names a table, and a column where one is given, in its
// statements or their bodies.
func NamesColumn(d engine.Dialect, o *Object, table, column string) bool {
	return (strings.EqualFold(o.Of, table) || names(d, o, table)) && (column == "" || names(d, o, column))
}
