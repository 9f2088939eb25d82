package sqltok_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"erbario/internal/engine/sqltok"
)

var (
	plain = &sqltok.Rules{
		NameQuotes:   "\"`[",
		TextQuotes:   "'",
		TextsAsNames: true,
		Prefixes:     []sqltok.Prefix{{Head: "x", Quote: '\'', Kind: sqltok.Blob}},
		Params:       "?",
		Hex:          true,
		Operators:    []string{"->>", "<>"},
	}
	folding = &sqltok.Rules{
		NameQuotes:     `"`,
		TextQuotes:     "'",
		FoldNames:      true,
		Prefixes:       []sqltok.Prefix{{Head: "e", Quote: '\'', Escapes: true, Kind: sqltok.Text}},
		Escaped:        map[byte]byte{'n': '\n'},
		DollarTexts:    true,
		DollarAfter:    true,
		NestedComments: true,
		Operators:      []string{"::"},
	}
	ticks = &sqltok.Rules{
		NameQuotes:   "`",
		TextQuotes:   `'"`,
		Escapes:      `'"`,
		Escaped:      map[byte]byte{'n': '\n'},
		CharsetText:  true,
		Dollar:       true,
		HashComments: true,
		DashBlank:    true,
		RunComments:  []string{"/*!"},
		Hex:          true,
	}
)

// each token is its kind, and in brackets what it stands for as a name, or as a text.
func read(r *sqltok.Rules, src string) string {
	var out []string
	for off := 0; ; {
		t := r.Next(src, off)
		if t.Start >= len(src) {
			return strings.Join(out, " ")
		}
		val := t.Val
		if t.Kind == sqltok.Word {
			val = t.Name()
		}
		word := []string{"word", "name", "text", "number", "blob", "param", "mark", "comment", "bad"}[t.Kind]
		if val != "" {
			word += "(" + val + ")"
		}
		out = append(out, word)
		off = t.End
	}
}

func TestKinds(t *testing.T) {
	for _, c := range []struct {
		rules     *sqltok.Rules
		src, want string
	}{
		{plain, `SELECT "a""b", [c d] FROM t`, `word(SELECT) name(a"b) mark name(c d) word(FROM) word(t)`},
		{plain, `x'41' x '' :n ? 0x1F 1.5e-3`, `blob(41) word(x) text param param number number`},
		{plain, `/* a /* b */ c --d`, `comment word(c) comment`},
		{plain, `'it''s' a->>b<>c`, `text(it's) word(a) mark word(b) mark word(c)`},
		{plain, `'open`, `bad`},
		{plain, "\"a\\\"b", `name(a\) word(b)`}, // a backslash means nothing
		{folding, `Sheets "Sheets" a$b`, `word(sheets) name(Sheets) word(a$b)`},
		{folding, `e'a\n\'b' E'c' e`, "text(a\n'b) text(c) word(e)"},
		{folding, `$q$ ; '$ $q$ $1 a::text $q$`, `text( ; '$ ) param word(a) mark word(text) bad`},
		{folding, `/* /* */ a */ b :n$$x$$`, `comment word(b) param text(x)`},
		{folding, `/* /* */`, `bad`},
		{ticks, "`a``b` \"c\\\"d\" 'e\\nf'", "name(a`b) text(c\"d) text(e\nf)"},
		{ticks, "a--1 # b\nc -- d", `word(a) mark mark number comment word(c) comment`},
		{ticks, "_utf8mb4'a' _b $c", `text(a) word(_b) word($c)`},
		{ticks, "/*! a */", `bad`},
		{ticks, "'a\\", `bad`},
		{plain, "a\x00b", `word(a) bad word(b)`},
		{plain, " \n\t", ``},
	} {
		assert.Equal(t, c.want, read(c.rules, c.src), c.src)
	}
}

