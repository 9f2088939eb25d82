package adopt

// This file writes a model: what is declared for a table, as lines of the language.

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/declare"
	"erbario/internal/lang"
	"erbario/internal/schema"
)

// writer writes one model.
type writer struct {
	*naming
	t      *schema.Table            // what is to be declared
	all    map[string]*schema.Table // the tables of the run and those declared, by name in lower case
	types  map[string]string        // the stored types of their columns, by table.column in lower case
	lines  []string
	done   map[any]bool // checks, indexes and references that a clause of a field stands for
	plain  string       // the collation of texts of which none is said
	keyed  bool         // the key is a clause
	fields map[string]string
}

// model is the text of the model of a table.
func (w *writer) model() string {
	w.done, w.fields = map[any]bool{}, w.naming.fields[w.t.Name]
	w.head()
	for _, c := range w.t.Columns {
		w.field(c)
	}
	w.rest()
	return "model " + w.models[w.t.Name] + "\n    " + strings.Join(w.lines, "\n    ") + "\n"
}

func (w *writer) add(words ...string) {
	w.lines = append(w.lines, strings.Join(slices.DeleteFunc(words, func(s string) bool { return s == "" }), " "))
}

// head writes what is said of the whole table.
func (w *writer) head() {
	t := w.t
	if w.rules.TableName(w.models[t.Name]) != t.Bare() {
		w.add("table", text(t.Bare()))
	}
	if t.Schema != "" {
		w.add("schema", text(t.Schema))
	}
	if t.Comment != "" {
		w.add("comment", text(t.Comment))
	}
	if t.Collation != "" && !slices.Contains(collations(w.rules), t.Collation) {
		w.add("collation", text(t.Collation))
	}
	if t.Options != "" {
		w.add("options", text(t.Options))
	}
	if t.Unchecked && !w.rules.Unchecked {
		w.add("no type checks")
	}
	if w.rules.Timestamps && t.Column("created_at") == nil && t.Column("updated_at") == nil {
		w.add("no timestamps")
	}
}

func collations(rules declare.Rules) []string {
	var out []string
	for _, c := range rules.Collation {
		out = append(out, c)
	}
	return out
}

// reference is the single reference of a column that its field can say; nil: none can.
func (w *writer) reference(column string) (*schema.ForeignKey, *schema.Table) {
	for _, k := range w.t.ForeignKeys {
		if len(k.Columns) != 1 || !strings.EqualFold(k.Columns[0], column) {
			continue
		}
		target := w.all[strings.ToLower(k.Table)]
		if target != nil && w.models[target.Name] != "" && len(k.References) == 1 &&
			target.Column(k.References[0]) != nil {
			return k, target
		}
	}
	return nil, nil
}

