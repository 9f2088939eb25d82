package lang

// This file is how a mistake is told: where, what, and what was probably meant.

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Diagnostic is one mistake or warning in a file.
type Diagnostic struct {
	Pos     Pos
	Message string // one sentence without a full stop
	Hint    string // what was probably meant, or what to do
	Warning bool
}

// Error gives the diagnostic in one line.
func (d Diagnostic) Error() string {
	s := fmt.Sprintf("%s:%d:%d: %s", d.Pos.Path, d.Pos.Line, d.Pos.Col, d.Message)
	if d.Hint != "" {
		s += "; " + d.Hint
	}
	return s
}

// Excerpt returns the line of src that the diagnostic is about, and the line
// of blanks and marks to print under it.
func (d Diagnostic) Excerpt(src string) (line, mark string) {
	if d.Pos.Off > len(src) {
		return "", ""
	}
	start := strings.LastIndexByte(src[:d.Pos.Off], '\n') + 1
	end := strings.IndexByte(src[d.Pos.Off:], '\n')
	if end < 0 {
		end = len(src)
	} else {
		end += d.Pos.Off
	}
	line = strings.TrimRight(src[start:end], "\r")
	before := src[start:d.Pos.Off]
	width := 1
	if d.Pos.End > d.Pos.Off {
		width = max(1, utf8.RuneCountInString(src[d.Pos.Off:min(d.Pos.End, end)]))
	}
	blank := strings.Map(func(r rune) rune {
		if r == '\t' {
			return r
		}
		return ' '
	}, before)
	return visible(line), blank + strings.Repeat("^", width)
}

// visible replaces control characters, so that a hostile file cannot drive the
// terminal that shows it.
func visible(s string) string {
	return strings.Map(func(r rune) rune {
		if (r < ' ' && r != '\t') || r == 0x7f || (r >= 0x80 && r < 0xa0) {
			return '\uFFFD'
		}
		return r
	}, s)
}

// Sort puts diagnostics in the order of files and places, and drops repeats.
func Sort(ds []Diagnostic) []Diagnostic {
	slices.SortStableFunc(ds, func(a, b Diagnostic) int {
		if c := strings.Compare(a.Pos.Path, b.Pos.Path); c != 0 {
			return c
		}
		return a.Pos.Off - b.Pos.Off
	})
	return slices.Compact(ds)
}

// Errors tells whether any of the diagnostics is more than a warning.
func Errors(ds []Diagnostic) bool {
	return slices.ContainsFunc(ds, func(d Diagnostic) bool { return !d.Warning })
}

// Nearest returns the known word that was probably meant by an unknown one, or
// "" when none is near enough.
func Nearest(unknown string, known []string) string {
	best, dist := "", 3
	if n := utf8.RuneCountInString(unknown); n <= 3 {
		dist = 2
	}
	for _, k := range known {
		if strings.EqualFold(k, unknown) {
			return k
		}
		if d := distance(strings.ToLower(unknown), strings.ToLower(k)); d < dist {
			best, dist = k, d
		}
	}
	return best
}

// DidYouMean gives a hint that names the nearest known word, or "".
func DidYouMean(unknown string, known []string) string {
	if n := Nearest(unknown, known); n != "" {
		return fmt.Sprintf("did you mean %s?", n)
	}
	return ""
}

// distance counts the letters to insert, delete, replace or swap.
func distance(a, b string) int {
	s, t := []rune(a), []rune(b)
	if len(s) > 200 || len(t) > 200 {
		return 200
	}
	prev2, prev := make([]int, len(t)+1), make([]int, len(t)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(s); i++ {
		row := make([]int, len(t)+1)
		row[0] = i
		for j := 1; j <= len(t); j++ {
			cost := 1
			if s[i-1] == t[j-1] {
				cost = 0
			}
			row[j] = min(prev[j]+1, row[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && s[i-1] == t[j-2] && s[i-2] == t[j-1] {
				row[j] = min(row[j], prev2[j-2]+1)
			}
		}
		prev2, prev = prev, row
	}
	return prev[len(t)]
}
