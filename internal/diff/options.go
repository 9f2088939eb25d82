package diff

// This file compares the options of tables, and how columns are numbered and kept.

import (
	"cmp"
	"strings"

	"erbario/internal/sqlschema"
)

// options compares the options of a table: those that belong to its form, and of others what
// is declared.
func (d *tables) options() {
	a, b := d.live.Options, d.wanted.Options
	w := d.wanted.Declared
	said := w == nil || w.Options != "" || w.Collation != ""
	if a.Strict == b.Strict && a.WithoutRowid == b.WithoutRowid && a.Virtual == b.Virtual &&
		(!said || a.Unlogged == b.Unlogged && sqlschema.SameOptions(a.Behind, b.Behind)) {
		return
	}
	if !said { // they stay
		b.Unlogged, b.Behind = a.Unlogged, a.Behind
	}
	from, to := optionsWords(a), optionsWords(b)
	d.add(Change{Kind: ChangeOptions, From: from, To: to,
		What: "options " + cmp.Or(from, "none") + " -> " + cmp.Or(to, "none"), Object: b, Before: a})
}

// keyNumbers tells whether the primary key is numbered on one side alone: that is told with it.
func (d *tables) keyNumbers() bool {
	a, b := d.live.PrimaryKey, d.wanted.PrimaryKey
	return (a != nil && a.Autoincrement) != (b != nil && b.Autoincrement)
}

// numbersWords say how the database numbers a column; "": it does not.
func numbersWords(c *sqlschema.Column) string {
	switch {
	case c.Serial != "":
		return "serial"
	case c.IdentityAlways:
		return "identity always"
	case c.Identity:
		return "identity"
	}
	return ""
}

// optionsWords are the options of a table.
func optionsWords(o sqlschema.Options) string {
	var out []string
	add := func(is bool, word string) {
		if is {
			out = append(out, word)
		}
	}
	add(o.Strict, "STRICT")
	add(o.WithoutRowid, "WITHOUT ROWID")
	add(o.Unlogged, "UNLOGGED")
	add(o.Virtual != "", o.Virtual)
	add(o.Behind != "", strings.TrimSpace(o.Behind))
	return strings.Join(out, " ")
}

// kept is a wanted column with how the live one is kept, where nothing else is declared.
func (d *tables) kept(old, c *sqlschema.Column) *sqlschema.Column {
	storage := c.Storage != "" || d.wanted.InSQL || !sqlschema.SameForm(old.SQLType, c.SQLType)
	statistics := c.Statistics != nil || d.wanted.InSQL
	if storage && statistics || old.Storage == c.Storage && sameNumber(old.Statistics, c.Statistics) {
		return c
	}
	out := *c
	if !storage {
		out.Storage = old.Storage
	}
	if !statistics {
		out.Statistics = old.Statistics
	}
	return &out
}

func sameNumber(a, b *int) bool { return a == b || a != nil && b != nil && *a == *b }
