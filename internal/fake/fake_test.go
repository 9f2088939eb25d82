package fake

import (
	"os"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"
	"pgregory.net/rapid"
)

// Every generator keeps to the length, is never empty, and gives the same text
// for the same stream.
func TestGenerators(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := rapid.SampledFrom(Generators()).Draw(t, "generator")
		if g.Name == "bcrypt" {
			return
		}
		length, seed := rapid.IntRange(0, 40).Draw(t, "length"), rapid.Uint64().Draw(t, "seed")
		make := func() string {
			r := NewRandom(seed)
			return g.Make(&Want{Random: &r, Length: length, Args: []string{"5"}})
		}
		s := make()
		require.NotEmpty(t, s)
		require.True(t, length == 0 || utf8.RuneCountInString(s) <= length, s)
		require.Equal(t, s, make())
	})
}

func TestPasswords(t *testing.T) {
	for _, password := range []string{"", "herbarium", "päßword", string(make([]byte, 0, 80)) + "a long one that goes on for longer than the seventy-two bytes that count here"} {
		h := hashed(password, 4)
		require.NoError(t, bcrypt.CompareHashAndPassword([]byte(h), []byte(password)[:min(len(password), 72)]), password)
		require.Equal(t, h, hash(password, 4))
		cost, err := bcrypt.Cost([]byte(h))
		require.NoError(t, err)
		require.Equal(t, 4, cost)
	}
}

func TestMailOfTheRow(t *testing.T) {
	r := NewRandom(1)
	row := map[string]string{"name": "Ada O'Verdi-Smith"}
	require.Regexp(t, `^ada\.overdi\.smith@[a-z0-9-]+\.example$`, Lookup("email").Make(&Want{Random: &r, Row: func(f string) string { return row[f] }}))
}

func TestRandom(t *testing.T) {
	r := NewRandom(7)
	for range 1000 {
		n := r.Between(-3, 3)
		require.True(t, n >= -3 && n <= 3)
		require.Less(t, r.Below(5), uint64(5))
	}
	require.Equal(t, int64(9), r.Between(9, 2))
	r.Between(-1<<63, 1<<63-1)
}

// The page on seeds names every generator.
func TestExplained(t *testing.T) {
	page, err := os.ReadFile("../../docs/seeds.md")
	require.NoError(t, err)
	for _, g := range Generators() {
		require.Regexp(t, "`"+g.Name+"[` ]", string(page), g.Name)
		require.NotEmpty(t, g.About)
	}
}
