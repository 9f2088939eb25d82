// Package diff compares two schemas of one engine and names every change that makes one the
// other, in the engine's canonical forms, so that what was just applied differs in nothing.
// The words for a change come from what was declared, where it was:
//
//	for _, c := range diff.Schemas(live, wanted) {
//		fmt.Println(c.Kind.Sign(), c.Target(), c.What) // + specimens.label varchar(40) required
//	}
package diff

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Kind names what a change does and to what.
type Kind string

// The kinds of change.
const (
	AddTable      Kind = "add table"
	DropTable     Kind = "drop table"
	AddColumn     Kind = "add column"
	DropColumn    Kind = "drop column"
	ChangeType    Kind = "change type"
	MakeRequired  Kind = "make required"
	MakeOptional  Kind = "make optional"
	ChangeDefault Kind = "change default"
	ChangeColumn  Kind = "change column"
	ChangeKey     Kind = "change key"
	AddUnique     Kind = "add unique"
	DropUnique    Kind = "drop unique"
	ChangeUnique  Kind = "change unique"
	AddIndex      Kind = "add index"
	DropIndex     Kind = "drop index"
	ChangeIndex   Kind = "change index"
	AddReference  Kind = "add reference"
	DropReference Kind = "drop reference"
	ChangeRef     Kind = "change reference"
	AddCheck      Kind = "add check"
	DropCheck     Kind = "drop check"
	ChangeCheck   Kind = "change check"
	AddTrigger    Kind = "add trigger"
	DropTrigger   Kind = "drop trigger"
	ChangeTrigger Kind = "change trigger"
	ChangeOptions Kind = "change table"
	ChangeOrder   Kind = "change order"
	AddView       Kind = "add view"
	DropView      Kind = "drop view"
	ChangeView    Kind = "change view"
	AddEnum       Kind = "add enum"
	DropEnum      Kind = "drop enum"
	ChangeEnum    Kind = "change enum"
	AddRow        Kind = "add row"
	DropRow       Kind = "drop row"
	ChangeRow     Kind = "change row"
	AddComment    Kind = "add comment"
	ChangeComment Kind = "change comment"
	DropComment   Kind = "drop comment"
)

// Sign is "+" for what comes, "-" for what goes and "~" for what changes.
func (k Kind) Sign() string {
	switch verb, _, _ := strings.Cut(string(k), " "); verb {
	case "add":
		return "+"
	case "drop":
		return "-"
	}
	return "~"
}

// Drops tells whether something is dropped.
func (k Kind) Drops() bool { return k.Sign() == "-" }

// Thing is what is added, dropped or changed, such as "column".
func (k Kind) Thing() string {
	_, thing, _ := strings.Cut(string(k), " ")
	return thing
}

// Change is one difference.
type Change struct {
	Kind  Kind
	Table string
	Name  string // the column, index, check, ... ; empty for the table itself
	What  string // the change in words
	From  string // before, where it is a change of one thing
	To    string // after
	Note  string // a consequence that people meet
	// Marks: it is about the column that marks rows as deleted.
	Marks bool
	// Object is what the change is about: a *schema.Table, Column, Index, Check,
	// ForeignKey, Trigger or View; what was there for a drop, else what comes.
	Object any
	// Before is what was there, where something else comes in its place.
	Before any
}

// Told tells whether the change is told by itself; another is told with the column or the
// type that it belongs to.
func (c Change) Told() bool {
	_, table := c.Object.(*sqlschema.Table)
	return table || c.What != ""
}

// Told are the changes that are told by themselves: those that are counted and listed.
func Told(list []Change) []Change {
	var out []Change
	for _, c := range list {
		if c.Told() {
			out = append(out, c)
		}
	}
	return out
}

// Target is the name by which the change is spoken of: table or table.column.
func (c Change) Target() string {
	if c.Name == "" {
		return c.Table
	}
	return c.Table + "." + c.Name
}

// Group puts the changes of one table behind each other, in the order in which the
// tables come up.
func Group(list []Change) {
	first := map[string]int{}
	for i, c := range list {
		if _, ok := first[c.Table]; !ok {
			first[c.Table] = i
		}
	}
	slices.SortStableFunc(list, func(a, b Change) int { return first[a.Table] - first[b.Table] })
}

