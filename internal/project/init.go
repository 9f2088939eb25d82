package project

// This file sets a project up. What is there already is left alone.

import (
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"erbario/internal/engine"
)

// Init makes a folder a project with one database, and returns the files it
// wrote or added to, relative to dir. A database with tables of its own is not throwaway,
// wherever it is.
func Init(engines engine.Registry, dir, rawURL string, tables bool) ([]string, error) {
	if _, err := engines.ForURL(rawURL); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("the folder cannot be created: %w", err)
	}
	var done []string
	add := func(name, text string) error {
		path := filepath.Join(dir, name)
		if _, err := os.Stat(path); err == nil {
			return nil
		}
		done = append(done, name)
		return WriteFile(path, text)
	}
	settings, secret, test := newSettings(rawURL, tables)
	if err := add(SettingsFile, settings); err != nil {
		return done, err
	}
	for _, folder := range []string{ModelsFolder, MigrationsFolder} {
		if _, err := os.Stat(filepath.Join(dir, folder)); err != nil {
			done = append(done, folder+"/")
		}
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			return done, err
		}
	}
	if err := add(".env.example", "# Copy this to .env, which is never committed. The environment overrides it.\nDEV_URL=\nTEST_URL=\nPRODUCTION_URL=\n"); err != nil {
		return done, err
	}
	if secret {
		text := "DEV_URL=" + rawURL + "\n"
		if test {
			text += "TEST_URL=" + testURL(rawURL) + "\n"
		}
		if err := add(".env", text); err != nil {
			return done, err
		}
	}
	ignore := ignored(rawURL, slices.Contains(done, SettingsFile))
	changed, err := addLines(filepath.Join(dir, ".gitignore"), ignore)
	if err != nil {
		return done, err
	}
	if changed {
		done = append(done, ".gitignore")
	}
	return done, nil
}

// TryInit does as Init does for a database with tables of its own, and returns what takes all of it
// back, as long as nothing was added to it.
func TryInit(engines engine.Registry, dir, rawURL string) (back func(), err error) {
	var fresh []string // the folders that the project's is in, from the inside out
	for at := filepath.Clean(dir); ; at = filepath.Dir(at) {
		if _, err := os.Stat(at); err == nil || at == filepath.Dir(at) {
			break
		}
		fresh = append(fresh, at)
	}
	ignored := filepath.Join(dir, ".gitignore")
	before, absent := os.ReadFile(ignored)
	done, err := Init(engines, dir, rawURL, true)
	back = func() {
		for _, name := range done {
			if name == ".gitignore" && absent == nil {
				_ = os.WriteFile(ignored, before, 0o644)
				continue
			}
			_ = os.Remove(filepath.Join(dir, name)) // a folder goes only if it is empty
		}
		for _, folder := range fresh {
			_ = os.Remove(folder)
		}
	}
	if err != nil {
		back()
	}
	return back, err
}

// newSettings are the settings of a new project, whether the URL holds a secret, and whether
// there is a database for tests; tables: the database has some.
func newSettings(rawURL string, tables bool) (settings string, secret, forTests bool) {
	secret = !strings.HasPrefix(rawURL, "sqlite:") && Shown(rawURL) != rawURL
	shown := rawURL
	if secret {
		shown = "${DEV_URL}"
	}
	throwaway := ""
	if Local(rawURL) && !tables {
		throwaway = "throwaway = true                 # may be emptied and created again\n"
	}
	test := ""
	if t := testURL(rawURL); t != "" && Local(rawURL) {
		testShown := t
		if secret {
			testShown = "${TEST_URL}"
		}
		test = fmt.Sprintf("\n[database.test]\nurl = %q\nthrowaway = true\n", testShown)
	}
	settings = fmt.Sprintf(`# Settings of the project, and its databases by name.
language = 1

[project]
default = "dev"                  # ERBARIO_DATABASE in the environment overrides it

[naming]
tables = "plural"                # or "singular"

[database.dev]
url = %q
%s%s
# [database.production]
# url = "${PRODUCTION_URL}"        # put secrets into the environment or .env
# protected = true
`, shown, throwaway, test)
	return settings, secret, test != ""
}

// ignored is what version control is to leave alone; own: the database file is the project's.
func ignored(rawURL string, own bool) []string {
	ignore := []string{".env"}
	file, _, _ := strings.Cut(rawURL, "?cache=")
	if path, ok := strings.CutPrefix(file, "sqlite:"); ok && own &&
		!filepath.IsAbs(path) && path != ":memory:" {
		ignore = append(ignore, path, path+"-*")
		if test := strings.TrimPrefix(testURL(file), "sqlite:"); test != "" {
			ignore = append(ignore, test, test+"-*")
		}
	}
	return ignore
}

// testURL is the URL of a database for tests beside the one of a URL: herbarium-test.db beside
// herbarium.db, the database herbarium_test beside herbarium; "" where there can be none.
func testURL(raw string) string {
	if path, ok := strings.CutPrefix(raw, "sqlite:"); ok {
		path, query, asks := strings.Cut(path, "?cache=")
		if path == "" || path == ":memory:" {
			return ""
		}
		ext := filepath.Ext(path)
		path = strings.TrimSuffix(path, ext) + "-test" + ext
		if asks {
			path += "?cache=" + query
		}
		return "sqlite:" + path
	}
	u, err := url.Parse(raw)
	if err != nil || strings.Trim(u.Path, "/") == "" {
		return ""
	}
	u.Path += "_test"
	return u.String()
}

// addLines puts lines at the end of a file that has them not yet.
func addLines(path string, lines []string) (bool, error) {
	old, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	text := string(old)
	have := map[string]bool{}
	for l := range strings.Lines(text) {
		have[strings.TrimSpace(l)] = true
	}
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	before := text
	for _, l := range lines {
		if !have[l] {
			text += l + "\n"
		}
	}
	if text == before {
		return false, nil
	}
	return true, WriteFile(path, text)
}
