package editor_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	"erbario/internal/engines"
)

const collection = `# What is kept.
choice Rarity: common, scarce

shape numbered
    number    integer

model Taxon
    name      text(80) unique
    parent    references Taxon optional

model Specimen
    accession text(20) unique
    taxon     references Taxon
    rarity    Rarity default common
    weight_g  double       optional
    include numbered
    index heavy: weight_g desc where {weight_g} > 100
    check {number} > 0

rows Taxon by name
    name
    "Quercus"

seed demo
    Taxon 3
        name "Q-{00}"
        Specimen 4
            rarity scarce
`

func TestDiagnostics(t *testing.T) {
	c := begin(t, map[string]string{"models/a.erbario": collection})
	assert.Empty(t, c.open("models/a.erbario", collection))

	// A mistake, at its place, with what was meant; it goes when it is corrected.
	wrong := strings.Replace(collection, "text(20) unique", "txt(20) unique", 1)
	c.change("models/a.erbario", map[string]any{"text": wrong})
	found := c.wrong("models/a.erbario")
	require.Len(t, found, 1)
	assert.Equal(t, rng{pos{11, 14}, pos{11, 17}}, found[0].Range)
	assert.Equal(t, 1, found[0].Severity)
	assert.Contains(t, found[0].Message, "did you mean text?")
	var actions []struct {
		Title string
		Edit  struct{ Changes map[string][]edit }
	}
	c.call("textDocument/codeAction", map[string]any{"textDocument": map[string]any{"uri": c.uri("models/a.erbario")},
		"range": found[0].Range, "context": map[string]any{"diagnostics": found}}, &actions)
	require.Len(t, actions, 1)
	assert.Equal(t, collection, applied(wrong, actions[0].Edit.Changes[c.uri("models/a.erbario")]))
	c.change("models/a.erbario", map[string]any{"range": rng{pos{11, 14}, pos{11, 17}}, "text": "text"})
	assert.Empty(t, c.wrong("models/a.erbario"))

	// What an engine does not have is a warning; across files a dropped field is marked where it is referred to.
	c.write("models/b.erbario", "model Loan\n    specimen references Specimen by accession\n")
	c.notify("workspace/didChangeWatchedFiles", map[string]any{"changes": []any{}})
	assert.Empty(t, c.open("models/b.erbario", "model Loan\n    specimen references Specimen by accession\n"))
	c.change("models/a.erbario", map[string]any{"text": strings.Replace(collection, "    accession text(20) unique\n", "", 1)})
	c.wrong("models/a.erbario")
	c.version["models/b.erbario"] = 1
	require.Eventually(t, func() bool { return len(c.wrong("models/b.erbario")) == 1 }, 5e9, 5e6)
	assert.Contains(t, c.wrong("models/b.erbario")[0].Message, "accession")
	c.change("models/a.erbario", map[string]any{"text": collection})
	c.wrong("models/a.erbario")
	require.Eventually(t, func() bool { return len(c.wrong("models/b.erbario")) == 0 }, 5e9, 5e6)

	// A broken line is left out, and the rest still answers.
	c.change("models/a.erbario", map[string]any{"text": "model Odd\n    one text(\n    other references Specimen\n"})
	assert.NotEmpty(t, c.wrong("models/a.erbario"))
	var symbols []struct {
		Name     string
		Children []struct{ Name string }
	}
	c.call("textDocument/documentSymbol", c.of("models/a.erbario"), &symbols)
	require.Len(t, symbols, 1)
	assert.Equal(t, "other", symbols[0].Children[len(symbols[0].Children)-1].Name)

	// What is not in a project is nobody's business.
	c.notify("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": "untitled:x", "version": 1, "text": "model"}})
	var nothing any
	c.call("textDocument/hover", map[string]any{"textDocument": map[string]any{"uri": "untitled:x"}, "position": pos{}}, &nothing)
	assert.Nil(t, nothing)
}

// TestSettings: wrong settings are an error of erbario.toml, and gone when they are right.
func TestSettings(t *testing.T) {
	c := begin(t, map[string]string{"erbario.toml": "language = 9\n", "models/a.erbario": collection})
	c.open("models/a.erbario", collection)
	c.mu.Lock()
	found := c.diags[c.uri("erbario.toml")]
	c.mu.Unlock()
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Message, "language is 9")
	c.write("erbario.toml", "language = 1\n[database.dev]\nurl = \"sqlite:a.db\"\n")
	c.notify("workspace/didChangeWatchedFiles", map[string]any{"changes": []any{}})
	require.Eventually(t, func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return len(c.diags[c.uri("erbario.toml")]) == 0
	}, 5e9, 5e6)
}

