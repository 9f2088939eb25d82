package lang

// This file puts the clauses of a field in one order: how the value is stored, whether it must be
// there, what it is by itself, what holds for it, what it is called, and last what takes the rest
// of the line. A line with breaks or comments of its author stays as it is.

import "slices"

// clauseOrder are the words of clauses in the order in which they are written.
var clauseOrder = []string{
	"as", "optional", "key", "identity", "serial", "rowid", "default", "update now", "unique", "index", "no index",
	"immutable", "nonblank", "stamped", "range", "collation", "storage", "statistics", "column", "comment", "invisible", "fake", "delete",
	"update", "check", "generated",
}

// inOrder are the words of a field's line with its clauses in their order.
func inOrder(l *Line) []word {
	words := l.layout.words
	if l.Field == nil || len(l.Field.Clauses) < 2 {
		return words
	}
	for i, w := range words {
		if i > 0 && (w.broken || len(w.above) > 0) {
			return words
		}
	}
	type piece struct {
		rank  int
		words []word
	}
	var pieces []piece
	at := len(words)
	for i, k := range slices.Backward(l.Field.Clauses) {
		start := k.Pos.Off
		if len(k.On) > 0 {
			start = k.On[0].Pos.Off - len("on ")
		}
		from := slices.IndexFunc(words, func(w word) bool { return w.segment == 2 && w.off >= start })
		if from < 0 || from > at || k.Pos.End == 0 && i >= 0 {
			return words
		}
		rank := slices.Index(clauseOrder, k.Word)
		if rank < 0 {
			return words
		}
		pieces = append(pieces, piece{rank, words[from:at]})
		at = from
	}
	slices.Reverse(pieces)
	slices.SortStableFunc(pieces, func(a, b piece) int { return a.rank - b.rank })
	out := slices.Clone(words[:at])
	for _, p := range pieces {
		out = append(out, p.words...)
	}
	return out
}
