package declare

// This file makes the names of tables, columns and constraints. They follow
// the project's naming rules and are the same on every engine.

import (
	"fmt"
	"strings"

	"github.com/gobuffalo/flect"

	"erbario/internal/schema"
)

// Rules are a project's naming rules.
type Rules struct {
	Tables string // "plural" (or empty) or "singular"
	Key    string // what an implied id is: "number" (or empty) or "uuid"
}

func init() {
	// The rule is English and regular where the word is a term of art; a model
	// that wants the learned plural writes table "taxa".
	if err := flect.LoadInflections(strings.NewReader(`{"taxon":"taxons"}`)); err != nil {
		panic(err)
	}
}

// tableName turns a model's name into its table's.
func (r Rules) tableName(model string) string {
	snake := snakeCase(model)
	if r.Tables == "singular" {
		return snake
	}
	i := strings.LastIndexByte(snake, '_') + 1
	word := snake[i:]
	if strings.HasSuffix(word, "men") && word != "men" && word != "women" {
		return snake + "s" // specimen and stamen are no plurals
	}
	return snake[:i] + flect.Pluralize(word)
}

// snakeCase puts an underscore before each capital that begins a word.
func snakeCase(name string) string { return flect.Underscore(name) }

// apart renames indexes whose made-up names collide in the database, each by a
// hash of what it is, so that no name depends on the order of files.
func apart(tables []*schema.Table, given map[*schema.Index]bool) {
	count := map[string]int{}
	for _, t := range tables {
		count[strings.ToLower(t.Name)]++
		for _, x := range t.Indexes {
			count[strings.ToLower(x.Name)]++
		}
	}
	for _, t := range tables {
		for _, x := range t.Indexes {
			if count[strings.ToLower(x.Name)] > 1 && !given[x] {
				key := fmt.Sprintf("%q %t", t.Name, x.Unique)
				for _, p := range x.Parts {
					key += fmt.Sprintf(" %q %t %q", p.Column, p.Desc, p.Collation)
					if p.Expr != nil {
						key += p.Expr.Text
					}
				}
				if x.Where != nil {
					key += " where " + x.Where.Text
				}
				x.Name = schema.Cut(x.Name + "_" + schema.Hash8(key))
			}
		}
	}
}
