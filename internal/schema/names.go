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
	// NextPrefix and PrevPrefix begin those of a column that changes its type under its
	// own name: before it takes the name, and of the old one while it gives it up.
	NextPrefix = OwnPrefix + "next_"
	PrevPrefix = OwnPrefix + "prev_"
)