// Whatever is read, its tokens are in order, and nothing but blanks and comments between
// them.
func TestNothingIsLost(t *testing.T) {
	bits := rapid.SampledFrom(
		[]string{
			"'",
			`"`,
			"`",
			"[",
			"]",
			"$",
			"$a$",
			"--",
			"/*",
			"*/",
			"/*!",
			"#",
			`\`,
			"e'",
			"x'",
			"_a'",
			"1",
			".",
			"e5",
			"0x",
			"a",
			"é",
			":",
			"?",
			"->>",
			" ",
			"\n",
			";",
			"\x00",
			"\xff",
		},
	)
	rapid.Check(t, func(t *rapid.T) {
		src := strings.Join(rapid.SliceOfN(bits, 0, 12).Draw(t, "bits"), "")
		rules := rapid.SampledFrom([]*sqltok.Rules{plain, folding, ticks}).Draw(t, "rules")
		at := 0
		for at < len(src) {
			tok := rules.Next(src, at)
			if strings.TrimSpace(strings.ReplaceAll(src[at:tok.Start], "\v", "")) != "" {
				t.Fatalf("%q is left out of %q", src[at:tok.Start], src)
			}
			if tok.Start < len(src) && (tok.End <= tok.Start || tok.Text != src[tok.Start:tok.End]) {
				t.Fatalf("%q at %d to %d of %q", tok.Text, tok.Start, tok.End, src)
			}
			at = max(tok.End, tok.Start)
		}
	})
}

func Example() {
	rules := &sqltok.Rules{NameQuotes: `"`, TextQuotes: "'", Operators: []string{"<>"}}
	for _, t := range rules.Lex(`SELECT "code" FROM sheets WHERE note <> 'none' -- those with a note`) {
		if t.Named() {
			fmt.Println(t.Name())
		}
	}
	// Output:
	// SELECT
	// code
	// FROM
	// sheets
	// WHERE
	// note
}

func TestOutside(t *testing.T) {
	rules := &sqltok.Rules{NameQuotes: `"`, TextQuotes: "'"}
	for src, want := range map[string]string{
		"":                              "",
		"a (b, (c)), d":                 "0:a 8:, 9:d",
		"((a)) b (c":                    "5:b",
		"CHECK (VALUE > 0) DEFAULT ')'": "0:CHECK 6:DEFAULT 7:')'",
	} {
		var out []string
		for i, k := range sqltok.Outside(rules.Lex(src)) {
			out = append(out, fmt.Sprint(i, ":", k.Text))
		}
		assert.Equal(t, want, strings.Join(out, " "), src)
	}
	for _, k := range sqltok.Outside(rules.Lex("a, b (c), d")) { // it stops when told
		assert.Equal(t, "a", k.Text)
		break
	}
}

// A name with its schema before it is one token where only the name of a table can stand.
func TestPlaced(t *testing.T) {
	r := &sqltok.Rules{
		NameQuotes: `"`, TextQuotes: "'", FoldNames: true, Operators: []string{"::"},
		InSchema: func(schema, name string) string { return schema + ">" + name },
	}
	for src, want := range map[string]string{
		"SELECT a.b FROM c.d, e.f WHERE c.d.g = 1":               "c>d e>f c>d",
		"SELECT a.b FROM c x JOIN d.e ON x.f = e.g":              "d>e",
		"SELECT extract(day FROM a.b), a.c IS DISTINCT FROM d.e": "",
		`ALTER TABLE "A".b RENAME COLUMN c TO d`:                 "A>b",
		"CREATE INDEX i ON a.b (c)":                              "a>b",
		"INSERT INTO a.b SELECT * FROM public.c":                 "a>b",
		"UPDATE a.b SET c = d.e":                                 "a>b",
		"DELETE FROM a.b USING c.d":                              "a>b c>d",
		"COMMENT ON COLUMN a.b.c IS 'x'":                         "a>b",
		"CREATE TRIGGER t BEFORE UPDATE OF x ON a.b":             "a>b",
		"DROP TABLE a.b, c.d":                                    "a>b c>d",
		"SELECT x::a.b FROM (SELECT c.d FROM e.f) q":             "a>b e>f",
		`CREATE TABLE "a.b" (x int REFERENCES c.d)`:              ">a.b c>d",
	} {
		var got []string
		for _, tok := range r.Lex(src) {
			if tok.Placed {
				got = append(got, tok.Name())
			}
		}
		assert.Equal(t, want, strings.Join(got, " "), src)
	}
	assert.Len(t, plain.Lex("SELECT * FROM a.b"), 6, "without schemas it is three")
}