// Schemas lists the changes that make live what is wanted, in the order of
// tables' names and of a table's parts. Tables that belong to Erbario, and
// models declared as outside, are left out.
func Schemas(live, wanted *sqlschema.Schema) []Change {
	var out []Change
	for _, t := range wanted.Tables {
		if t.Elsewhere() || schema.Own(t.Name) {
			continue
		}
		if old := live.Table(t.Name); old != nil {
			out = append(out, Tables(old, t)...)
		} else {
			out = append(out, Change{Kind: AddTable, Table: t.Name, What: tableWords(t), Object: t})
		}
	}
	for _, t := range live.Tables {
		if w := wanted.Table(t.Name); w == nil && !schema.Own(t.Name) {
			out = append(out,
				Change{Kind: DropTable, Table: t.Name, What: fmt.Sprintf("%d columns", len(t.Columns)), Object: t})
		}
	}
	for _, o := range wanted.Others {
		old := live.Enum(o.Name)
		if o.Kind != sqlschema.EnumType {
			continue
		}
		words := "enum type: " + strings.Join(o.Values, ", ")
		if old == nil {
			out = append(out, Change{Kind: AddEnum, Table: o.Name, What: words, Object: o})
		} else if !slices.Equal(old.Values, o.Values) {
			out = append(out, Change{Kind: ChangeEnum, Table: o.Name, From: strings.Join(old.Values, ", "),
				To:     strings.Join(o.Values, ", "),
				What:   "enum type: " + strings.Join(old.Values, ", ") + " -> " + strings.Join(o.Values, ", "),
				Object: o, Before: old})
		}
	}
	for _, v := range wanted.Views {
		old := live.View(v.Name)
		if old == nil {
			out = append(out, Change{Kind: AddView, Table: v.Name, What: viewWords(v), Object: v})
		} else if !old.SQL.Same(v.SQL) {
			out = append(out, Change{Kind: ChangeView, Table: v.Name, What: viewWords(v) + ", with other columns",
				Object: v, Before: old})
		}
	}
	for _, v := range live.Views {
		if wanted.View(v.Name) == nil && !schema.Own(v.Name) {
			out = append(out, Change{Kind: DropView, Table: v.Name, What: viewWords(v), Object: v})
		}
	}
	slices.SortStableFunc(out, func(a, b Change) int { return strings.Compare(a.Table, b.Table) })
	return out
}

// Tables lists the changes that make the table live what is wanted.
func Tables(live, wanted *sqlschema.Table) []Change {
	d := &tables{live: live, wanted: wanted}
	d.columns()
	d.key()
	d.uniquesAndIndexes()
	d.references()
	d.checks()
	d.triggers()
	d.comment("", live.Comment, wanted.Comment, wanted, live)
	d.order()
	d.options()
	return d.out
}

type tables struct {
	live, wanted *sqlschema.Table
	out          []Change
}

func (d *tables) add(c Change) {
	c.Table = d.wanted.Name
	d.out = append(d.out, c)
}

// order compares the order of the columns that are on both sides, where it can be mended.
func (d *tables) order() {
	if !d.live.Ordered || !d.wanted.Ordered {
		return
	}
	var have, want []string
	for _, c := range d.live.Columns {
		if w := d.wanted.Column(c.Name); w != nil && !schema.Own(w.Name) {
			have = append(have, w.Name)
		}
	}
	for _, c := range d.wanted.Columns {
		if d.live.Column(c.Name) != nil && !schema.Own(c.Name) {
			want = append(want, c.Name)
		}
	}
	if slices.Equal(have, want) {
		return
	}
	first := 0
	for have[first] == want[first] {
		first++
	}
	last := len(have)
	for have[last-1] == want[last-1] {
		last--
	}
	from, to := strings.Join(have[first:last], ", "), strings.Join(want[first:last], ", ")
	d.add(Change{Kind: ChangeOrder, From: from, To: to, What: "order of columns " + from + " -> " + to})
}

// comment compares the comments of a table or a column.
func (d *tables) comment(column, from, to string, object, before any) {
	c := Change{
		Kind:   ChangeComment,
		Name:   column,
		From:   from,
		To:     to,
		What:   fmt.Sprintf("comment %q -> %q", from, to),
		Object: object,
		Before: before,
	}
	switch {
	case from == to:
		return
	case from == "":
		c.Kind, c.What = AddComment, fmt.Sprintf("comment %q", to)
	case to == "":
		c.Kind, c.What = DropComment, fmt.Sprintf("comment %q", from)
	}
	d.add(c)
}

