// Package words puts numbers into words, the same everywhere: words.Rows(1200) is
// "1,200 rows".
package words

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Thousands gives a number with separators of thousands.
func Thousands(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Rows gives a number of rows.
func Rows(n int64) string { return Count(n, "row", "rows") }

// Count gives a number of things, called one if there is one, else many.
func Count(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Thousands(n) + " " + many
}

// Have is a number of rows that have something: 1 row has, 2 rows have.
func Have(n int64) string {
	if n == 1 {
		return "1 row has"
	}
	return Rows(n) + " have"
}

// Bytes gives a size, such as 12 kB.
func Bytes(n int64) string {
	switch {
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GB", float64(n)/(1<<30))
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MB", float64(n)/(1<<20))
	}
	return fmt.Sprintf("%d kB", (n+1023)/1024)
}

// Duration gives a time without the units that are zero, such as 1h or 90s.
func Duration(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// Join is the names of things, with commas between them.
func Join[T fmt.Stringer](list []T) string {
	var out []string
	for _, s := range list {
		out = append(out, s.String())
	}
	return strings.Join(out, ", ")
}
