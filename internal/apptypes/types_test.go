package apptypes_test

// What is written is compiled by the compilers of the languages, and held against what was written
// before (UPDATE_TYPES=1 writes that again).

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/apptypes"
	"erbario/internal/declare"
	"erbario/internal/lang"
)

// typesOf are the types of model files, on an engine.
func typesOf(t *testing.T, engine string, paths ...string) *apptypes.Types {
	t.Helper()
	var files []*lang.File
	for _, p := range paths {
		text, err := os.ReadFile(p)
		require.NoError(t, err)
		f, diags := lang.Parse(p, string(text))
		require.Empty(t, diags)
		files = append(files, f)
	}
	d, diags := declare.Resolve(files, declare.Rules{}, engine)
	require.False(t, lang.Errors(diags), "%v", diags)
	return apptypes.Of(d.Schema, engine)
}

func no() *bool { return new(bool) }

// settings are what each language is written with.
var settings = []apptypes.Options{
	{Language: "typescript"}, {Language: "typescript", Case: "camel", Int64: "string"},
	{Language: "typescript", Int64: "number"},
	{Language: "go"}, {Language: "python"}, {Language: "python", Case: "camel"}, {Language: "java"},
	{Language: "java", Package: "garden.herbarium"}, {Language: "kotlin"}, {Language: "csharp"},
	{Language: "csharp", Nullable: no()}, {Language: "rust"}, {Language: "php"},
	{Language: "php", Case: "camel", Package: "Garden"}, {Language: "jsonschema"},
	{Language: "jsonschema", Case: "camel"},
}

// compilers are the commands that a folder with the files must pass.
var compilers = map[string][][]string{
	"typescript": {{"tsc", "--strict", "--target", "es2022", "--lib", "es2022", "--noEmit", "types.ts"}},
	"go":         {{"go", "vet", "."}},
	"python":     {{"python3", "-c", "import models"}, {"mypy", "--strict", "--no-incremental", "models.py"}},
	"java":       {{"javac", "-Xlint:all", "-Werror", "-d", "out", "*.java"}},
	"rust":       {{"rustc", "--crate-type", "lib", "--edition", "2021", "-D", "warnings", "--emit", "metadata", "types.rs"}},
	"php":        {{"php", "-l", "types.php"}, {"php", "-r", "error_reporting(E_ALL); require 'types.php';"}},
	"kotlin":     {{"kotlinc", "-Werror", "-nowarn", "-d", "out", "Types.kt"}},
	"csharp":     {{"mcs", "-warnaserror", "-t:library", "-out:out.dll", "Types.cs"}},
}

// heavy are the compilers that run in make matrix alone.
var heavy = []string{"kotlin", "csharp"}

// tool is the path of a compiler: tsc is one of npm's packages, which make tools installs.
func tool(t *testing.T, name string) string {
	if name == "tsc" {
		name, _ = filepath.Abs("../../tools/node/node_modules/.bin/tsc")
	}
	path, err := exec.LookPath(name)
	require.NoError(t, err, "make tools installs it")
	return path
}

func compile(t *testing.T, o apptypes.Options, files []apptypes.File) {
	if slices.Contains(heavy, o.Language) && (os.Getenv("ERBARIO_COMPILERS") == "" || o.Language == "csharp" && o.Nullable == nil) {
		return
	}
	dir := t.TempDir()
	for _, f := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, f.Name), []byte(f.Text), 0o644))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module models\n\ngo 1.24\n"), 0o644))
	for _, line := range compilers[o.Language] {
		args := line[1:]
		if strings.HasPrefix(args[len(args)-1], "*") {
			found, err := filepath.Glob(filepath.Join(dir, args[len(args)-1]))
			require.NoError(t, err)
			args = append(slices.Clone(args[:len(args)-1]), found...)
		}
		cmd := exec.Command(tool(t, line[0]), args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%v\n%s", cmd.Args, out)
	}
}

var garden = []string{"people", "rooms", "collection"}

func samples(t *testing.T) map[string]*apptypes.Types {
	var example []string
	for _, name := range garden {
		example = append(example, "../../examples/herbarium/project/models/"+name+".erbario")
	}
	return map[string]*apptypes.Types{
		"herbarium": typesOf(t, "sqlite", example...),
		"odd":       typesOf(t, "sqlite", "testdata/odd.erbario"),
		"server":    typesOf(t, "postgres", "testdata/odd.erbario"),
		"mariadb":   typesOf(t, "mariadb", "testdata/odd.erbario"),
		"arrays":    typesOf(t, "postgres", "testdata/arrays.erbario"),
	}
}