func (d *tables) columns() {
	for _, c := range d.wanted.Columns {
		old := d.live.Column(c.Name)
		if old == nil {
			what, marks := columnWords(d.wanted, c), c.Name == d.wanted.SoftDelete
			if marks {
				what = "soft delete: " + what
			}
			d.add(Change{Kind: AddColumn, Name: c.Name, What: what, Object: c, Marks: marks})
			continue
		}
		c = d.kept(old, c)
		change := func(kind Kind, from, to, what string) {
			d.add(Change{Kind: kind, Name: c.Name, From: from, To: to, What: what, Object: c, Before: old})
		}
		if old.Name != c.Name {
			change(ChangeColumn, old.Name, c.Name, "name "+old.Name+" -> "+c.Name)
		}
		if !sqlschema.SameForm(old.SQLType, c.SQLType) {
			change(ChangeType, old.SQLType, c.SQLType,
				cmp.Or(old.SQLType, "no type")+" -> "+cmp.Or(c.SQLType, "no type"))
		}
		if c.NotNull && !old.NotNull {
			change(MakeRequired, "optional", "required", "optional -> required")
		}
		if !c.NotNull && old.NotNull {
			change(MakeOptional, "required", "optional", "required -> optional")
		}
		if a, b := old.DefaultWords(), c.DefaultWords(); !sqlschema.SameSQL(old.Default, c.Default) {
			change(ChangeDefault, a, b, "default "+cmp.Or(a, "none")+" -> "+cmp.Or(b, "none"))
		}
		if !sqlschema.SameGenerated(old.Generated, c.Generated) {
			a, b := generated(old), generated(c)
			change(ChangeColumn, a, b, "generated "+cmp.Or(a, "no")+" -> "+cmp.Or(b, "no"))
		}
		if !sqlschema.SameCollation(old.Collation, c.Collation) {
			change(ChangeColumn, old.Collation, c.Collation,
				"collation "+cmp.Or(old.Collation, "binary")+" -> "+cmp.Or(c.Collation, "binary"))
		}
		if a, b := numbersWords(old), numbersWords(c); a != b && !d.keyNumbers() {
			change(ChangeColumn, a, b, cmp.Or(a, "not numbered")+" -> "+cmp.Or(b, "not numbered"))
		}
		if !strings.EqualFold(old.OnUpdate, c.OnUpdate) {
			change(ChangeColumn, old.OnUpdate, c.OnUpdate,
				"on update "+cmp.Or(old.OnUpdate, "nothing")+" -> "+cmp.Or(c.OnUpdate, "nothing"))
		}
		if old.Invisible != c.Invisible {
			seen := map[bool]string{true: "invisible", false: "visible"}
			change(ChangeColumn, seen[old.Invisible], seen[c.Invisible], seen[old.Invisible]+" -> "+seen[c.Invisible])
		}
		if old.Storage != c.Storage {
			a, b := storageWords(old), storageWords(c)
			change(ChangeColumn, a, b, "storage "+a+" -> "+b)
		}
		if !sameNumber(old.Statistics, c.Statistics) {
			a, b := statisticsWords(old), statisticsWords(c)
			change(ChangeColumn, a, b, "statistics "+a+" -> "+b)
		}
		d.comment(c.Name, old.Comment, c.Comment, c, old)
		if old.Conflict != c.Conflict {
			change(ChangeColumn, old.Conflict, c.Conflict,
				"on conflict "+cmp.Or(old.Conflict, "abort")+" -> "+cmp.Or(c.Conflict, "abort"))
		}
	}
	for _, c := range d.live.Columns {
		if d.wanted.Column(c.Name) == nil {
			what, marks := c.SQLType, c.Name == d.live.SoftDelete
			if marks {
				what = "soft delete"
			}
			d.add(Change{Kind: DropColumn, Name: c.Name, What: what, Object: c, Marks: marks})
		}
	}
}

func (d *tables) key() {
	a, b := d.live.PrimaryKey, d.wanted.PrimaryKey
	words := func(k *sqlschema.PrimaryKey) string {
		if k == nil {
			return "none"
		}
		s := PartWords(k.Columns)
		if k.Autoincrement {
			s += " generated"
		}
		return s
	}
	from, to := words(a), words(b)
	switch {
	case !sqlschema.SameKey(a, b):
	case a != nil && d.saysKey() && !sqlschema.SameOptions(a.Options, b.Options):
		from, to = strings.TrimSpace(from+a.Options), strings.TrimSpace(to+b.Options)
	case a != nil && d.saysKey() && !sameName(a.Name, b.Name):
		from, to = a.Name, b.Name
	default:
		return
	}
	d.add(Change{Kind: ChangeKey, From: from, To: to, What: "primary key " + from + " -> " + to, Object: b, Before: a})
}

