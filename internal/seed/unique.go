package seed

// This file remembers which values of a uniqueness have been made. What is
// remembered is a number for each combination of values, and only so many of
// them: beyond that, values carry the number of their row, and cannot be the
// same.

import (
	"math"
	"strings"
	"unicode"

	"erbario/internal/fake"
)

// remembered is how many combinations of one uniqueness are remembered: 16 MB.
const remembered = 1_000_000

// unique is a uniqueness of a table: no two rows have the same values in it.
type unique struct {
	name    string
	columns []int            // positions in the row
	fold    []bool           // by columns: case does not count
	where   *expr            // the rows among which it holds; nil: all
	byUp    bool             // the rows of the line above have it apart: it is forgotten from one to the next
	cursor  int64            // the next combination to try
	next    map[uint64]int64 // of values that are alike: the number of the next one to try
	weary   int              // so many tries by chance fewer, since the last ones found nothing
	seen    numbers
}

// number tells a combination of values from all others; ok is false where it is
// not in the uniqueness, since a value is null or the rows are others.
func (u *unique) number(row []any) (n uint64, ok bool) {
	if u.where != nil {
		if t, ok := u.where.of(row).(bool); ok && !t {
			return 0, false
		}
	}
	n = uint64(len(u.columns))
	for i, at := range u.columns {
		var h uint64
		cell := row[at]
		if same, ok := cell.(sameLine); ok {
			cell = same.value
		}
		switch v := cell.(type) {
		case nil:
			return 0, false
		case int64:
			h = uint64(v)
		case float64:
			h = math.Float64bits(v)
		case bool:
			if v {
				h = 1
			}
		case []byte:
			h = fake.Hash(string(v))
		case string:
			if u.fold[i] {
				v = strings.Map(unicode.ToLower, v)
			}
			h = fake.Hash(v)
		}
		n = fake.Mix(n ^ fake.Mix(h+0x51))
	}
	return n, true
}

// took notes which of several values that are alike is taken.
func (u *unique) took(like uint64, i int64) {
	if u.next == nil || len(u.next) > remembered/4 {
		u.next = map[uint64]int64{}
	}
	u.next[like] = i + 1
}

// numbers is a set of numbers in one piece of memory.
type numbers struct {
	slots []uint64
	count int
}

func (s *numbers) at(n uint64) int {
	for i := int(n & uint64(len(s.slots)-1)); ; i = (i + 1) & (len(s.slots) - 1) {
		if s.slots[i] == n || s.slots[i] == 0 {
			return i
		}
	}
}

func (s *numbers) has(n uint64) bool {
	return s.count > 0 && s.slots[s.at(n|1)] != 0
}

// add puts a number in; its last bit does not count, so that none is 0.
func (s *numbers) add(n uint64) {
	if s.count*2 >= len(s.slots) {
		old := s.slots
		s.slots = make([]uint64, max(16, len(old)*2))
		for _, n := range old {
			if n != 0 {
				s.slots[s.at(n)] = n
			}
		}
	}
	if i := s.at(n | 1); s.slots[i] == 0 {
		s.slots[i] = n | 1
		s.count++
	}
}

func (s *numbers) clear() {
	if s.count > 0 {
		clear(s.slots)
		s.count = 0
	}
}
