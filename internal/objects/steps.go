package objects

// This file makes steps of the differences: what goes is dropped before the tables change, what
// stands on tables comes behind them.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/words"
)

// Plan is the steps of what is declared in SQL: before names change, before tables change, and after
// both.
type Plan struct {
	First, Before, After []engine.Step
	// Aside are the objects that are dropped and created again, since they stand on others that
	// are.
	Aside []*Object
}

// NotDroppedError says that something can neither be changed in place nor dropped.
type NotDroppedError struct{ Object *Object }

func (e *NotDroppedError) Error() string {
	return fmt.Sprintf("%s cannot be changed like this without losing what it holds: "+
		"change it with erbario draft --by-hand", Words(e.Object))
}

// Steps gives the steps of changes. there is all that the database holds. What may be replaced where
// it stands is, if it can be; all else that changes is dropped first.
func Steps(e Engine, changes []Change, there []*Object, how How) (*Plan, error) {
	p := &planning{
		How: how, e: e, words: e.DDL().(engine.ObjectWords), there: there, changes: changes,
		out: &Plan{}, gone: map[engine.ObjectKey]bool{}, missing: map[string]bool{},
		retyped: map[*Object]*Retyped{},
	}
	return p.out, p.run()
}

// How says how steps are to be.
type How struct {
	InPlace func(was *Object) bool // it may be replaced where it stands, behind the steps of the tables
	Touched func(o *Object) bool   // it names what the steps of the tables change
	Alone   bool                   // what seems to stand on what is dropped stays
	// ViewsFirst: they are dropped before names change.
	ViewsFirst bool
	// DropPart is the step that takes a part out of its table with its rows; false: there is none.
	DropPart func(o *Object) (engine.Step, bool)
	// Retype is how columns take a type that is another under the same name; nil: none is of it. false: they cannot.
	Retype func(c Change) (*Retyped, bool)
}

// Retyped is how columns take another type, which is created while the old one still exists, renamed.
type Retyped struct {
	Columns       []engine.Loss // those columns
	Rename, Drop  string        // of the old type, and then of what waits
	Forward, Back []string      // the statements by which the columns take the new type, and the old one
}

type planning struct {
	How
	e       Engine
	words   engine.ObjectWords
	there   []*Object
	changes []Change
	out     *Plan
	gone    map[engine.ObjectKey]bool // that are dropped
	retyped map[*Object]*Retyped      // types that change under their columns, as they were
	missing map[string]bool           // the triggers that do not exist at the step at hand
}

func (p *planning) run() error {
	going, err := p.dropped()
	if err != nil {
		return err
	}
	going = p.withDependents(going)
	for _, o := range going {
		p.gone[o.ObjectKey] = true
	}
	going = slices.DeleteFunc(going, func(o *Object) bool { // it goes with what it belongs to
		return slices.ContainsFunc(going, func(of *Object) bool { return About(o, of) })
	})
	var early, late []*Object
	for _, o := range p.dropOrder(going) {
		if p.retyped[o] != nil { // it waits
			continue
		}
		if standing[o.Kind] || p.comesAgain(o) {
			early = append(early, o)
		} else {
			late = append(late, o)
		}
	}
	for _, o := range early {
		if o.Kind == "view" && p.ViewsFirst {
			p.out.First = append(p.out.First, p.dropStep(o))
		} else {
			p.out.Before = append(p.out.Before, p.dropStep(o))
		}
	}
	replaced := map[*Object]Change{}
	list := p.coming()
	for _, c := range p.changes {
		if c.Was != nil && c.Now != nil && !p.gone[c.Was.ObjectKey] && !p.belongs(c.Now) {
			replaced[c.Now] = c
			list = append(list, c.Now)
		}
	}
	var behind []*Object // the tables
	for _, o := range inDependency(list, p.standsOn) {
		put := func(ahead bool, st engine.Step) {
			waits := func(x *Object) bool { return types[o.Kind] && p.standsOn(o, x) }
			if ahead && !slices.ContainsFunc(behind, waits) {
				p.out.Before = append(p.out.Before, st)
				return
			}
			p.out.After, behind = append(p.out.After, st), append(behind, o)
		}
		c, inPlace := replaced[o]
		switch was := Find(p.there, o.ObjectKey); {
		case p.retyped[was] != nil:
			put(true, p.retypeStep(o, was))
		case inPlace:
			put(false, p.replaceStep(c))
		default:
			put(!standing[o.Kind] && (!p.gone[o.ObjectKey] || types[o.Kind]) && !p.Touched(o), p.comeStep(o))
		}
	}
	for _, o := range late {
		p.out.After = append(p.out.After, p.dropStep(o))
	}
	return nil
}