// saysKey tells whether it is declared how the primary key is kept.
func (d *tables) saysKey() bool {
	w := d.wanted.Declared
	return w == nil || w.KeyName != "" || w.KeyRule != "" || w.KeyStored.Deferrable != ""
}

// uniquesAndIndexes pairs first what is the same but perhaps for its name, then
// what has the same name.
func (d *tables) uniquesAndIndexes() {
	left := slices.Clone(d.live.Indexes)
	var wanted []*sqlschema.Index
	for _, x := range d.wanted.Indexes {
		i := slices.IndexFunc(left,
			func(o *sqlschema.Index) bool { return sqlschema.SameIndex(o, x) && sameName(o.Name, x.Name) })
		if i >= 0 {
			left = slices.Delete(left, i, i+1)
		} else {
			wanted = append(wanted, x)
		}
	}
	for _, x := range wanted {
		i := slices.IndexFunc(left, func(o *sqlschema.Index) bool { return strings.EqualFold(o.Name, x.Name) })
		if i < 0 {
			i = slices.IndexFunc(left, func(o *sqlschema.Index) bool { return sqlschema.SameIndex(o, x) })
		}
		kind, what := AddIndex, indexWords(d.wanted, x)
		if x.Unique {
			kind = AddUnique
		}
		if i < 0 {
			d.add(Change{Kind: kind, Name: x.Name, What: what, Object: x})
			continue
		}
		old := left[i]
		left = slices.Delete(left, i, i+1)
		kind = ChangeIndex
		if x.Unique || old.Unique {
			kind = ChangeUnique
		}
		from, to := indexWords(d.live, old), what
		if from == to {
			from, to = old.Name, x.Name
		}
		c := Change{Kind: kind, Name: x.Name, From: from, To: to, What: from + " -> " + to, Object: x, Before: old}
		if x.Unique && d.wanted.Among(x) && !d.live.Among(old) {
			c.Note = fmt.Sprintf("an upsert on it has to say so: ON CONFLICT (%s) WHERE %s",
				strings.Join(sqlschema.Names(x.Parts), ", "), oneLine(x.Where.Text))
		}
		d.add(c)
	}
	for _, x := range left {
		kind := DropIndex
		if x.Unique {
			kind = DropUnique
		}
		d.add(Change{Kind: kind, Name: cmp.Or(x.Name, PartWords(x.Parts)), What: indexWords(d.live, x), Object: x})
	}
}

func (d *tables) references() {
	left := slices.Clone(d.live.ForeignKeys)
	for _, k := range d.wanted.ForeignKeys {
		i := slices.IndexFunc(left,
			func(o *sqlschema.ForeignKey) bool { return slices.EqualFunc(o.Columns, k.Columns, strings.EqualFold) })
		name := strings.Join(k.Columns, ", ")
		if i < 0 {
			if c := d.live.Column(name); c != nil || len(k.Columns) > 1 {
				d.add(Change{Kind: AddReference, Name: name, What: referenceWords(k), Object: k})
			} else {
				d.add(Change{Kind: AddReference, Name: name, What: "", Object: k}) // told with its column
			}
			continue
		}
		old := left[i]
		left = slices.Delete(left, i, i+1)
		if !sqlschema.SameReference(old, k) || !sameName(old.Name, k.Name) {
			d.add(Change{
				Kind:   ChangeRef,
				Name:   name,
				From:   referenceWords(old),
				To:     referenceWords(k),
				What:   referenceChange(old, k),
				Object: k,
				Before: old,
			})
		}
	}
	for _, k := range left {
		what := referenceWords(k)
		if c := d.wanted.Column(k.Columns[0]); c == nil && len(k.Columns) == 1 {
			what = ""
		}
		d.add(Change{Kind: DropReference, Name: strings.Join(k.Columns, ", "), What: what, Object: k})
	}
}

