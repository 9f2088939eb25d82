package words

// This file makes one line of a text.

import (
	"strings"
	"unicode"
)

// OneLine makes a line's worth of a text: control characters gone, so that no
// name with a line break in it can begin a marker.
func OneLine(s string) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' {
			return ' '
		}
		return r
	}, s)
	return strings.Join(strings.Fields(s), " ")
}
