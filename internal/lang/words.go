package lang

import "slices"

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
