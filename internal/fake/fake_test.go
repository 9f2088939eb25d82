package fake

import (
	"math/big"
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
		r := NewRandom(3)
		h := hashed(&r, password, 4)
		require.NoError(t, bcrypt.CompareHashAndPassword([]byte(h), []byte(password)[:min(len(password), 72)]),
			password)
		require.NotEqual(t, h, hash(password, 4, salts), "another salt")
		cost, err := bcrypt.Cost([]byte(h))
		require.NoError(t, err)
		require.Equal(t, 4, cost)
	}
}

func TestMailOfTheRow(t *testing.T) {
	r := NewRandom(1)
	row := map[string]string{"name": "Ada O'Verdi-Smith"}
	require.Regexp(t, `^ada\.overdi\.smith@[a-z0-9-]+\.example$`,
		Lookup("email").Make(&Want{Random: &r, Row: func(f string) string { return row[f] }}))
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

// What is made for machines is of the right form, and leads nowhere.
func TestForms(t *testing.T) {
	forms := map[string]string{
		"ip": `^(192\.0\.2|198\.51\.100|203\.0\.113)\.[0-9]{1,3}$`, "ipv6": `^2001:db8::[0-9a-f]{1,3}:[0-9a-f]{1,4}$`, "mac": `^02(:[0-9a-f]{2}){5}$`,
		"hostname": `^[a-z-]+-[1-9]\.[a-z-]+\.example$`, "currency": `^[A-Z]{3}$`, "language": `^[a-z]{2}$`, "locale": `^[a-z]{2}-[A-Z]{2}$`, "timezone": `^[A-Z][a-z]+/[A-Z][A-Za-z_]+$`, "semver": `^[0-9]+\.[0-9]+\.[0-9]+(-(alpha|beta|rc)\.[1-4])?$`, "price": `^[0-9]+\.[0-9]{2}$`,
		"hash": `^[0-9a-f]{64}$`, "hex_color": `^#[0-9a-f]{6}$`, "file_name": `^[a-z-]+\.[a-z0-9]{3,4}$`, "mime_type": `^[a-z]+/[a-z0-9+]+$`, "path": `^/[a-z-]+/[a-z-]+\.[a-z0-9]{3,4}$`,
		"image_url": `^https://images\.[a-z-]+\.example/[a-z-]+\.(jpg|png)$`, "version": `^[0-9]+\.[0-9]+\.[0-9]+$`, "iban": `^DE[0-9]{2}00000000[0-9]{10}$`, "house_number": `^[0-9]{1,3}[abc]?$`, "latitude": `^-?[0-9]{1,2}\.[0-9]{4}$`, "longitude": `^-?[0-9]{1,3}\.[0-9]{4}$`,
	}
	for name, form := range forms {
		r := NewRandom(Hash(name))
		for range 500 {
			made := Lookup(name).Make(&Want{Random: &r})
			require.Regexp(t, form, made, name)
			if n := Longest(name, nil); n > 0 {
				require.LessOrEqual(t, len(made), n, "%s: %s", name, made)
			}
			if name == "iban" {
				n, ok := new(big.Int).SetString(made[4:]+"1314"+made[2:4], 10)
				require.True(t, ok)
				require.Equal(t, int64(1), n.Mod(n, big.NewInt(97)).Int64(), made)
			}
		}
	}
}

// A text is never longer than is said of its generator.
func TestLongest(t *testing.T) {
	r := NewRandom(5)
	for _, g := range Generators() {
		n := Longest(g.Name, []string{"20"})
		if n == 0 || g.Name == "bcrypt" {
			continue
		}
		for range 2000 {
			require.LessOrEqual(t, utf8.RuneCountInString(g.Make(&Want{Random: &r, Args: []string{"20"}})), n, g.Name)
		}
	}
}