func TestCompletion(t *testing.T) {
	for _, x := range []struct {
		line  string // the cursor is at |; what is above it is the collection
		has   []string
		lacks []string
	}{
		{"|", []string{"model", "choice", "shape", "seed", "rows"}, []string{"optional"}},
		{"rows |", []string{"Taxon", "Specimen"}, []string{"model"}},
		{"rows Taxon |", []string{"by"}, nil},
		{"rows Taxon by |", []string{"name", "parent"}, []string{"accession"}},
		{"model Box |", []string{"outside", "in sql"}, nil},
		{"model Box\n    |", []string{"timestamps", "unique", "primary key", "soft delete"}, []string{"text"}},
		{"model Box\n    label |", []string{"text", "decimal", "references", "Rarity", "boolean"}, []string{"optional"}},
		{"model Box\n    label te|", []string{"text"}, nil},
		{"model Box\n    taxon references |", []string{"Taxon", "Specimen", "Box"}, []string{"Rarity"}},
		{"model Box\n    taxon references Taxon |", []string{"optional", "on delete", "no index", "unique"}, []string{"nonblank", "range", "fake"}},
		{"model Box\n    taxon references Taxon by |", []string{"name"}, []string{"accession"}},
		{"model Box\n    taxon references Taxon on |", []string{"delete", "update", "sqlite"}, nil},
		{"model Box\n    taxon references Taxon on delete |", []string{"cascade", "set null", "restrict"}, nil},
		{"model Box\n    taxon references Taxon on delete set |", []string{"null", "default"}, nil},
		{"model Box\n    label text(40) |", []string{"optional", "nonblank", "unique", "default", "fake"}, []string{"range", "stamped", "on delete"}},
		{"model Box\n    label text(40) optional |", []string{"nonblank"}, []string{"optional"}},
		{"model Box\n    label text(40) unique |", []string{"ignoring case", "optional"}, nil},
		{"model Box\n    label text(40) fake |", []string{"latin", "city"}, nil},
		{"model Box\n    number integer |", []string{"range", "identity"}, []string{"nonblank", "collation"}},
		{"model Box\n    at timestamp |", []string{"stamped", "range"}, []string{"nonblank"}},
		{"model Box\n    at timestamp default |", []string{"now"}, []string{"today"}},
		{"model Box\n    on_day date default |", []string{"today"}, []string{"now"}},
		{"model Box\n    open boolean default |", []string{"true", "false"}, nil},
		{"model Box\n    id uuid default |", []string{"new uuid"}, nil},
		{"model Box\n    rarity Rarity default |", []string{"common", "scarce"}, []string{"true"}},
		{"model Box\n    kind choice(a, \"b c\") default |", []string{"a", `"b c"`}, nil},
		{"model Box\n    include |", []string{"numbered"}, nil},
		{"model Box\n    no |", []string{"timestamps", "key"}, nil},
		{"model Box\n    label text\n    code text\n    unique |", []string{"label", "code"}, []string{"name"}},
		{"model Box\n    label text\n    code text\n    index x: label, |", []string{"code"}, nil},
		{"model Box\n    label text\n    primary |", []string{"key"}, nil},
		{"model Box\n    label text\n    primary key |", []string{"label"}, nil},
		{"model Box\n    label text\n    foreign key |", []string{"label"}, nil},
		{"model Box\n    label text\n    foreign key label references |", []string{"Taxon"}, nil},
		{"model Box\n    label text\n    foreign key label references Taxon by |", []string{"name"}, nil},
		{"model Box\n    label text\n    check {|", []string{"label"}, []string{"optional"}},
		{"model Box\n    label text\n    check length({la|", []string{"label"}, nil},
		{"model Box\n    soft |", []string{"delete"}, nil},
		{"model Box\n    soft delete |", []string{"with view", "with guard"}, nil},
		{"model Box\n    include numbered\n    check {|", []string{"number"}, nil},
		{"model Box\n    label text generated |", []string{"as", "stored as"}, nil},
		{"model Box\n    on sqlite: |", []string{"unique"}, nil},
		{"model Box\n    tags array of |", []string{"text"}, nil},
		{"shape dated\n    at |", []string{"timestamp"}, nil},
		{"seed more\n    |", []string{"Taxon", "Specimen"}, nil},
		{"seed more\n    Taxon 4\n        |", []string{"name", "parent", "Specimen"}, []string{"accession"}},
		{"seed more\n    Taxon 4\n        name |", []string{"latin", "empty"}, nil},
		{"seed more\n    Taxon 4\n        Specimen 3\n            |", []string{"accession", "rarity", "number"}, []string{"parent"}},
		{"seed more\n    Taxon 4\n        Specimen 3\n            rarity |", []string{"common", "scarce"}, nil},
		{"seed more\n    Specimen 3 |", []string{"via"}, nil},
		{"seed more\n    Specimen 3 via |", []string{"taxon"}, []string{"rarity"}},
		{"rows Specimen by accession\n    |", []string{"accession", "rarity"}, nil},
		{"rows Specimen by accession\n    accession  |", []string{"rarity"}, nil},
		{"rows Specimen by accession\n    accession  rarity\n    \"A\"  |", []string{"common", "scarce"}, nil},
		{"model Box\n    comment |", nil, []string{"optional"}},
		{"model Box\n    label text comment |", nil, []string{"optional"}},
		{"# a comment |", nil, nil},
		{"choice Size: small, |", nil, []string{"optional"}},
		{"shape dated\n    |", []string{"timestamps", "unique"}, nil},
		{"model Box\n    box references Box optional |", []string{"on delete"}, []string{"optional"}},
		{"model Box\n    a decimal(8,2) |", []string{"range", "default"}, []string{"nonblank", "identity"}},
		{"model Box\n    a time |", []string{"range"}, []string{"stamped"}},
		{"model Box\n    a json |", []string{"default"}, []string{"range", "nonblank"}},
		{"model Box\n    a Rarity |", []string{"default", "collation"}, []string{"range", "nonblank"}},
		{"model Box\n    a text on sqlite: |", []string{"nonblank", "unique"}, nil},
		{"seed more\n    Specimen 3\n        weight_g |", []string{"empty"}, nil},
		{"rows Taxon by name, |", []string{"parent"}, nil},
		{"model Box\n    l\U0001d54f text\n    unique |", []string{"l\U0001d54f"}, nil},
		{"model Box\n    \"odd name\" text |", []string{"nonblank"}, nil},
		{"model Box\n    label text\n        |", nil, nil},
	} {
		t.Run(x.line, func(t *testing.T) {
			text, at := cursor(collection + "\n" + x.line)
			c := begin(t, map[string]string{"models/a.erbario": collection})
			c.open("models/a.erbario", text)
			var list struct {
				Items []struct {
					Label, Detail string
					TextEdit      edit
				}
			}
			c.call("textDocument/completion", c.at("models/a.erbario", at), &list)
			var labels []string
			for _, i := range list.Items {
				labels = append(labels, i.Label)
				assert.Equal(t, at, i.TextEdit.Range.End)
			}
			for _, want := range x.has {
				assert.Contains(t, labels, want)
			}
			for _, not := range x.lacks {
				assert.NotContains(t, labels, not)
			}
			for i, l := range labels {
				assert.NotContains(t, labels[:i], l, "twice")
			}
		})
	}
}

