package apptypes

// This file makes names as the languages write them: from the names of models, fields and values.

import (
	_ "embed"
	"strconv"
	"strings"
	"unicode"
)

// pieces are the words of a name: taxon_id, oddName and "on hold" have two.
func pieces(name string) (out []string) {
	var word []rune
	end := func() {
		if len(word) > 0 {
			out = append(out, strings.ToLower(string(word)))
		}
		word = nil
	}
	runes := []rune(name)
	for i, r := range runes {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			end()
			continue
		}
		next := i+1 < len(runes) && unicode.IsLower(runes[i+1])
		if unicode.IsUpper(r) && len(word) > 0 && (!unicode.IsUpper(word[len(word)-1]) || next) {
			end()
		}
		word = append(word, r)
	}
	end()
	return out
}

func title(s string) string {
	for i, r := range s {
		return string(unicode.ToUpper(r)) + s[i+len(string(r)):]
	}
	return s
}

// pascal is TaxonId, camel taxonId, snake taxon_id, and shout TAXON_ID.
func pascal(name string) string {
	out := ""
	for _, w := range pieces(name) {
		out += title(w)
	}
	return begun(out, "N")
}

func camel(name string) string {
	out := ""
	for i, w := range pieces(name) {
		if i > 0 {
			w = title(w)
		}
		out += w
	}
	return begun(out, "n")
}

func snake(name string) string { return begun(strings.Join(pieces(name), "_"), "n_") }

func shout(name string) string { return begun(strings.ToUpper(strings.Join(pieces(name), "_")), "N_") }

// begun is a name that begins with a letter.
func begun(name, with string) string {
	if name == "" {
		return strings.TrimSuffix(with, "_")
	}
	if unicode.IsDigit([]rune(name)[0]) {
		return with + name
	}
	return name
}

// plain reports whether a name can be written as it is: of letters, digits and _, and not a digit first.
func plain(name string) bool {
	for i, r := range name {
		if r != '_' && !unicode.IsLetter(r) && (i == 0 || !unicode.IsDigit(r)) {
			return false
		}
	}
	return name != ""
}

// goName is a name as Go exports it, with the initials of which its linters think.
func goName(name string) string {
	out := ""
	for _, w := range pieces(name) {
		switch w {
		case "id", "url", "uuid", "uri", "ip", "http", "json", "xml", "html", "sql", "api":
			out += strings.ToUpper(w)
		case "ids", "urls":
			out += strings.ToUpper(w[:len(w)-1]) + "s"
		default:
			out += title(w)
		}
	}
	if out = begun(out, "N"); !unicode.IsUpper([]rune(out)[0]) {
		return "X" + out // of a script that has no capital letters
	}
	return out
}

// naming gives the names of one language: each once, and none that the language or its file uses.
type naming struct {
	style  func(string) string
	never  map[string]bool
	escape func(string) string
}

// all are the names of fields, by their columns: all different.
func (n naming) all(fields []*Field, also ...string) map[*Field]string {
	out, taken := map[*Field]string{}, map[string]bool{}
	for _, name := range also {
		taken[name] = true
	}
	for _, f := range fields {
		name := n.style(f.Column)
		if n.never[name] {
			name = n.escape(name)
		}
		out[f] = unique(name, taken)
	}
	return out
}

// values are the names of a choice's values, in their order: all different.
func (n naming) values(c *Choice) []string {
	var out []string
	taken := map[string]bool{}
	for _, v := range c.Values {
		name := n.style(v)
		if len(pieces(v)) == 0 {
			name = n.style("other") // of signs alone, or empty
		}
		if n.never[name] {
			name = n.escape(name)
		}
		out = append(out, unique(name, taken))
	}
	return out
}

//go:embed reserved.txt
var reservedText string

// reserved are words that names of types, or of fields, cannot be: such as those of "java fields".
func reserved(of string) map[string]bool {
	for line := range strings.Lines(reservedText) {
		if list, ok := strings.CutPrefix(line, of+": "); ok {
			return words(list)
		}
	}
	return nil
}

// words is a set of words that are separated by blanks.
func words(list string) map[string]bool {
	out := map[string]bool{}
	for w := range strings.FieldsSeq(list) {
		out[w] = true
	}
	return out
}

func underscored(name string) string { return name + "_" }

// quoted is a text in double quotes, as all of the languages but one read it.
func quoted(s string) string {
	q := strconv.Quote(s)
	return strings.NewReplacer(`\x00`, `\u0000`, `\a`, `\u0007`, `\v`, `\u000b`, `\x7f`, `\u007f`).Replace(q)
}