// field writes the line of a column.
func (w *writer) field(c *schema.Column) {
	name := w.fields[c.Name]
	words := []string{fieldName(name)}
	implied := name
	k, target := w.reference(c.Name)
	if k != nil {
		to := target.Column(k.References[0])
		words = append(words, "references", w.models[target.Name])
		if !slices.Equal(target.Key, []string{to.Name}) {
			words = append(words, "by", fieldName(w.fieldOf(target, to.Name)))
		}
		rule := w.rules.Names.ForeignKeyName(w.t.Bare(), k.Columns, target.Bare())
		words = append(words, w.stored(k.Stored, k.Name, rule)...)
		own, its := w.types[key(w.t.Name, c.Name)], w.types[key(target.Name, to.Name)]
		if its != "" && !sameForm(own, its) {
			words = append(words, "as", text(own))
		}
		implied = w.rules.ReferenceColumn(name, to.Name)
		w.done[k] = true
	} else {
		words = append(words, w.typeWords(c.Type)...)
	}
	if !c.NotNull && c.Generated == nil {
		words = append(words, "optional")
	}
	if slices.Equal(w.t.Key, []string{c.Name}) && w.t.KeyParts == nil {
		w.keyed = true
		words = append(append(words, "key"), w.keyWords()...)
	}
	words = append(words, numbers(c)...)
	if c.Value != nil && c.Value.Kind != schema.NullValue && !c.Stamped { // that is its default
		words = append(words, "default", w.value(c))
	}
	if c.UpdateNow {
		words = append(words, "on update now")
	}
	words = append(words, w.uniqueness(c)...)
	if k != nil && !w.indexed(k.Columns) {
		words = append(words, "no index")
	}
	for word, said := range map[string]bool{"immutable": c.Immutable, "nonblank": c.Nonblank, "stamped": c.Stamped} {
		if said {
			words = append(words, word) // the formatter has them in order
		}
	}
	if r := c.Range; r != nil {
		words = append(words, "range", end(r.From)+".."+end(r.To))
	}
	collation := c.Collation
	if k != nil && collation == "" && target.Column(k.References[0]).Collation != "" {
		collation = cmp.Or(w.t.Collation, w.plain) // not that of the target, which it would take
	}
	if collation != "" {
		words = append(words, "collation", text(collation))
	}
	words = append(words, keeping(c)...)
	if implied != c.Name {
		words = append(words, "column", text(c.Name))
	}
	if c.Comment != "" {
		words = append(words, "comment", text(c.Comment))
	}
	if c.Invisible {
		words = append(words, "invisible")
	}
	if k != nil {
		words = append(words, w.actions(k)...)
	}
	if c.Generated != nil {
		words = append(words, "generated")
		if c.Generated.Stored {
			words = append(words, "stored")
		}
		words = append(words, "as", w.sql(c.Generated.SQL))
	} else {
		words = append(words, w.check(c)...)
	}
	w.add(words...)
}

func end(v *schema.Value) string {
	if v == nil {
		return ""
	}
	return v.String()
}

func (w *writer) fieldOf(t *schema.Table, column string) string {
	if f := w.naming.fields[t.Name][column]; f != "" {
		return f
	}
	if c := t.Column(column); c != nil && c.Field != "" {
		return c.Field
	}
	return column
}

// typeWords are a type as a model writes it.
func (w *writer) typeWords(t schema.Type) []string {
	as := t.As
	t.As = ""
	var out []string
	switch {
	case t.Of != nil:
		out = []string{"array of " + t.Of.String()}
	case t.Kind == schema.Native:
		out = []string{"sql " + text(t.Name)}
	case t.Kind == schema.Choice && t.Enum != "":
		out = []string{w.choices[t.Enum]}
	case t.Kind == schema.Choice:
		values := make([]string, len(t.Choices))
		for i, v := range t.Choices {
			if values[i] = v; !lang.IsName(v) {
				values[i] = text(v)
			}
		}
		out = []string{"choice(" + strings.Join(values, ", ") + ")"}
		if t.Listed && as == "" {
			out = append(out, "as enum")
		}
	case t.Kind == schema.Decimal && t.Precision == 38 && t.Scale == 10 && as != "":
		out = []string{"decimal"}
	default:
		out = []string{t.String()}
	}
	if as != "" || t.Typeless {
		out = append(out, "as", text(as))
	}
	return out
}

// numbers are the words by which a column is numbered.
func numbers(c *schema.Column) []string {
	n := c.Numbers
	switch {
	case !c.Identity:
		return nil
	case n.Rowid:
		return []string{"rowid"}
	case n.Serial && n.Sequence != "":
		return []string{"serial by", text(n.Sequence)}
	case n.Serial:
		return []string{"serial"}
	}
	out := []string{"identity"}
	if n.Always {
		out = append(out, "always")
	}
	if n.Start > 1 {
		out = append(out, fmt.Sprintf("start %d", n.Start))
	}
	return out
}