func TestCompiled(t *testing.T) {
	for name, types := range samples(t) {
		for _, o := range settings {
			t.Run(name+"/"+o.Language+o.Case+o.Int64+o.Package, func(t *testing.T) {
				t.Parallel()
				files, err := apptypes.Write(types, o)
				require.NoError(t, err)
				compile(t, o, files)
				again, err := apptypes.Write(types, o)
				require.NoError(t, err)
				assert.Equal(t, files, again, "the same gives the same bytes")
			})
		}
	}
}

// The files of the example are as they were: what changes in them changes in the applications.
func TestGolden(t *testing.T) {
	types := samples(t)["herbarium"]
	for _, language := range apptypes.Languages() {
		files, err := apptypes.Write(types, apptypes.Options{Language: language})
		require.NoError(t, err)
		var all strings.Builder
		for _, f := range files {
			if len(files) > 1 {
				all.WriteString("// " + f.Name + "\n")
			}
			all.WriteString(f.Text)
		}
		path := filepath.Join("testdata", "golden", language+".txt")
		if os.Getenv("UPDATE_TYPES") != "" {
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
			require.NoError(t, os.WriteFile(path, []byte(all.String()), 0o644))
		}
		old, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, string(old), all.String(), "%s: UPDATE_TYPES=1 writes it again, if that is meant", language)
	}
}

// The schema is one, and tells what fits from what does not.
func TestJSONSchema(t *testing.T) {
	files, err := apptypes.Write(samples(t)["herbarium"], apptypes.Options{Language: "jsonschema"})
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(files[0].Text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	require.NoError(t, c.AddResource("types.schema.json", doc))
	for _, example := range []struct {
		of, value string
		fits      bool
	}{
		{"TaxonInsert", `{"name": "Quercus alba"}`, true},
		{"TaxonInsert", `{"name": "Quercus alba", "parent_id": null}`, true},
		{"TaxonInsert", `{"name": "  "}`, false},
		{"TaxonInsert", `{"parent_id": 1}`, false},
		{"TaxonInsert", `{"name": "Quercus", "id": 4}`, false},
		{"LocalityInsert", `{"name": "Passo Alto", "elevation_m": 5001}`, false},
		{"SpecimenUpdate", `{"accession": "HB-1"}`, false}, // immutable
		{"SpecimenUpdate", `{"rarity": "scarce", "weight_g": "1.250", "collected_on": "2026-01-31"}`, true},
		{"SpecimenUpdate", `{"rarity": "rare"}`, false},
		{"SpecimenUpdate", `{"collected_on": "31.1.2026"}`, false},
		{"SpecimenUpdate", `{"notes": [1, {"a": null}]}`, true},
		{"Taxon", `{"id": 1, "name": "Quercus"}`, false},
	} {
		s, err := c.Compile("types.schema.json#/$defs/" + example.of)
		require.NoError(t, err)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(example.value))
		require.NoError(t, err)
		err = s.Validate(value)
		assert.Equal(t, example.fits, err == nil, "%s %s: %v", example.of, example.value, err)
	}
}

func TestOptions(t *testing.T) {
	types := samples(t)["herbarium"]
	for _, wrong := range []apptypes.Options{
		{Language: "cobol"}, {Language: "go", Case: "camel"}, {Language: "typescript", Case: "upper"},
		{Language: "typescript", Int64: "long"}, {Language: "go", Int64: "string"}, {Language: "rust", Package: "a"},
		{Language: "java", Nullable: no()},
	} {
		_, err := apptypes.Write(types, wrong)
		assert.Error(t, err, "%+v", wrong)
	}
	text, err := apptypes.Fill(types, "mine", "{{range .Models}}{{.Name}}:{{range .Updated}} {{camel .Column}} {{.Type}}{{end}}\n{{end}}")
	require.NoError(t, err)
	assert.Contains(t, text, "Locality: name text(120) elevationM integer\n")
	_, err = apptypes.Fill(types, "mine", "{{.Nothing}}")
	assert.ErrorContains(t, err, "mine:1:2")
}
