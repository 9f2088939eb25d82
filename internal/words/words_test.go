package words

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWords(t *testing.T) {
	for n, want := range map[int64]string{0: "0 rows", 1: "1 row", 2: "2 rows", 999: "999 rows", 1000: "1,000 rows", -1234: "-1,234 rows", 1234567: "1,234,567 rows"} {
		assert.Equal(t, want, Rows(n))
	}
	assert.Equal(t, "1 check", Count(1, "check", "checks"))
}