// value is a default as a model writes it.
func (w *writer) value(c *schema.Column) string {
	v := *c.Value
	switch {
	case v.Kind == schema.SQLValue:
		return "(" + w.sql(v.Text) + ")"
	case v.Kind == schema.TextValue && c.Type.Kind == schema.Choice && lang.IsName(v.Text) &&
		!slices.Contains([]string{"new", "true", "false", "null", "now", "today"}, v.Text):
		return v.Text
	}
	return v.String()
}

// keyWords say how the primary key is kept.
func (w *writer) keyWords() []string {
	var out []string
	if w.t.KeyName != "" && w.t.KeyName != w.rules.Names.PrimaryKeyName(w.t.Bare()) {
		out = append(out, "named", text(w.t.KeyName))
	}
	return append(out, held(w.t.KeyStored)...)
}

// stored are the words for a name that is not that of the rule, and for how something is held.
func (w *writer) stored(s schema.Stored, name, rule string) []string {
	var out []string
	if s.Named && name != rule {
		out = append(out, "named", text(name))
	}
	return append(out, held(s)...)
}

// held are the words for how a constraint is held.
func held(s schema.Stored) []string {
	var out []string
	if s.Match != "" {
		out = append(out, "match", strings.ToLower(s.Match))
	}
	if s.Deferrable != "" {
		out = append(out, strings.ToLower(s.Deferrable))
	}
	if s.Conflict != "" {
		out = append(out, "on conflict", strings.ToLower(s.Conflict))
	}
	if s.NotValid {
		out = append(out, "not valid")
	}
	return out
}

// actions are what a reference does, where it is not what references do that say nothing.
func (w *writer) actions(k *schema.ForeignKey) []string {
	var out []string
	if k.OnDelete != cmp.Or(w.rules.OnDelete, schema.Restrict) {
		out = append(out, "on delete", strings.ToLower(string(k.OnDelete)))
	}
	if k.OnUpdate != cmp.Or(w.rules.OnUpdate, schema.Restrict) {
		out = append(out, "on update", strings.ToLower(string(k.OnUpdate)))
	}
	return out
}

// check is a check that stands with its column: of a name by the rule, or without one.
func (w *writer) check(c *schema.Column) []string {
	for _, k := range w.t.Checks {
		if !strings.EqualFold(k.Column, c.Name) || k.Stored.NotValid || k.Stored.NoInherit {
			continue
		}
		if k.Stored.Unnamed {
			w.done[k] = true
			return []string{"check unnamed:", w.sql(k.SQL)}
		}
	}
	return nil
}

// rest writes the lines behind the fields.
func (w *writer) rest() {
	switch {
	case w.t.Key == nil:
		w.add("no key")
	case !w.keyed:
		parts := make([]string, len(w.t.Key))
		for i, p := range w.t.PartsOfKey() {
			parts[i] = w.part(p)
		}
		w.add(append([]string{"primary key", strings.Join(parts, ", ")}, w.keyWords()...)...)
	}
	for _, x := range w.t.Indexes {
		if !w.done[x] {
			w.index(x)
		}
	}
	for _, k := range w.t.ForeignKeys {
		if w.done[k] {
			continue
		}
		if target := w.all[strings.ToLower(k.Table)]; target != nil && w.models[target.Name] != "" {
			w.foreignKey(k, target)
		}
	}
	for _, k := range w.t.Checks {
		if w.done[k] {
			continue
		}
		head := "unnamed"
		if !k.Stored.Unnamed {
			head = constraintName(k.Name)
		}
		if k.Stored.NotValid {
			head += " not valid"
		}
		if k.Stored.NoInherit {
			head += " no inherit"
		}
		w.add("check", head+":", w.sql(k.SQL))
	}
}

func (w *writer) names(columns []string) string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = fieldName(cmp.Or(w.fields[c], c))
	}
	return strings.Join(out, ", ")
}