// Every word that can be typed has a sentence.
func TestExplained(t *testing.T) {
	text, err := os.ReadFile("words.txt")
	require.NoError(t, err)
	c := begin(t, map[string]string{"models/a.erbario": collection})
	for _, line := range []string{"|", "model B\n    |", "model B\n    f |", "model B\n    f text |", "model B\n    f references Taxon |",
		"model B\n    f timestamp |", "model B\n    f integer |", "model B\n    f references Taxon on delete |"} {
		whole, at := cursor(collection + "\n" + line)
		c.version["models/a.erbario"]++
		c.open("models/a.erbario", whole)
		var list struct {
			Items []struct {
				Label, Detail string
				Kind          int
			}
		}
		c.call("textDocument/completion", c.at("models/a.erbario", at), &list)
		for _, i := range list.Items {
			if (i.Kind == 14 || i.Kind == 25) && i.Label != "by" {
				assert.NotEmpty(t, i.Detail, "%s in words.txt\n%s", i.Label, text[:0])
			}
		}
	}
}

func TestHover(t *testing.T) {
	c := begin(t, map[string]string{"models/a.erbario": collection})
	c.open("models/a.erbario", collection)
	for at, want := range map[pos][]string{
		{11, 6}:  {"**Specimen.accession**  text(20)", "sqlite: `specimens.accession`", "accession VARCHAR(20) NOT NULL"},
		{12, 25}: {"**model Taxon**", "sqlite: table `taxons`", "referred to by Specimen.taxon, Taxon.parent"},
		{13, 15}: {"**choice Rarity**: common, scarce"},
		{14, 30}: {"**optional**: may be missing"},
		{16, 20}: {"**Specimen.weight_g**"},
		{17, 12}: {"**numbered.number**"},
	} {
		var h struct{ Contents struct{ Value string } }
		c.call("textDocument/hover", c.at("models/a.erbario", at), &h)
		for _, w := range want {
			assert.Contains(t, h.Contents.Value, w, "%v", at)
		}
	}
}

