package migration

// This file names what a migration keeps. The names are a promise: what one version of the
// program kept, every later one restores. So a file says in its form how they are made.

import (
	"strings"

	"erbario/internal/schema"
)

// Kept begins the names of all tables and columns that hold what the migration keeps, such
// as erbario_kept_20261123t093000_7bc6_: its time, and a little of a hash of its title,
// since two may have the same time. In form 1 nothing stood between the two.
func (m *Migration) Kept() string { return KeptNames(m.ID, m.Form) }

// KeptNames begins the names of what the migration with this id keeps, if its file has this
// form; 0: the newest.
func KeptNames(id string, form int) string {
	stamp, title, _ := strings.Cut(id, "-")
	between := "_"
	if form == 1 {
		between = ""
	}
	return schema.KeptPrefix + strings.ToLower(stamp) + between + schema.Hash8(title)[:4] + "_"
}

// KeptRest is what stands behind that in the name of a table or column, if it holds what the
// migration with this id keeps, whatever the form of its file.
func KeptRest(id, name string) (rest string, ok bool) {
	for form := 1; form <= Form; form++ {
		if rest, ok := strings.CutPrefix(strings.ToLower(name), KeptNames(id, form)); ok {
			return rest, true
		}
	}
	return "", false
}

// KeptOfUnknown is what stands behind the time and the hash in the name of what is kept, of
// a migration that is not known.
func KeptOfUnknown(name string) string {
	rest := strings.TrimPrefix(strings.ToLower(name), schema.KeptPrefix)
	first, rest, _ := strings.Cut(rest, "_")
	if len(first) == len("20060102t150405") { // of form 2: the hash comes next
		_, rest, _ = strings.Cut(rest, "_")
	}
	return rest
}
