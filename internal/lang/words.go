package lang

import (
	"slices"
	"strings"
)

// This file is the words of the language: what a line or a clause may begin with, for the
// messages that say what was expected.

var blockWords = []string{"model", "choice", "shape", "seed", "rows"}

var actionWords = []string{"restrict", "cascade", "set null", "set default", "no action"}

// BeginsType tells whether a word begins a type.
func BeginsType(name string) bool { return slices.Contains(typeNames, name) }

// typeNames are the words that begin a type.
var typeNames = []string{
	"text",
	"char",
	"smallint",
	"integer",
	"bigint",
	"decimal",
	"real",
	"double",
	"boolean",
	"date",
	"time",
	"timestamp",
	"datetime",
	"uuid",
	"json",
	"bytes",
	"choice",
	"references",
	"array of",
}

// lineWords are what a line of a model may begin with that is no field.
var lineWords = []string{
	"table",
	"comment",
	"timestamps",
	"no timestamps",
	"primary key",
	"no key",
	"unique",
	"index",
	"check",
	"foreign key",
	"include",
	"soft delete",
	"collation",
	"options",
	"schema",
	"no type checks",
}

var clauseWords = []string{
	"optional",
	"default",
	"unique",
	"index",
	"no index",
	"immutable",
	"nonblank",
	"range",
	"key",
	"identity",
	"column",
	"comment",
	"stamped",
	"fake",
	"check",
	"generated",
	"on delete",
	"on update",
	"as",
	"collation",
	"storage",
	"statistics",
	"serial",
	"rowid",
	"invisible",
	"named",
	"unnamed",
	"deferrable",
	"match",
}

// counts are numbers as words.
var counts = []string{
	"one",
	"two",
	"three",
	"four",
	"five",
	"six",
	"seven",
	"eight",
	"nine",
	"ten",
	"twenty",
	"hundred",
	"thousand",
	"some",
	"many",
	"few",
}

// BeginsLine tells whether a word begins a line that is no field: a field of that name is in quotes.
func BeginsLine(name string) bool {
	return slices.ContainsFunc(lineWords, func(line string) bool {
		first, _, _ := strings.Cut(line, " ")
		return first == name && name != "table" && name != "comment" && name != "timestamps" && name != "collation" &&
			name != "options" && name != "schema"
	})
}

// BlockWords, LineWords, TypeWords, ClauseWords and ActionWords are what a block, a line of a model that is no
// field, a type and a clause may begin with, and what a reference may do.
func BlockWords() []string  { return blockWords }
func LineWords() []string   { return lineWords }
func TypeWords() []string   { return typeNames }
func ClauseWords() []string { return clauseWords }
func ActionWords() []string { return actionWords }
