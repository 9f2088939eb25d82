package schema

// This file orders changes of names so that each name is free before it is taken.

import (
	"slices"
	"strings"
)

// Move is a name that becomes another.
type Move struct{ From, To string }

// InOrder gives the moves of one space of names in an order in which they can be made one
// after the other: those of a chain from its end, those of a circle by way of a name that
// between gives.
func InOrder(moves []Move, between func(from string) string) []Move {
	left := slices.Clone(moves)
	var out []Move
	for len(left) > 0 {
		i := slices.IndexFunc(left, func(m Move) bool {
			return !slices.ContainsFunc(left, func(o Move) bool { return o != m && strings.EqualFold(o.From, m.To) })
		})
		if i < 0 {
			mid := between(left[0].From)
			out = append(out, Move{left[0].From, mid})
			left[0].From = mid
			continue
		}
		out = append(out, left[i])
		left = slices.Delete(left, i, i+1)
	}
	return out
}