// dropped are the objects that are dropped by what changes, and the types that wait.
func (p *planning) dropped() (going []*Object, err error) {
	for _, c := range p.changes {
		part := c.Object().Kind == engine.Part
		if c.Was == nil || c.Now != nil && (part || p.InPlace(c.Was)) && p.replaceable(c) {
			continue
		}
		if part && c.Now == nil {
			if _, ok := p.DropPart(c.Was); !ok {
				return nil, &NotDroppedError{c.Was}
			}
		} else if part {
			return nil, &NotDroppedError{c.Was}
		}
		if holding[c.Was.Kind] || len(p.drop(c.Was)) == 0 && !p.withParent(c.Was) {
			return nil, &NotDroppedError{c.Was}
		}
		going = append(going, c.Was)
		if c.Now != nil {
			r, ok := p.Retype(c)
			if !ok {
				return nil, &NotDroppedError{c.Was}
			}
			if r != nil {
				p.retyped[c.Was] = r
			}
		}
	}
	return going, nil
}

// now is what an object is to be; nil: it goes. What does not change is as it was.
func (p *planning) now(o *Object) *Object {
	for _, c := range p.changes {
		if c.Object().ObjectKey == o.ObjectKey {
			return c.Now
		}
	}
	return Find(p.there, o.ObjectKey)
}

// comesAgain tells whether an object is created again.
func (p *planning) comesAgain(o *Object) bool { return p.now(o) != nil }

// replaceable tells whether an object can be put in the place of the one that there is.
func (p *planning) replaceable(c Change) bool {
	return p.words.ReplaceObject(c.Was.Make[0], c.Now.Make[0]) != ""
}

// withParent tells whether an object is dropped and created with what it belongs to.
func (p *planning) withParent(o *Object) bool {
	return slices.ContainsFunc(p.changes, func(c Change) bool { return c.Was != nil && About(o, c.Was) })
}

// withDependents adds what stands on what is dropped, where the server would refuse to drop it.
func (p *planning) withDependents(going []*Object) []*Object {
	if p.Alone {
		return going
	}
	for i := 0; i < len(going); i++ {
		of := going[i]
		if more(of) || of.Kind == "trigger" || of.Kind == "policy" {
			continue
		}
		for _, o := range p.there {
			if o == of || slices.Contains(going, o) || o.OfKind != "" || more(o) || o.Kind == engine.Part ||
				!names(p.e.SQL(), o, plain(of.Name)) && !p.overColumns(o, of) || len(p.drop(o)) == 0 {
				continue
			}
			going = append(going, o)
			if !slices.ContainsFunc(p.changes, func(c Change) bool { return c.Object().ObjectKey == o.ObjectKey }) {
				p.out.Aside = append(p.out.Aside, o)
			}
		}
	}
	return going
}

// overColumns tells whether an object stands on a column that takes another type.
func (p *planning) overColumns(o, of *Object) bool {
	return standing[o.Kind] && p.retyped[of] != nil && slices.ContainsFunc(p.retyped[of].Columns,
		func(l engine.Loss) bool { return NamesColumn(p.e.SQL(), o, l.Table, l.Column) })
}

// inDependency puts objects in an order: each behind those of the others that are first.
func inDependency(list []*Object, first func(o, other *Object) bool) []*Object {
	var out []*Object
	seen := map[*Object]bool{}
	var visit func(o *Object)
	visit = func(o *Object) {
		if seen[o] {
			return
		}
		seen[o] = true
		for _, other := range list {
			if other != o && first(o, other) {
				visit(other)
			}
		}
		out = append(out, o)
	}
	for _, o := range list {
		visit(o)
	}
	return out
}

