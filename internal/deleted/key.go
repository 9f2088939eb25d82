package deleted

// This file reads and writes what tells a row apart, as people type it.

import (
	"fmt"
	"strings"

	"erbario/internal/schema"
)

// ReadKey reads a key as people type it: the values of its columns, with commas
// between them.
func (t Table) ReadKey(raw string) ([]string, error) {
	keys := t.Key()
	if len(keys) == 0 {
		return nil, fmt.Errorf("%s has no primary key to name a row by", t.Name)
	}
	parts := []string{raw}
	if len(keys) > 1 {
		parts = splitKey(raw)
	}
	if len(parts) != len(keys) {
		return nil, fmt.Errorf(
			"the primary key of %s is %s: write its values separated by commas, a value with a comma in single quotes, not %q",
			t.Name, strings.Join(keys, ", "), raw)
	}
	var out []string
	for i, k := range keys {
		typ := t.Column(k).Type
		v, err := schema.ReadValue(strings.TrimSpace(parts[i]), typ)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", k, err)
		}
		text, err := t.SQL.Literal(v, typ)
		if err != nil {
			return nil, err
		}
		out = append(out, text)
	}
	return out, nil
}

// splitKey cuts a key at its commas. A part in single quotes may hold some, and has its own
// quotes doubled.
func splitKey(raw string) []string {
	var out []string
	for rest := raw; ; {
		rest = strings.TrimLeft(rest, " ")
		part, more := rest, ""
		found := false
		if strings.HasPrefix(rest, "'") {
			var b strings.Builder
			i := 1
			for ; i < len(rest); i++ {
				if rest[i] == '\'' {
					if i+1 < len(rest) && rest[i+1] == '\'' {
						i++
					} else {
						break
					}
				}
				b.WriteByte(rest[i])
			}
			part, more = b.String(), ""
			if i < len(rest) {
				more = strings.TrimLeft(rest[i+1:], " ")
			}
			if more != "" && more[0] != ',' { // no quoted part after all
				part, more, found = strings.Cut(rest, ",")
			} else if more != "" {
				more, found = more[1:], true
			}
		} else {
			part, more, found = strings.Cut(rest, ",")
		}
		out = append(out, part)
		if !found {
			return out
		}
		rest = more
	}
}

// JoinKey is a key, of plain values, as ReadKey takes it.
func JoinKey(values []string) string {
	if len(values) == 1 {
		return values[0]
	}
	out := make([]string, len(values))
	for i, v := range values {
		if out[i] = v; strings.ContainsAny(v, ",'") || strings.TrimSpace(v) != v {
			out[i] = "'" + strings.ReplaceAll(v, "'", "''") + "'"
		}
	}
	return strings.Join(out, ",")
}

// KeyWords is a row's key in words, such as id 7.
func (t Table) KeyWords(key []string) string {
	var out []string
	for i, k := range t.Key() {
		out = append(out, k+" "+key[i])
	}
	return strings.Join(out, ", ")
}