func (d *tables) checks() {
	left := slices.Clone(d.live.Checks)
	var wanted []*sqlschema.Check
	for _, k := range d.wanted.Checks {
		i := slices.IndexFunc(left, func(o *sqlschema.Check) bool {
			return o.SQL.Same(k.SQL) && o.Conflict == k.Conflict && o.NoInherit == k.NoInherit &&
				sameName(o.Name, k.Name)
		})
		if i >= 0 {
			left = slices.Delete(left, i, i+1)
		} else {
			wanted = append(wanted, k)
		}
	}
	for _, k := range wanted {
		i := slices.IndexFunc(left,
			func(o *sqlschema.Check) bool { return o.Name != "" && strings.EqualFold(o.Name, k.Name) })
		if i < 0 {
			i = slices.IndexFunc(left, func(o *sqlschema.Check) bool { return o.SQL.Same(k.SQL) })
		}
		if i < 0 {
			c := Change{Kind: AddCheck, Name: k.Name, What: checkWords(k), Object: k}
			if k.Column != "" && d.live.Column(k.Column) == nil {
				c.What = "" // told with its column
			} else if ofType(k) {
				c.What = d.typeHolds(k)
			}
			d.add(c)
			continue
		}
		old := left[i]
		left = slices.Delete(left, i, i+1)
		c := Change{Kind: ChangeCheck, Name: k.Name, From: old.SQL.Text, To: k.SQL.Text, Object: k, Before: old}
		switch {
		case old.NoInherit != k.NoInherit:
			c.What = checkWords(old) + " -> " + checkWords(k)
		case old.SQL.Same(k.SQL):
			c.What = "check " + cmp.Or(old.Name, "without a name") + " -> " + k.Name
		case ofType(k):
			c.What = d.typeHolds(k)
		case k.Purpose == schema.ForChoice:
			c.What = choiceWords(old, k)
		default:
			c.What = checkWords(old) + " -> " + checkWords(k)
		}
		d.add(c)
	}
	for _, k := range left {
		c := Change{Kind: DropCheck, Name: cmp.Or(k.Name, oneLine(k.SQL.Text)), What: checkWords(k), Object: k}
		if k.Column != "" && d.wanted.Column(k.Column) == nil {
			c.What = ""
		} else if ofType(k) {
			c.What = d.typeHolds(k)
		}
		d.add(c)
	}
}

// typeHolds are the words for the check that holds a type; "" where the column comes,
// goes or has another type, with which it is told.
func (d *tables) typeHolds(k *sqlschema.Check) string {
	o, w := d.live.Column(k.Column), d.wanted.Column(k.Column)
	if k.Column != "" && (o == nil || w == nil || !sqlschema.SameForm(o.SQLType, w.SQLType)) {
		return ""
	}
	return "values of the type: " + oneLine(k.SQL.Text)
}

func (d *tables) triggers() {
	for _, g := range d.wanted.Triggers {
		i := slices.IndexFunc(d.live.Triggers,
			func(o *sqlschema.Trigger) bool { return strings.EqualFold(o.Name, g.Name) })
		switch {
		case i < 0:
			c := Change{Kind: AddTrigger, Name: g.Name, What: triggerWords(g), Object: g}
			if g.Column != "" && d.live.Column(g.Column) == nil && !g.WithFunction() {
				c.What = ""
			}
			d.add(c)
		case !sqlschema.SameTrigger(d.live.Triggers[i], g):
			d.add(
				Change{Kind: ChangeTrigger, Name: g.Name, What: triggerWords(g), Object: g, Before: d.live.Triggers[i]},
			)
		}
	}
	for _, g := range d.live.Triggers {
		if slices.ContainsFunc(d.wanted.Triggers,
			func(o *sqlschema.Trigger) bool { return strings.EqualFold(o.Name, g.Name) }) {
			continue
		}
		c := Change{Kind: DropTrigger, Name: g.Name, What: triggerWords(g), Object: g}
		if g.Column != "" && d.wanted.Column(g.Column) == nil {
			c.What = ""
		}
		d.add(c)
	}
}

// sameName lets a constraint without a name stand for any.
func sameName(live, wanted string) bool { return live == "" || wanted == "" || live == wanted }

// NameAlone tells whether something has another name, and is the same but for that.
func (c Change) NameAlone() bool {
	switch b := c.Before.(type) {
	case *sqlschema.ForeignKey:
		k, ok := c.Object.(*sqlschema.ForeignKey)
		return ok && sqlschema.SameReference(b, k)
	case *sqlschema.PrimaryKey:
		k, _ := c.Object.(*sqlschema.PrimaryKey)
		return b != nil && k != nil && sqlschema.SameKey(b, k) && sqlschema.SameOptions(b.Options, k.Options)
	}
	return false
}
