package project

// This file finds the schemas of a database in which a project has tables, next to the one of its
// URL: those that models name and files of SQL create, and those that migrations name, whose tables may be gone from
// the models.

import (
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"erbario/internal/migration"
)

// schemaLine is a line of a model that names its schema.
var schemaLine = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[ \t]+(?:on[ \t][^:]*:)?[ \t]*schema[ \t]+(?:"([^"]+)"|'([^']+)')`)
})

// choiceSchema is the line of a choice whose type lies in a schema that it names.
var choiceSchema = sync.OnceValue(func() *regexp.Regexp {
	text := `(?:"([^"]+)"|'([^']+)')`
	return regexp.MustCompile(`^choice[ \t]+\S+[ \t]+as[ \t]+enum[ \t]+(?:` + text + `[ \t]+)?schema[ \t]+` + text)
})

// schemasIn notes the schemas that models, shapes and choices of a file name.
func schemasIn(text string, found map[string]bool) {
	block := ""
	for line := range strings.Lines(text) {
		if word := strings.Fields(line); len(word) > 0 && line[0] != ' ' && line[0] != '\t' && line[0] != '#' {
			block = word[0]
		}
		if m := choiceSchema().FindStringSubmatch(line); m != nil {
			found[m[3]+m[4]] = true
		}
		if block != "model" && block != "shape" {
			continue
		}
		if m := schemaLine().FindStringSubmatch(line); m != nil {
			found[m[1]+m[2]] = true
		}
	}
}

// createSchema is the statement of a file of SQL that declares a schema.
var createSchema = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?im)^[ \t]*CREATE\s+SCHEMA\s+(?:IF\s+NOT\s+EXISTS\s+)?(?:"((?:[^"]|"")+)"|([\w$]+))\s*;`)
})

// schemasOfSQL notes the schemas that a file of SQL declares.
func schemasOfSQL(text string, found map[string]bool) {
	for _, m := range createSchema().FindAllStringSubmatch(text, -1) {
		found[strings.ReplaceAll(m[1], `""`, `"`)+strings.ToLower(m[2])] = true
	}
}

// Reread has the files read again for Schemas, since some were written.
func (p *Project) Reread() { p.schemas = nil }

// Schemas are those schemas, by name. A file that cannot be read names none: whoever needs it says so.
func (p *Project) Schemas() []string {
	if p.schemas != nil {
		return *p.schemas
	}
	found := map[string]bool{}
	paths, _ := p.ModelFiles()
	for _, path := range paths {
		text, ok := p.Edited[path]
		if !ok {
			text, _ = ReadFile(filepath.Join(p.Dir, path))
		}
		if !strings.Contains(text, "schema") {
			continue
		}
		schemasIn(text, found)
	}
	paths, _ = p.files(SQLSuffix)
	for _, path := range paths {
		text, _ := p.sqlText(path)
		schemasOfSQL(text, found)
	}
	files, _ := filepath.Glob(filepath.Join(p.MigrationsDir(), "*.sql"))
	for _, path := range files {
		file, err := os.Open(path)
		if err != nil {
			continue
		}
		for _, name := range migration.SchemasIn(file) {
			found[name] = true
		}
		file.Close()
	}
	list := slices.Sorted(maps.Keys(found))
	p.schemas = &list
	return list
}
