package cli

// What people read is plain English: words that were given up do not come back, in what the
// program prints and in the docs, and no message is longer than a breath.

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// givenUp are words and forms, each with the better one.
var givenUp = []struct{ word, better string }{
	{`\bstands?\b`, "is, appears, blocks"},
	{`\bstood\b`, "was"},
	{`half-way`, "halfway, interrupted"},
	{`\bt(ake|akes|aken|aking|ook) back\b`, "undo, undone, roll back"},
	{`\banew\b`, "again"},
	{`\bmend(s|ed|ing)?\b`, "fix"},
	{`\bmistakes?\b`, "error"},
	{`\bwrong use\b`, "usage error"},
	{`\bfor good\b`, "permanently"},
	{`\bindeed\b`, "really"},
	{`\bupon\b`, "on"},
	{`\bmeanwhile\b`, "in the meantime"},
	{`\bnobody can be asked\b`, "no terminal to ask at"},
	{`\bdeclared no more\b`, "no longer declared"},
	{`\b(is|are) not there\b`, "does not exist"},
	{`\bha(s|ve) back\b`, "restored"},
	{`\bbehind\b`, "after"},
	{`\bbeside\b`, "next to, with"},
	{`\b(come|comes|came|go|goes) (back|on|again)\b`, "is restored, resumes"},
	{`\b(tells?|told)\b`, "show, report, say"},
	{`\bin the way\b`, "blocks, blocking"},
	{`\b(put|puts|putting) aside\b`, "set aside, keep"},
	{`\bno more\b`, "no longer"},
	{`\bthereby\b`, "so"},
	{`\bthe rooms\b`, "where things live"},
	{`\b(added|changed|dropped|made) by hand\b`, "outside Erbario"},
	{`\blay out\b|\blaid out\b`, "format"},
	{`\bhas no use for\b`, "takes no"},
}

// ownWords are literals with such a word that are no prose: marks of the migration file, and
// the form that earlier versions wrote.
var ownWords = []string{
	"found beside ", "beside ", "by hand", "being taken back", "are deleted and would come back",
	"writes every row anew", " stand in ", " stands in ",
}

// literals are the string literals of the program, by their place. Names of fields that seeds
// know and words that they make up are data.
func literals(t *testing.T, each func(place, text string)) {
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		if d.IsDir() {
			switch d.Name() {
			case "testserver", "bench", "suite", "fake", "testdata", "langtest":
				return fs.SkipDir
			}
			return nil
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING {
				text, err := strconv.Unquote(l.Value)
				require.NoError(t, err)
				each(set.Position(l.Pos()).String(), text)
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
}

// prose says whether a text is in sentences rather than SQL, a list of words or a pattern.
func prose(text string) bool {
	if regexp.MustCompile(`\b(SELECT|INSERT|UPDATE|CREATE|ALTER|FROM|WHERE)\b|\\b|\(\?|json:"`).MatchString(text) &&
		!strings.Contains(text, ": ") {
		return false
	}
	return strings.Contains(strings.TrimSpace(text), " ")
}

func TestEnglish(t *testing.T) {
	var words []*regexp.Regexp
	for _, w := range givenUp {
		words = append(words, regexp.MustCompile("(?i)"+w.word))
	}
	look := func(place, text string) {
		for i, w := range words {
			if found := w.FindString(text); found != "" {
				assert.Fail(t, "a word that was given up", "%s: %q in %q: better %s", place, found, text,
					givenUp[i].better)
			}
		}
	}
	literals(t, func(place, text string) {
		for _, own := range ownWords {
			if text == own {
				return
			}
		}
		if strings.Contains(place, "seed/") && len(strings.Fields(text)) > 3 && !strings.ContainsAny(text, ":%,;") {
			return // names of fields
		}
		if prose(text) {
			look(place, text)
		}
	})
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	for _, page := range append(pages, "../../README.md") {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		plain := regexp.MustCompile("(?ms)^```.*?^```|`[^`]*`").ReplaceAllString(string(text), "")
		for n, line := range strings.Split(plain, "\n") {
			look(page+":"+strconv.Itoa(n+1), line)
		}
	}
}

// A message has a full stop after at most 25 words.
func TestShortMessages(t *testing.T) {
	literals(t, func(place, text string) {
		if !prose(text) || strings.Contains(place, "words.go") ||
			strings.Contains(place, "seed/") && !strings.ContainsAny(text, "%:") {
			return
		}
		for _, sentence := range regexp.MustCompile(`[.?]\s|\n`).Split(text, -1) {
			assert.LessOrEqual(t, len(strings.Fields(sentence)), 25, "%s: %s", place, sentence)
		}
	})
}
