package schema

// This file finds the names of columns that are in braces in SQL of the
// models. SQL in a declared schema keeps them so, since how a name is quoted is
// the engine's business.

import "strings"

// Braces replaces each {name} in sql by what f gives for the name, leaving
// quoted texts alone.
func Braces(sql string, f func(name string) string) string {
	var b strings.Builder
	for i := 0; i < len(sql); i++ {
		switch sql[i] {
		case '\'', '"', '`':
			end := i + 1
			for end < len(sql) && sql[end] != sql[i] {
				end++
			}
			end = min(end+1, len(sql))
			b.WriteString(sql[i:end])
			i = end - 1
		case '{':
			n := strings.IndexByte(sql[i:], '}')
			if n < 0 {
				b.WriteString(sql[i:])
				return b.String()
			}
			b.WriteString(f(strings.Trim(strings.TrimSpace(sql[i+1:i+n]), `"`)))
			i += n
		default:
			b.WriteByte(sql[i])
		}
	}
	return b.String()
}
