package sqlschema

// This file tells whether two parts of tables mean the same to their engine.

import (
	"slices"
	"strings"

	"erbario/internal/schema"
)

// SamePart tells whether two parts of a key or an index are the same.
func SamePart(a, b Part) bool {
	if (a.Expr == nil) != (b.Expr == nil) || a.Expr != nil && !a.Expr.Same(*b.Expr) {
		return false
	}
	return strings.EqualFold(a.Column, b.Column) && a.Desc == b.Desc && a.Length == b.Length &&
		strings.EqualFold(a.Class, b.Class) && a.Nulls == b.Nulls &&
		SameCollation(a.Collation, b.Collation)
}

// SameCollation compares two collations; none is the binary one.
func SameCollation(a, b string) bool {
	if a == "" {
		a = "binary"
	}
	if b == "" {
		b = "binary"
	}
	return strings.EqualFold(a, b)
}

// SameKey tells whether two primary keys are the same but for their names and options.
func SameKey(a, b *PrimaryKey) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Autoincrement == b.Autoincrement && a.Conflict == b.Conflict &&
		slices.EqualFunc(a.Columns, b.Columns, SamePart)
}

// SameReference tells whether references of the same columns are the same but for their names.
func SameReference(a, b *ForeignKey) bool {
	return strings.EqualFold(a.Table, b.Table) && slices.EqualFunc(a.References, b.References, strings.EqualFold) &&
		a.OnDelete == b.OnDelete && a.OnUpdate == b.OnUpdate && a.Deferrable == b.Deferrable &&
		strings.EqualFold(a.Match, b.Match) && slices.EqualFunc(a.SetColumns, b.SetColumns, strings.EqualFold)
}

// SameIndex tells whether two indexes are the same but for their names.
func SameIndex(a, b *Index) bool {
	return a.Unique == b.Unique && (!a.Form && !b.Form || a.Constraint == b.Constraint) &&
		(!a.Said && !b.Said || SameOptions(a.Options, b.Options)) && held(a) == held(b) &&
		SameForm(a.Included, b.Included) && a.Invalid == b.Invalid && a.Conflict == b.Conflict &&
		a.NullsEqual == b.NullsEqual &&
		a.Using == b.Using && SameSQL(a.Where, b.Where) && slices.EqualFunc(a.Parts, b.Parts, SamePart)
}

// SameOptions compares what is behind the columns of two tables: the same words, in any order.
func SameOptions(a, b string) bool {
	words := func(s string) []string {
		list := strings.Fields(strings.ToLower(strings.NewReplacer("(", " ( ", ")", " ) ", ",", " , ").Replace(s)))
		slices.Sort(list)
		return list
	}
	return slices.Equal(words(a), words(b))
}

// held is when a uniqueness is checked, as its options say.
func held(x *Index) string {
	if i := strings.Index(x.Options, "DEFERRABLE"); i >= 0 {
		return x.Options[i:]
	}
	return ""
}

// SameSQL compares two expressions that may not be there.
func SameSQL(a, b *SQL) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Same(*b)
}

// SameForm tells whether two stored types are the same but for case and blanks.
func SameForm(a, b string) bool {
	return strings.EqualFold(strings.ReplaceAll(a, " ", ""), strings.ReplaceAll(b, " ", ""))
}

// HasCheck tells whether the table has that check under that name.
func (t *Table) HasCheck(k *Check) bool {
	return slices.ContainsFunc(t.Checks, func(o *Check) bool {
		return o.Name == k.Name && o.SQL.Same(k.SQL) && o.Conflict == k.Conflict && o.NoInherit == k.NoInherit
	})
}

// SameTrigger tells whether two triggers do the same: one that marks the rows of children does so table by table,
// in any order.
func SameTrigger(a, b *Trigger) bool {
	if a.SQL.Same(b.SQL) {
		return true
	}
	if a.Purpose != schema.ForChildren || b.Purpose != schema.ForChildren {
		return false
	}
	return slices.Equal(statementsOf(a), statementsOf(b))
}

// statementsOf are what a trigger runs, and what is around that, in order of their words.
func statementsOf(g *Trigger) []string {
	text := strings.Join(strings.Fields(strings.ToLower(g.SQL.Key())), " ")
	text = strings.NewReplacer(" then update ", " then ; update ", " begin update ", " begin ; update ").Replace(text)
	list := strings.Split(text, ";")
	for i, s := range list {
		list[i] = strings.TrimSpace(s)
	}
	slices.Sort(list)
	return list
}
