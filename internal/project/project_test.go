package project

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"erbario/internal/engines"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func with(t *testing.T, files map[string]string) string {
	dir := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	return dir
}

// What a database is by its URL and what the settings say.
func TestProtected(t *testing.T) {
	dir := with(t, map[string]string{"erbario.toml": `
language = 1
[project]
default = "file"
[database.file]
url = "sqlite:a.db"
[database.thrown]
url = "sqlite:b.db"
throwaway = true
[database.guarded]
url = "sqlite:c.db"
protected = true
[database.near]
url = "postgres://ada@127.0.0.1/x"
[database.six]
url = "postgres://ada@[::1]/x"
[database.far]
url = "postgres://ada@db.example/x"
[database.far_thrown]
url = "postgres://ada@db.example/x"
throwaway = true
[database.unset]
url = "${NOWHERE_TO_BE_FOUND}"
[database.sly]
url = "postgres://ada@127.0.0.1.example/x"
`})
	p, err := Find(engines.All(), dir)
	require.NoError(t, err)
	for name, want := range map[string][2]bool{
		"file": {false, false}, "thrown": {false, true}, "guarded": {true, false}, "near": {false, false}, "six": {false, false}, "far": {true, false}, "far_thrown": {false, true}, "unset": {true, false}, "sly": {true, false},
	} {
		db, err := p.Database(name)
		require.NoError(t, err)
		assert.Equal(t, want, [2]bool{db.Protected, db.Throwaway}, name)
	}
	assert.Equal(t, "file", p.Names()[0], "the default first")
	db, _ := p.Database("")
	assert.Equal(t, "sqlite:"+filepath.Join(dir, "a.db"), db.URL, "relative to erbario.toml")
	assert.Equal(t, "sqlite:a.db", db.Shown)
	unset, _ := p.Database("unset")
	_, err = unset.Engine()
	assert.ErrorContains(t, err, "NOWHERE_TO_BE_FOUND")
}

func TestSettingsErrors(t *testing.T) {
	const head = "language = 1\n"
	for text, want := range map[string]string{
		"":                                     "language is 0",
		"language = 1\nx = ":                   "erbario.toml:2:",
		head + "[naming]\ntabels = 1":          "there is no setting naming.tabels; did you mean tables?",
		head + "[naming]\ntables = \"many\"":   `it is "plural" or "singular"`,
		head + "[naming]\nkey = \"snowflake\"": `it is "number" or "uuid"`,
		head + "[database.dev]\n":              "database.dev has no url",
		head + "[database.dev]\nurl = \"sqlite:a\"\nprotected = true\nthrowaway = true":            "both protected and throwaway",
		head + "[project]\ntogether = [\"dev\"]":                                                   `names "dev", which is no database`,
		head + "[project]\ntogether = [\"p\"]\n[database.p]\nurl = \"sqlite:a\"\nprotected = true": "which is protected",
	} {
		_, err := Find(engines.All(), with(t, map[string]string{"erbario.toml": text}))
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want, text)
	}
	_, err := Find(engines.All(), t.TempDir())
	assert.ErrorIs(t, err, ErrNone)
	// The line of .env that cannot be read may hold a secret.
	_, err = Find(
		engines.All(),
		with(t, map[string]string{"erbario.toml": head, ".env": "URL='postgres://ada:sesame@x\n"}),
	)
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "sesame")
}

// The environment comes before .env.
func TestVariables(t *testing.T) {
	dir := with(t, map[string]string{
		"erbario.toml": "language = 1\n[database.dev]\nurl = \"sqlite:${NAME}-${OTHER_NAME}.db\"\n",
		".env":         "NAME=fromfile\nOTHER_NAME=fromfile\n",
	})
	t.Setenv("NAME", "fromenv")
	p, err := Find(engines.All(), filepath.Join(dir))
	require.NoError(t, err)
	db, err := p.Database("dev")
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(db.URL, "fromenv-fromfile.db"), db.URL)
	t.Setenv("ERBARIO_DATABASE", "other")
	assert.Equal(t, "other", p.Default())
}

// A password is in no form of a URL that is shown.
func TestShown(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		secret := "Ses" + rapid.StringMatching(`[a-z0-9@:/?#!%&]{0,12}`).Draw(t, "secret") + "ame"
		for _, raw := range []string{"postgres://ada:" + secret + "@db.example:5432/x?sslmode=require", "mariadb://ada:" + secret + "@db.example/x", "postgres://db.example/x?password=Sesame&user=ada"} {
			shown := Shown(raw)
			require.NotContains(t, shown, "Ses", raw)
			require.NotContains(t, shown, secret, raw)
			require.Contains(t, shown, "db.example")
		}
	})
}

// Setting up leaves alone what is there, and puts secrets where none is
// committed.
func TestInit(t *testing.T) {
	dir := with(t, map[string]string{".gitignore": "*.log"})
	done, err := Init(engines.All(), dir, "sqlite:herbarium.db", false)
	require.NoError(t, err)
	assert.Equal(t, []string{"erbario.toml", "models/", "migrations/", ".env.example", ".gitignore"}, done)
	text, _ := os.ReadFile(filepath.Join(dir, ".gitignore"))
	assert.Equal(t, "*.log\n.env\nherbarium.db\nherbarium.db-*\nherbarium-test.db\nherbarium-test.db-*\n", string(text))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "erbario.toml"), []byte("language = 1 # mine\n"), 0o644))
	done, err = Init(engines.All(), dir, "sqlite:herbarium.db", false)
	require.NoError(t, err)
	assert.Empty(t, done)
	text, _ = os.ReadFile(filepath.Join(dir, "erbario.toml"))
	assert.Equal(t, "language = 1 # mine\n", string(text))
	_, err = Find(engines.All(), dir)
	require.NoError(t, err)
	_, err = Init(engines.All(), t.TempDir(), "nothing://x", false)
	assert.Error(t, err)
}

// A file is written whole or not at all, and keeps its rights.
func TestWriteFile(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a", "b.txt")
	require.NoError(t, WriteFile(path, "one"))
	require.NoError(t, os.Chmod(path, 0o600))
	require.NoError(t, WriteFile(path, "two"))
	text, _ := os.ReadFile(path)
	assert.Equal(t, "two", string(text))
	info, _ := os.Stat(path)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	entries, _ := os.ReadDir(filepath.Dir(path))
	assert.Len(t, entries, 1, "nothing else is left")
	assert.Error(t, WriteFile(filepath.Join(path, "under a file"), "x"))
}

func TestModelFiles(t *testing.T) {
	dir := with(t, map[string]string{
		"erbario.toml":             "language = 1\n",
		"models/b.erbario":         "model B\n    a text\n",
		"models/deep/er/a.erbario": "model A\n    a text\n",
		"models/.hidden/c.erbario": "model C\n",
		"models/note.txt":          "x",
	})
	p, err := Find(engines.All(), filepath.Join(dir, "models", "deep"))
	require.NoError(t, err)
	list, err := p.ModelFiles()
	require.NoError(t, err)
	assert.Equal(t, []string{"models/b.erbario", "models/deep/er/a.erbario"}, list)
}
