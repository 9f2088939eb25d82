package adopt

// This file finds names for models, fields and files: the naming rules, the other way round.

import (
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"erbario/internal/declare"
	"erbario/internal/lang"
	"erbario/internal/schema"
)

// Matches tells whether one of some patterns is a name, or stands for it with *.
func Matches(patterns []string, name string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		ok, err := path.Match(p, name)
		return p == name || err == nil && ok
	})
}

// naming is the names of the models and the fields of a run.
type naming struct {
	rules   declare.Rules
	taken   map[string]bool              // names of models, in lower case
	models  map[string]string            // by the name of a table
	fields  map[string]map[string]string // by table and column
	choices map[string]string            // by the name of an enum type
}

// model gives a table's model its name: the singular of its words, with those of its schema before
// them where that is taken, and then a number.
func (n *naming) model(table *schema.Table) string {
	base := modelName(table.Bare())
	if table.Schema != "" && n.taken[strings.ToLower(base)] {
		base = modelName(table.Schema + " " + table.Bare())
	}
	name := base
	for i := 2; n.taken[strings.ToLower(name)]; i++ {
		name = base + strconv.Itoa(i)
	}
	n.taken[strings.ToLower(name)] = true
	n.models[table.Name] = name
	return name
}

// modelName is the name of a model by that of its table.
func modelName(table string) string {
	words := strings.FieldsFunc(table, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.Is(unicode.Mn, r)
	})
	if len(words) > 0 {
		words[len(words)-1] = declare.Singular(words[len(words)-1])
	}
	var b strings.Builder
	for _, w := range words {
		if strings.ToUpper(w) == w && len([]rune(w)) > 1 { // all in capitals
			w = strings.ToLower(w)
		}
		list := []rune(w)
		b.WriteString(string(unicode.ToUpper(list[0])) + string(list[1:]))
	}
	name := b.String()
	if name == "" || !unicode.IsLetter([]rune(name)[0]) {
		name = "T" + name
	}
	return name
}

// reserved are the words with which a line of a model that is no field begins.
var reserved = []string{"unique", "index", "check", "primary", "foreign", "no", "include", "soft", "on"}

// fieldName is a field's name as a model writes it.
func fieldName(name string) string {
	if slices.Contains(reserved, name) || !lang.IsName(name) {
		return text(name)
	}
	return name
}

// constraintName is a name before a colon.
func constraintName(name string) string {
	if !lang.IsName(name) || slices.Contains([]string{"unnamed", "comment", "not", "no"}, name) {
		return text(name)
	}
	return name
}

// text is a text in quotes.
func text(s string) string { return schema.Value{Kind: schema.TextValue, Text: s}.String() }

// folderName is the name of the folder for the models of a schema; "": they need none.
func folderName(in string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) || r == '-' || r == '_' {
			return unicode.ToLower(r)
		}
		return '_'
	}, in)
}

// fileName is the name of a model's file, told apart from others in lower case.
func fileName(model string, taken map[string]bool) string {
	base := strings.ToLower(declare.SnakeCase(model))
	name := base
	for i := 2; taken[name]; i++ {
		name = base + strconv.Itoa(i)
	}
	taken[name] = true
	return name
}