func TestNames(t *testing.T) {
	other := "model Loan\n    specimen references Specimen by accession\n    taxon references Taxon\n"
	c := begin(t, map[string]string{"models/a.erbario": collection, "models/sub/b.erbario": other})
	c.open("models/a.erbario", collection)
	type place struct {
		URI   string
		Range rng
	}
	var places []place
	c.call("textDocument/definition", c.at("models/a.erbario", pos{12, 25}), &places)
	assert.Equal(t, []place{{c.uri("models/a.erbario"), rng{pos{6, 6}, pos{6, 11}}}}, places)
	c.call("textDocument/references", c.at("models/a.erbario", pos{6, 7}), &places)
	assert.Len(t, places, 6) // itself, parent, taxon, rows, seed, and in the other file
	c.call("textDocument/references", c.at("models/a.erbario", pos{4, 6}), &places)
	assert.Len(t, places, 2) // of the shape, in the check of a model
	var symbols []struct{ Name, ContainerName string }
	c.call("workspace/symbol", map[string]any{"query": "accs"}, &symbols)
	require.Len(t, symbols, 1)
	assert.Equal(t, "Specimen", symbols[0].ContainerName)
	var folds []struct{ StartLine, EndLine int }
	c.call("textDocument/foldingRange", c.of("models/a.erbario"), &folds)
	assert.Contains(t, folds, struct{ StartLine, EndLine int }{10, 17})
	var hints []struct {
		Position pos
		Label    string
	}
	c.call("textDocument/inlayHint", map[string]any{"textDocument": map[string]any{"uri": c.uri("models/a.erbario")},
		"range": rng{pos{0, 0}, pos{40, 0}}}, &hints)
	require.Len(t, hints, 2)
	assert.Equal(t, "→ taxon_id bigint", hints[1].Label)
	var tokens struct{ Data []int }
	c.call("textDocument/semanticTokens/full", c.of("models/a.erbario"), &tokens)
	assert.Equal(t, 0, len(tokens.Data)%5)
	assert.Equal(t, []int{1, 7, 6, 2, 0, 0, 8, 6, 3, 0}, tokens.Data[:10]) // choice Rarity: common
	var selection []struct {
		Range  rng
		Parent struct{ Range rng }
	}
	c.call("textDocument/selectionRange", map[string]any{"textDocument": map[string]any{"uri": c.uri("models/a.erbario")},
		"positions": []pos{{11, 6}}}, &selection)
	assert.Equal(t, rng{pos{11, 4}, pos{11, 13}}, selection[0].Range)
	assert.Equal(t, rng{pos{11, 4}, pos{11, 29}}, selection[0].Parent.Range)
}

func TestFormat(t *testing.T) {
	untidy := "model Box\r\n  label text(40)   unique\r\n\r\n  # why\r\n  code  text optional\r\n"
	c := begin(t, map[string]string{"models/a.erbario": untidy})
	c.open("models/a.erbario", untidy)
	var edits []edit
	c.call("textDocument/formatting", c.of("models/a.erbario"), &edits)
	tidy := applied(untidy, edits)
	assert.Contains(t, tidy, "    label              text(40)                unique\r\n")
	assert.NotContains(t, strings.ReplaceAll(tidy, "\r\n", ""), "\n")
	c.change("models/a.erbario", map[string]any{"text": tidy})
	c.call("textDocument/formatting", c.of("models/a.erbario"), &edits)
	assert.Empty(t, edits)
	// On a new line, the one above is laid out.
	c.change("models/a.erbario", map[string]any{"text": "model Box\n  label text(40) unique\n\n"})
	edits = nil
	c.call("textDocument/onTypeFormatting", map[string]any{"textDocument": map[string]any{"uri": c.uri("models/a.erbario")},
		"position": pos{2, 0}, "ch": "\n"}, &edits)
	require.Len(t, edits, 1)
	assert.Equal(t, "    label              text(40)                unique", edits[0].NewText)
	assert.Equal(t, rng{pos{1, 0}, pos{1, 23}}, edits[0].Range)
	c.change("models/a.erbario", map[string]any{"text": "model Box\n  label txt(\n"})
	edits = nil
	c.call("textDocument/formatting", c.of("models/a.erbario"), &edits)
	assert.Empty(t, edits, "what has errors stays as it is")
}

