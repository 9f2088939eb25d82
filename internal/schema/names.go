package schema

// This file makes the names of constraints and indexes: the table, the columns
// and the kind, as a server itself would name them, within the strictest limit
// of any engine.

import (
	"crypto/sha256"
	"encoding/hex"
	"strings"
	"unicode/utf8"
)

// NameLimit is the length in bytes that a name may have: PostgreSQL's, the
// shortest of the engines'.
const NameLimit = 63

// Cut shortens a name to the limit. What is cut off is told by a hash, so that
// two long names never become one.
func Cut(name string) string {
	if len(name) <= NameLimit {
		return name
	}
	head := name[:NameLimit-9]
	for !utf8.ValidString(head) {
		head = head[:len(head)-1]
	}
	return head + "_" + Hash8(name)
}

// Hash8 is a short hash of s, eight hexadecimal digits.
func Hash8(s string) string {
	sum := sha256.Sum256([]byte(s))
	return hex.EncodeToString(sum[:4])
}

// ConstraintName is the name of a constraint, index or trigger made for the
// columns of a table.
func ConstraintName(table string, columns []string, suffix string) string {
	return Cut(strings.Join(append(append([]string{table}, columns...), suffix), "_"))
}

// Own tells whether a table, view or index belongs to Erbario itself: it is in
// no diff and no model can be called so.
func Own(name string) bool {
	return len(name) >= len(OwnPrefix) && strings.EqualFold(name[:len(OwnPrefix)], OwnPrefix)
}

// OwnPrefix begins the names of all tables that belong to Erbario, and
// KeptPrefix those of the tables that hold what destructive steps preserved.
const (
	OwnPrefix  = "erbario_"
	KeptPrefix = "erbario_kept_"
	// ApartPrefix begins the name of a type while another is made in its place: it stays in its schema.
	ApartPrefix = "erbario_before_"
	// NextPrefix and PrevPrefix begin those of a column that changes its type under its
	// own name: before it takes the name, and of the old one while it gives it up.
	NextPrefix = OwnPrefix + "next_"
	PrevPrefix = OwnPrefix + "prev_"
	// MoveFunction is the function that moves a table into another schema, called with both.
	MoveFunction = OwnPrefix + "move"
)

// A table, or what else lies in a schema, that lies in another than the project's own has that
// before its name, as in SQL: billing.accounts. A part that has a point of its own is in double
// quotes then. That is so only on an engine whose databases have schemas, and never of what is
// Erbario's own: all of that lies in the project's schema.

// Apart is the name of a type that waits while another is made in its place.
func Apart(name string) string {
	in, own := SplitName(name)
	if in == "" {
		return Cut(ApartPrefix + name)
	}
	return InSchema(in, Cut(ApartPrefix+own))
}

// InSchema is the name of what lies in a schema; "": the project's own.
func InSchema(schema, name string) string {
	if Own(name) && !(schema != "" && strings.HasPrefix(name, ApartPrefix)) {
		return name
	}
	quoted := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
	if strings.Contains(name, ".") || strings.HasPrefix(name, `"`) {
		name = quoted(name)
	}
	if schema == "" {
		return name
	}
	if strings.ContainsAny(schema, `."`) {
		schema = quoted(schema)
	}
	return schema + "." + name
}

// SplitName is the schema in which something lies, "" for the project's own, and its name there.
func SplitName(name string) (schema, own string) {
	if Own(name) || !strings.ContainsAny(name, `."`) {
		return "", name
	}
	n := firstPart(name)
	if n == len(name) {
		return "", unquoted(name)
	}
	return unquoted(name[:n]), unquoted(name[n+1:])
}

// firstPart is the length of a name up to its first point that is not in double quotes.
func firstPart(name string) int {
	quoted := false
	for i := range len(name) {
		switch {
		case name[i] == '"':
			quoted = !quoted
		case name[i] == '.' && !quoted:
			return i
		}
	}
	return len(name)
}

func unquoted(part string) string {
	if len(part) > 1 && part[0] == '"' && part[len(part)-1] == '"' {
		return strings.ReplaceAll(part[1:len(part)-1], `""`, `"`)
	}
	return part
}

// CutTable cuts a name as people write it, table.field, behind the table, whose schema may stand
// before it. isTable tells which names are those of tables.
func CutTable(name string, isTable func(string) bool) (table, rest string, found bool) {
	n := firstPart(name)
	if n == len(name) {
		return name, "", false
	}
	if m := n + 1 + firstPart(name[n+1:]); isTable(name[:m]) && (m < len(name) || !isTable(name[:n])) {
		n = m
	}
	if n == len(name) {
		return name, "", false
	}
	return name[:n], name[n+1:], true
}