// standsOn tells whether an object names another, or belongs to it. Nothing stands on a comment or a right, which
// have the name of what they are about.
func (p *planning) standsOn(o, other *Object) bool {
	return About(o, other) || !more(other) && names(p.e.SQL(), o, plain(other.Name))
}

// more tells whether an object only says more of another: a comment, or rights.
func more(o *Object) bool { return o.Kind == "comment" || strings.HasPrefix(o.Kind, "rights") }

// dropOrder puts what stands on another before that.
func (p *planning) dropOrder(list []*Object) []*Object {
	return inDependency(list, func(o, other *Object) bool { return p.standsOn(other, o) })
}

// drop gives the statements that drop an object.
func (p *planning) drop(o *Object) []string {
	var out []string
	for _, c := range slices.Backward(o.Make) {
		for _, sql := range p.words.DropObject(c) {
			if (c.Kind == o.Kind || len(o.Make) == 1) && !slices.Contains(out, sql) {
				out = append(out, sql)
			}
		}
	}
	return out
}

// dropWith drops an object, and before it the rights and comments that it has: a view that is
// created again in one transaction gets back those that it had.
func (p *planning) dropWith(o *Object, parts []*Object) []string {
	var out []string
	for _, x := range parts {
		if About(x, o) && more(x) && strings.HasSuffix(o.Kind, "view") {
			out = append(out, p.drop(x)...)
		}
	}
	return append(out, p.drop(o)...)
}

// create gives the statements that create an object.
func (p *planning) create(o *Object) []string {
	var out []string
	for _, c := range o.Make {
		if p.missing[c.Behind] {
			c.Behind = ""
		}
		if p.missing[c.Ahead] {
			c.Ahead = ""
		}
		out = append(out, strings.TrimRight(strings.TrimSpace(p.words.CreateObject(c)), ";"))
	}
	return out
}

// whole gives the statements that create an object with all that belonged to it.
func (p *planning) whole(o *Object) []string {
	out := p.create(o)
	for _, x := range p.there {
		if About(x, o) {
			out = append(out, p.create(x)...)
		}
	}
	return out
}

// coming are the objects that are created: new ones, and those that were dropped.
func (p *planning) coming() []*Object {
	var out []*Object
	for _, c := range p.changes {
		if c.Now != nil && (c.Was == nil || p.gone[c.Was.ObjectKey]) && !p.belongs(c.Now) {
			out = append(out, c.Now)
		}
	}
	return append(out, p.out.Aside...)
}

// belongs tells whether an object comes in the step of what it belongs to.
func (p *planning) belongs(o *Object) bool {
	return slices.ContainsFunc(p.out.Aside, func(of *Object) bool { return About(o, of) }) ||
		slices.ContainsFunc(p.changes, func(c Change) bool {
			return c.Now != nil && c.Now != o && About(o, c.Now) && (c.Was == nil || p.gone[c.Was.ObjectKey])
		})
}

// parts are the objects that come in the step of another: as they are declared, or else as they
// were.
func (p *planning) parts(o *Object) []*Object {
	var out []*Object
	for _, c := range p.changes {
		if c.Now != nil && About(c.Now, o) {
			out = append(out, c.Now)
		}
	}
	for _, x := range p.there {
		if About(x, o) && p.now(x) == x {
			out = append(out, x)
		}
	}
	return out
}

// dropStep drops an object.
func (p *planning) dropStep(o *Object) engine.Step {
	st := engine.Step{Title: title("drop ", o), Apply: p.dropWith(o, p.there), Undo: p.whole(o)}
	if o.Kind == engine.Part {
		said := st.Title
		st, _ = p.DropPart(o)
		st.Title = said
	}
	p.missing[o.Name] = o.Kind == "trigger"
	if p.comesAgain(o) {
		st.Title += ", which is created again"
	} else {
		st.Objects = p.marks(true, o)
	}
	for _, c := range p.changes {
		if c.Now == nil && About(c.Was, o) {
			st.Objects = append(st.Objects, p.marks(true, c.Was)...)
		}
	}
	return st
}

