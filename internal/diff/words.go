package diff

// This file says in words what a column, an index or a check is.

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// generated says how a column is worked out; "" for a plain one.
func generated(c *sqlschema.Column) string {
	switch {
	case c.Generated == nil:
		return ""
	case c.Generated.Stored:
		return c.Generated.SQL.Text + " stored"
	}
	return c.Generated.SQL.Text
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// PartWords are the parts of a key or an index in words.
func PartWords(parts []sqlschema.Part) string {
	var out []string
	for _, p := range parts {
		s := p.Column
		if p.Expr != nil {
			s = oneLine(p.Expr.Text)
		}
		if p.Collation != "" && !strings.EqualFold(p.Collation, "binary") {
			if strings.EqualFold(p.Collation, "nocase") || p.Collation == "ignoring case" {
				s += " ignoring case"
			} else {
				s += " collate " + p.Collation
			}
		}
		if p.Length > 0 {
			s += fmt.Sprintf("(%d)", p.Length)
		}
		if p.Class != "" {
			s += " " + p.Class
		}
		if p.Desc {
			s += " desc"
		}
		if p.Nulls != "" {
			s += " nulls " + strings.ToLower(p.Nulls)
		}
		out = append(out, s)
	}
	return strings.Join(out, ", ")
}

func indexWords(t *sqlschema.Table, x *sqlschema.Index) string {
	s := "index " + PartWords(x.Parts)
	if x.Unique {
		s = "unique " + PartWords(x.Parts)
	}
	if x.NullsEqual {
		s += " nulls equal"
	}
	if x.Using != "" && !strings.EqualFold(x.Using, "btree") {
		s += " using " + strings.ToLower(x.Using)
	}
	if x.Included != "" {
		s += " including " + strings.Trim(strings.TrimSpace(x.Included), "()")
	}
	switch {
	case t.Among(x) && len(strings.Fields(x.Where.Text)) == 3:
		s += " among the rows that are not deleted"
	case x.Where != nil:
		s += " where " + oneLine(x.Where.Text)
	}
	if x.Conflict != "" {
		s += " on conflict " + strings.ToLower(x.Conflict)
	}
	if x.Options != "" {
		s += ", " + oneLine(x.Options)
	}
	if x.Invalid {
		s += ", invalid: building it was interrupted, and nothing uses it"
	}
	return s
}

func referenceWords(k *sqlschema.ForeignKey) string {
	s := "references " + k.Table
	if len(k.References) > 0 {
		s += " (" + strings.Join(k.References, ", ") + ")"
	}
	if k.OnDelete != schema.NoAction && k.OnDelete != "" {
		s += ", on delete " + strings.ToLower(string(k.OnDelete))
	}
	if k.OnUpdate != schema.NoAction && k.OnUpdate != "" && k.OnUpdate != schema.Restrict {
		s += ", on update " + strings.ToLower(string(k.OnUpdate))
	}
	if len(k.SetColumns) > 0 {
		s += " (" + strings.Join(k.SetColumns, ", ") + ")"
	}
	if k.Match != "" && !strings.EqualFold(k.Match, "simple") {
		s += ", match " + strings.ToLower(k.Match)
	}
	if k.Deferrable != "" {
		s += ", " + strings.ToLower(k.Deferrable)
	}
	if k.NotValid {
		s += ", not valid: older rows were not checked"
	}
	return s
}

// referenceChange tells what differs between two references alone.
func referenceChange(old, k *sqlschema.ForeignKey) string {
	if !strings.EqualFold(old.Table, k.Table) || !slices.EqualFunc(old.References, k.References, strings.EqualFold) {
		return referenceWords(old) + " -> " + referenceWords(k)
	}
	var out []string
	action := func(what string, a, b schema.Action) {
		if a != b {
			out = append(out,
				fmt.Sprintf("on %s %s -> %s", what, strings.ToLower(string(a)), strings.ToLower(string(b))))
		}
	}
	action("delete", old.OnDelete, k.OnDelete)
	action("update", old.OnUpdate, k.OnUpdate)
	if old.Deferrable != k.Deferrable {
		out = append(
			out,
			cmp.Or(strings.ToLower(old.Deferrable), "not deferrable")+" -> "+cmp.Or(strings.ToLower(k.Deferrable),
				"not deferrable"),
		)
	}
	if was, now := referenceWords(old), referenceWords(k); len(out) == 0 && was != now {
		return was + " -> " + now
	}
	if len(out) == 0 { // the name alone
		return "reference " + cmp.Or(old.Name, "without a name") + " -> " + cmp.Or(k.Name, "without a name")
	}
	return "reference " + strings.Join(out, ", ")
}

func viewWords(v *sqlschema.View) string {
	if v.LiveOf != "" {
		return "view of the rows of " + v.LiveOf + " that are not deleted"
	}
	return "view"
}

// ofType tells whether a check holds a column to its type; it is told with that.
func ofType(k *sqlschema.Check) bool {
	return k.Purpose == schema.ForType || k.Purpose == schema.ForSoftDelete
}

func checkWords(k *sqlschema.Check) string {
	if k.NotValid {
		valid := *k
		valid.NotValid = false
		return checkWords(&valid) + ", not valid: older rows were not checked"
	}
	if k.NoInherit {
		inherited := *k
		inherited.NoInherit = false
		return checkWords(&inherited) + ", no inherit"
	}
	switch k.Purpose {
	case schema.ForNonblank:
		return k.Column + " nonblank"
	case schema.ForChoice:
		return k.Column + " one of " + strings.Join(k.Choices, ", ")
	case schema.ForRange:
		if k.Range != nil {
			return k.Column + " range " + rangeWords(k.Range)
		}
		return oneLine(k.SQL.Text)
	case schema.ForType, schema.ForSoftDelete:
		return k.Column + " matches its type"
	}
	return "check " + oneLine(k.SQL.Text)
}

// rangeWords are a range as a model writes it, such as 1..10.
func rangeWords(r *schema.Range) string {
	out := ".."
	if r.From != nil {
		out = r.From.Text + out
	}
	if r.To != nil {
		out += r.To.Text
	}
	return out
}

func triggerWords(g *sqlschema.Trigger) string {
	switch g.Purpose {
	case schema.ForBridge:
		return "a bridge for old writers"
	case schema.ForGuard:
		return "soft delete with guard"
	case schema.ForGuardMark:
		return "the guard of the deletion marks"
	case schema.ForGuardAll:
		return "the guard against emptying it"
	case schema.ForGuardChildren:
		return "the guard of rows that would be deleted with it"
	case schema.ForChildren:
		return "soft delete with children"
	case schema.ForImmutable:
		return g.Column + " immutable"
	case schema.ForStamped:
		return g.Column + " stamped"
	}
	return "trigger " + g.Name
}

func choiceWords(from, to *sqlschema.Check) string {
	a, b := from.Choices, to.Choices
	var out []string
	for _, v := range b {
		if !slices.Contains(a, v) {
			out = append(out, "+ "+v)
		}
	}
	for _, v := range a {
		if !slices.Contains(b, v) {
			out = append(out, "- "+v)
		}
	}
	if len(out) == 0 {
		return "choices in another order"
	}
	return "choices " + strings.Join(out, ", ")
}

// columnWords tell a new column with all that was declared with it.
func columnWords(t *sqlschema.Table, c *sqlschema.Column) string {
	out := []string{cmp.Or(c.SQLType, "no type")}
	if c.NotNull {
		out = append(out, "required")
	}
	if c.Stamped {
		out = append(out, "stamped")
	} else if d := c.DefaultWords(); d != "" {
		out = append(out, "default "+d)
	}
	if c.Generated != nil {
		stored := ""
		if c.Generated.Stored {
			stored = "stored "
		}
		out = append(out, "generated "+stored+"as "+oneLine(c.Generated.SQL.Text))
	}
	if c.Immutable {
		out = append(out, "immutable")
	}
	for _, k := range t.Checks {
		if k.Column == c.Name && !ofType(k) {
			out = append(out, strings.TrimPrefix(checkWords(k), c.Name+" "))
		}
	}
	for _, k := range t.ForeignKeys {
		if slices.Equal(k.Columns, []string{c.Name}) {
			out = append(out, referenceWords(k))
		}
	}
	if t.Model() != "" {
		return strings.Join(out, ", ")
	}
	// Read from a database: what no model has said.
	if c.Collation != "" {
		out = append(out, "collate "+c.Collation)
	}
	if c.OnUpdate != "" {
		out = append(out, "on update "+oneLine(c.OnUpdate))
	}
	if c.Conflict != "" {
		out = append(out, "on conflict "+strings.ToLower(c.Conflict))
	}
	if c.Invisible {
		out = append(out, "invisible")
	}
	if c.Storage != "" {
		out = append(out, "storage "+storageWords(c))
	}
	if c.Statistics != nil {
		out = append(out, "statistics "+statisticsWords(c))
	}
	if c.Comment != "" {
		out = append(out, fmt.Sprintf("comment %q", c.Comment))
	}
	return strings.Join(out, ", ")
}

// storageWords say how the values of a column are kept.
func storageWords(c *sqlschema.Column) string {
	return cmp.Or(strings.ToLower(c.Storage), "as its type")
}

// statisticsWords say how many values of a column statistics list.
func statisticsWords(c *sqlschema.Column) string {
	if c.Statistics == nil {
		return "as the server"
	}
	return strconv.Itoa(*c.Statistics)
}

func tableWords(t *sqlschema.Table) string {
	s := fmt.Sprintf("%d columns", len(t.Columns))
	count := func(n int, one, many string) {
		switch {
		case n == 1:
			s += ", 1 " + one
		case n > 1:
			s += fmt.Sprintf(", %d %s", n, many)
		}
	}
	uniques, indexes := 0, 0
	for _, x := range t.Indexes {
		if x.Unique {
			uniques++
		} else {
			indexes++
		}
	}
	count(uniques, "unique", "uniques")
	count(indexes, "index", "indexes")
	count(len(t.ForeignKeys), "reference", "references")
	return s
}
