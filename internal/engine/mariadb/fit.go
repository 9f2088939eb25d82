package mariadb

// This file sees to it that indexes fit into what the server takes: 3,072 bytes, with
// four for each character. It would refuse a longer one. Of values that are unique
// together the longest are held by their sums; of others an index holds the beginnings.

import (
	"cmp"
	"fmt"
	"strings"

	"erbario/internal/sqlschema"
)

// indexBytes is how much of a row an index holds at the most: the server's limit for
// pages of the usual size.
const indexBytes = 4 * longestIndexed

// width is how many bytes of a column an index holds.
func width(c *sqlschema.Column, p sqlschema.Part) int {
	head, rest, _ := strings.Cut(c.SQLType, "(")
	var n, scale int
	_, _ = fmt.Sscanf(rest, "%d,%d", &n, &scale)
	switch {
	case p.Length > 0 && strings.HasSuffix(head, "blob"):
		return p.Length
	case p.Length > 0:
		return perCharacter(c) * p.Length
	}
	switch head {
	case "varchar", "char":
		return perCharacter(c) * n
	case "varbinary", "binary":
		return n
	case "decimal":
		bytes := func(digits int) int { return digits/9*4 + (digits%9+1)/2 }
		return bytes(n-scale) + bytes(scale)
	case "uuid":
		return 16
	case "tinyint":
		return 1
	case "smallint":
		return 2
	case "int", "float":
		return 4
	}
	return 8
}

// perCharacter is how many bytes of an index a character of a column takes at the most.
func perCharacter(c *sqlschema.Column) int {
	switch charset, _, _ := strings.Cut(c.Collation, "_"); charset {
	case "", "utf8mb4", "utf16", "utf32":
		return 4
	case "utf8", "utf8mb3", "ujis", "eucjpms":
		return 3
	}
	return 1
}

// total is how many bytes of a row parts are.
func total(t *sqlschema.Table, parts []sqlschema.Part) int {
	sum := 0
	for _, p := range parts {
		if c := t.Column(p.Column); c != nil {
			of := *c
			of.Collation = cmp.Or(c.Collation, collationOf(t.Options.Behind))
			sum += width(&of, p)
		}
	}
	return sum
}

// widest is the part of the most bytes among those of texts that are held by more than
// so many characters; -1: there is none.
func widest(t *sqlschema.Table, parts []sqlschema.Part, more int) int {
	at, most := -1, 4*more
	for i, p := range parts {
		c := t.Column(p.Column)
		if c == nil || !strings.HasPrefix(c.SQLType, "varchar") && p.Length == 0 {
			continue
		}
		if w := width(c, p); w > most {
			at, most = i, w
		}
	}
	return at
}

// fit shortens an index that the server would refuse. sum gives the column of the sums
// of another.
func fit(t *sqlschema.Table, x *sqlschema.Index, sum func(p sqlschema.Part) sqlschema.Part,
	mistake, notice func(column, format string, args ...any)) {
	if total(t, x.Parts) <= indexBytes {
		return
	}
	for x.Unique && total(t, x.Parts) > indexBytes {
		i := widest(t, x.Parts, 64)
		if i < 0 {
			break
		}
		x.Parts[i] = sum(x.Parts[i])
	}
	for most := indexedBeginning; !x.Unique && most > 0 && total(t, x.Parts) > indexBytes; most /= 2 {
		for i := widest(t, x.Parts, most); i >= 0 && total(t, x.Parts) > indexBytes; i = widest(t, x.Parts, most) {
			x.Parts[i].Length = most
		}
	}
	if total(t, x.Parts) > indexBytes {
		mistake("",
			"the index %s is larger than the 3,072 bytes that MariaDB allows, at four bytes a character. Give its texts a length, or remove some of them",
			x.Name)
	} else if !x.Unique {
		notice("", "an index of MariaDB holds 3,072 bytes: %s holds only the beginning of each text", x.Name)
	}
}