func (p *planning) comeStep(o *Object) engine.Step {
	if was := Find(p.there, o.ObjectKey); was != nil && was != o { // in its place
		placed := *o
		placed.Make = slices.Clone(o.Make)
		placed.Make[0].Behind, placed.Make[0].Ahead = was.Make[0].Behind, was.Make[0].Ahead
		o = &placed
	}
	st := engine.Step{Title: title("create ", o), Apply: p.create(o), Undo: p.dropWith(o, p.parts(o))}
	if o.Kind == engine.Part {
		st.UndoLoses = []engine.Loss{{Table: o.Name}}
	}
	delete(p.missing, o.Name)
	if p.gone[o.ObjectKey] {
		st.Title += " again"
	}
	list := []*Object{o}
	for _, x := range p.parts(o) {
		st.Apply = append(st.Apply, p.create(x)...)
		list = append(list, x)
	}
	st.Objects = p.marks(false, list...)
	return st
}

// retypeStep puts a type in the place of one that has columns.
func (p *planning) retypeStep(o, was *Object) engine.Step {
	r, parts := p.retyped[was], p.parts(o)
	apply := append([]string{r.Rename}, p.create(o)...)
	for _, x := range parts {
		apply = append(apply, p.create(x)...)
	}
	return engine.Step{
		Title:   "change " + Words(o) + ", and convert " + words.Join(r.Columns),
		Apply:   append(append(apply, r.Forward...), r.Drop),
		Undo:    append(append(append([]string{r.Rename}, p.whole(was)...), r.Back...), r.Drop),
		Work:    engine.Rewrites,
		Objects: p.marks(false, append([]*Object{o}, parts...)...),
	}
}

func (p *planning) replaceStep(c Change) engine.Step {
	replace := func(o, other *Object) []string {
		var out []string
		for _, x := range slices.Backward(other.Make) { // rights and comments that the other has not
			if x.Kind != other.Kind || strings.HasPrefix(x.Kind, "rights") {
				if !slices.ContainsFunc(o.Make, func(y engine.Creation) bool { return y.SQL == x.SQL }) {
					out = append(out, p.words.DropObject(x)...)
				}
			}
		}
		first := o.Make[0]
		first.Behind, first.Ahead = c.Was.Make[0].Behind, c.Was.Make[0].Ahead
		if sql := p.words.ReplaceObject(other.Make[0], first); sql != "" {
			out = append(out, sql)
		}
		return append(out, p.create(&Object{Make: o.Make[1:]})...)
	}
	return engine.Step{
		Title: "change " + Words(c.Now), Apply: replace(c.Now, c.Was), Undo: replace(c.Was, c.Now),
		Objects: p.marks(false, c.Now),
	}
}

// marks are the lines by which a step says what belongs to the line of migrations from there on.
func (p *planning) marks(gone bool, list ...*Object) []engine.StepObject {
	var out []engine.StepObject
	for _, o := range list {
		if slices.ContainsFunc(p.changes, func(c Change) bool { return c.Object().ObjectKey == o.ObjectKey }) {
			out = append(out, engine.StepObject{ObjectKey: o.ObjectKey, Gone: gone})
		}
	}
	return out
}

// title is what a step does with an object. What only says more of something is neither created
// nor dropped.
func title(verb string, o *Object) string {
	comes := verb == "create "
	switch {
	case strings.HasPrefix(o.Kind, "rights"):
		verb = map[bool]string{true: "give ", false: "take away "}[comes]
	case o.Kind == "row security of":
		verb = map[bool]string{true: "enable ", false: "disable "}[comes]
	case o.Kind == "comment" && comes:
		verb = "add "
	}
	return verb + Words(o)
}

// Words are an object in words, such as "trigger loans_log of loans".
func Words(o *Object) string {
	if o.Of == "" || o.Of == o.Name {
		return strings.TrimSpace(o.Kind + " " + o.Name)
	}
	return kindWords(o) + " " + ShortName(o) + " of " + o.Of
}