func TestRename(t *testing.T) {
	other := "model Loan\n    specimen references Specimen by accession\n    taxon references Taxon\n"
	view := "CREATE VIEW heavy AS SELECT {Specimen.weight_g} FROM {Specimen} WHERE {Specimen.number} > 1;\n"
	files := map[string]string{"models/a.erbario": collection, "models/b.erbario": other, "models/heavy.sql": view}
	c := begin(t, files)
	c.open("models/a.erbario", collection)
	rename := func(at pos, to string) map[string]string {
		var answer struct{ Changes map[string][]edit }
		c.call("textDocument/rename", map[string]any{"textDocument": map[string]any{"uri": c.uri("models/a.erbario")},
			"position": at, "newName": to}, &answer)
		out := map[string]string{}
		for name, text := range files {
			if edits := answer.Changes[c.uri(name)]; len(edits) > 0 {
				slices.SortFunc(edits, func(a, b edit) int {
					return (a.Range.Start.Line-b.Range.Start.Line)*1000 + a.Range.Start.Character - b.Range.Start.Character
				})
				out[name] = applied(text, edits)
			}
		}
		return out
	}
	noted := func() string {
		text, _ := os.ReadFile(filepath.Join(c.dir, "renames.toml"))
		return string(text)
	}
	out := rename(pos{11, 6}, "label")
	assert.Contains(t, out["models/a.erbario"], "    label text(20) unique\n")
	assert.Contains(t, out["models/b.erbario"], "references Specimen by label\n")
	assert.Contains(t, noted(), "from = 'specimens.accession'")
	out = rename(pos{10, 8}, "Sheet")
	assert.Contains(t, out["models/a.erbario"], "        Sheet 4\n")
	assert.Contains(t, out["models/heavy.sql"], "SELECT {Sheet.weight_g} FROM {Sheet} WHERE {Sheet.number}")
	out = rename(pos{16, 20}, "grams")
	assert.Contains(t, out["models/a.erbario"], "index heavy: grams desc where {grams} > 100\n")
	assert.Contains(t, out["models/heavy.sql"], "{Specimen.grams}")
	out = rename(pos{4, 6}, "no")
	assert.Contains(t, out["models/a.erbario"], `    "no"    integer`)
	out = rename(pos{1, 16}, "very common")
	assert.Contains(t, out["models/a.erbario"], `choice Rarity: "very common", scarce`)
	assert.Contains(t, out["models/a.erbario"], `Rarity default "very common"`)
	assert.Contains(t, noted(), "from = 'specimens.rarity.common'")
	out = rename(pos{1, 8}, "Frequency")
	assert.Contains(t, out["models/a.erbario"], "rarity    Frequency default common")

	for at, to := range map[pos]string{{11, 6}: "taxon", {10, 8}: "Taxon", {6, 7}: "two words", {13, 20}: "", {2, 0}: "x"} {
		err := c.conn.Call(t.Context(), "textDocument/rename", map[string]any{
			"textDocument": map[string]any{"uri": c.uri("models/a.erbario")}, "position": at, "newName": to}, nil)
		assert.Error(t, err, "%v %s", at, to)
	}
}