// foreignKey writes the line of a reference that no field says.
func (w *writer) foreignKey(k *schema.ForeignKey, target *schema.Table) {
	head := ""
	if k.Stored.Named && k.Name != w.rules.Names.ForeignKeyName(w.t.Bare(), k.Columns, target.Bare()) {
		head = constraintName(k.Name) + ":"
	}
	words := []string{"foreign key", head, w.names(k.Columns), "references", w.models[target.Name]}
	if !slices.Equal(target.Key, k.References) {
		to := make([]string, len(k.References))
		for i, c := range k.References {
			to[i] = fieldName(w.fieldOf(target, c))
		}
		words = append(words, "by", strings.Join(to, ", "))
	}
	words = append(words, w.actions(k)...)
	words = append(words, held(k.Stored)...)
	if !w.indexed(k.Columns) {
		words = append(words, "no index")
	}
	w.add(words...)
}

// sql is SQL with the names of fields in its braces, on one line.
func (w *writer) sql(sql string) string {
	return schema.Braces(oneLine(sql), func(column string) string {
		name := cmp.Or(w.fields[column], column)
		if !lang.IsName(name) {
			name = text(name)
		}
		return "{" + name + "}"
	})
}

// keeping are the words for how the values of a column are kept.
func keeping(c *schema.Column) []string {
	var words []string
	if c.Storage != "" {
		words = append(words, "storage", text(c.Storage))
	}
	if c.Statistics != nil {
		words = append(words, "statistics", strconv.Itoa(*c.Statistics))
	}
	return words
}

// outside is the model of a table that is declared elsewhere, as word says: its key, and what others
// refer to.
func (w *writer) outside(word string, referred []string) string {
	t := *w.t
	in := func(c string) bool { return slices.Contains(t.Key, c) || slices.Contains(referred, c) }
	t.Columns = nil
	for _, c := range w.t.Columns {
		if in(c.Name) {
			bare := &schema.Column{Name: c.Name, Type: c.Type, NotNull: c.NotNull}
			t.Columns = append(t.Columns, bare)
		}
	}
	if len(t.Columns) == 0 && len(w.t.Columns) > 0 {
		t.Columns = []*schema.Column{{Name: w.t.Columns[0].Name, Type: w.t.Columns[0].Type,
			NotNull: w.t.Columns[0].NotNull}}
	}
	t.Comment, t.Options, t.Collation, t.Unchecked, t.KeyName = "", "", "", false, ""
	t.Checks, t.ForeignKeys, t.KeyStored = nil, nil, schema.Stored{}
	t.Indexes = slices.DeleteFunc(slices.Clone(t.Indexes), func(x *schema.Index) bool {
		return !x.Unique || x.Where != "" || !plainParts(x) || slices.ContainsFunc(x.Parts,
			func(p schema.Part) bool { return !in(p.Column) })
	})
	for i, x := range t.Indexes {
		bare := *x
		bare.Stored = schema.Stored{}
		t.Indexes[i] = &bare
	}
	w.t, w.lines, w.keyed, w.done, w.fields = &t, nil, false, map[any]bool{}, w.naming.fields[t.Name]
	w.head()
	for _, c := range t.Columns {
		w.field(c)
	}
	w.rest()
	return "model " + w.models[t.Name] + " " + word + "\n    " + strings.Join(w.lines, "\n    ") + "\n"
}

// oneLine is SQL without line breaks outside of its quotes.
func oneLine(sql string) string {
	var b strings.Builder
	for i := 0; i < len(sql); i++ {
		switch ch := sql[i]; ch {
		case '\'', '"', '`':
			end := i + 1
			for end < len(sql) && sql[end] != ch {
				end++
			}
			end = min(end+1, len(sql))
			b.WriteString(sql[i:end])
			i = end - 1
		case ' ', '\n', '\t', '\r':
			if n := b.Len(); n > 0 && b.String()[n-1] != ' ' {
				b.WriteByte(' ')
			}
		default:
			b.WriteByte(ch)
		}
	}
	return strings.TrimSpace(b.String())
}