// What the rows say is shown at its line when a file is saved, and goes with the next change.
func TestRows(t *testing.T) {
	before := "model Sheet\n    label text(40)\n    note text optional\n"
	c := begin(t, map[string]string{
		"erbario.toml":     "language = 1\n[editor]\ndatabase = \"dev\"\n[database.dev]\nurl = \"sqlite:a.db\"\nthrowaway = true\n",
		"models/a.erbario": before,
	})
	ctx := t.Context()
	e, err := engines.All().ByName("sqlite")
	require.NoError(t, err)
	db, err := e.Open(ctx, "sqlite:"+filepath.Join(c.dir, "a.db"), engine.Make)
	require.NoError(t, err)
	for _, sql := range []string{"CREATE TABLE sheets (id INTEGER PRIMARY KEY AUTOINCREMENT, label VARCHAR(40) NOT NULL, note TEXT)",
		"INSERT INTO sheets (label) VALUES ('a'), ('a')"} {
		require.NoError(t, db.Exec(ctx, sql))
	}
	require.NoError(t, db.Close())
	after := strings.Replace(before, "text(40)", "text(40) unique", 1)
	after = strings.Replace(after, "text optional", "text", 1)
	c.write("models/a.erbario", after)
	c.open("models/a.erbario", after)
	c.notify("textDocument/didSave", c.of("models/a.erbario"))
	var messages []string
	require.Eventually(t, func() bool {
		messages = nil
		for _, d := range c.wrong("models/a.erbario") {
			if d.Code == "rows" {
				assert.Equal(t, 3, d.Severity)
				messages = append(messages, fmt.Sprintf("%d %s", d.Range.Start.Line, d.Message))
			}
		}
		return len(messages) > 2
	}, 10e9, 2e7)
	assert.Contains(t, strings.Join(messages, "\n"), "1 dev: 1 value of sheets.label occurs in more than one row")
	assert.Contains(t, strings.Join(messages, "\n"), "2 dev: sheets.note")
	assert.Contains(t, strings.Join(messages, "\n"), "not drafted yet: ")
	c.change("models/a.erbario", map[string]any{"text": after + "\n"})
	require.Eventually(t, func() bool { return len(c.wrong("models/a.erbario")) == 0 }, 10e9, 2e7)

	// What is not drafted yet can be drafted, unless somebody has to decide something.
	draft := func(text string) string {
		c.change("models/a.erbario", map[string]any{"text": text})
		c.write("models/a.erbario", text)
		c.notify("textDocument/didSave", c.of("models/a.erbario"))
		var found []diag
		require.Eventually(t, func() bool {
			found = slices.DeleteFunc(slices.Clone(c.wrong("models/a.erbario")),
				func(d diag) bool { return d.Code != "rows" || !strings.Contains(d.Message, "not drafted") })
			return len(found) > 0
		}, 10e9, 2e7)
		var actions []struct {
			Title   string
			Command struct {
				Command   string   `json:"command"`
				Arguments []string `json:"arguments"`
			}
		}
		c.call("textDocument/codeAction", map[string]any{"textDocument": map[string]any{"uri": c.uri("models/a.erbario")},
			"range": found[0].Range, "context": map[string]any{"diagnostics": found}}, &actions)
		require.NotEmpty(t, actions)
		assert.Equal(t, "draft it", actions[0].Title)
		c.call("workspace/executeCommand", actions[0].Command, nil)
		return c.message()
	}
	assert.Contains(t, draft(after), "sheets.note becomes required, and 2 rows have no value: answer it with erbario draft TITLE")
	files, _ := filepath.Glob(filepath.Join(c.dir, "migrations", "*"))
	assert.Empty(t, files)
	assert.Regexp(t, `^migrations/\S+-from-the-editor.sqlite.sql is written: erbario apply$`, draft(before+"    shelf text(8) optional\n"))
	files, _ = filepath.Glob(filepath.Join(c.dir, "migrations", "*"))
	assert.Len(t, files, 1)
}

// A project whose databases have no URL here is checked, and rows come from a file while it is.
func TestWithoutURL(t *testing.T) {
	rows := "model Room\n    code text(8) unique\n\nrows Room by code from \"rooms.csv\"\n"
	c := begin(t, map[string]string{
		"erbario.toml":     "language = 1\n[database.dev]\nurl = \"${NOWHERE_URL}\"\n",
		"models/a.erbario": rows, "models/rooms.csv": "code\neast\n",
	})
	assert.Empty(t, c.open("models/a.erbario", rows))
	for i := range 30 {
		c.change("models/a.erbario", map[string]any{"text": rows + strings.Repeat("\n", i)})
		c.call("textDocument/documentLink", c.of("models/a.erbario"), new(any))
		c.notify("workspace/didChangeWatchedFiles", map[string]any{"changes": []any{}})
	}
	assert.Empty(t, c.wrong("models/a.erbario"))
	c.change("models/a.erbario", map[string]any{"text": strings.Replace(rows, "by code", "by cod", 1)})
	assert.NotEmpty(t, c.wrong("models/a.erbario"))
}
