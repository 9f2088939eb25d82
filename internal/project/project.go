// Package project is a project's own files: erbario.toml with the databases by name, .env with
// the secrets, the models and the migrations.
//
//	p, err := project.Find(engines.All(), ".") // here, or in a folder above
//	d, err := p.Database("test")
//	files, err := p.Migrations(e)
package project

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/joho/godotenv"
	"github.com/pelletier/go-toml/v2"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/fake"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/schema"
)

// Names of a project's files and folders.
const (
	SettingsFile     = "erbario.toml"
	ModelsFolder     = "models"
	MigrationsFolder = "migrations"
	ModelSuffix      = ".erbario"
)

// Project is a project as it stands on disk.
type Project struct {
	Dir       string
	Settings  Settings
	engines   engine.Registry
	databases map[string]Database
	env       map[string]string
	// Edited are model files as they are to be, by their path, before Save has
	// written them.
	Edited map[string]string
	ahead  chan parsed // what ReadAhead has begun
	// Read parses a model file; nil: lang.Parse does. Who reads them again and again can remember what has
	// not changed.
	Read func(path, text string) (*lang.File, []lang.Diagnostic)
	// schemas is what Schemas has found; nil: nobody has asked.
	schemas *[]string
}

// parsed is what Parse gives.
type parsed struct {
	files []*lang.File
	src   Sources
	diags []lang.Diagnostic
	err   error
}

// Settings are the contents of erbario.toml.
type Settings struct {
	Language int `toml:"language"`
	Project  struct {
		Default  string   `toml:"default"`
		Together []string `toml:"together"`
		KeepFor  string   `toml:"keep_for"` // how long what was kept is of use, such as 90d
		Engines  []string `toml:"engines"`  // for which a draft writes a file each; empty: for the database at hand
	} `toml:"project"`
	Naming struct {
		Tables string `toml:"tables"`
		Key    string `toml:"key"`
		// Reference is the name of a reference's column, such as {field}_id.
		Reference  string `toml:"reference"`
		ForeignKey string `toml:"foreign_key"` // patterns for names: see declare.Names
		Unique     string `toml:"unique"`
		Index      string `toml:"index"`
		Check      string `toml:"check"`
		PrimaryKey string `toml:"primary_key"`
		TypeChecks *bool  `toml:"type_checks"` // nil: values are held to their types by checks
	} `toml:"naming"`
	MariaDB struct {
		Collation string `toml:"collation"` // of the texts of every model that says none
	} `toml:"mariadb"`
	Models struct {
		OnDelete   string `toml:"on_delete"` // of references that do not say it
		OnUpdate   string `toml:"on_update"`
		Timestamps bool   `toml:"timestamps"` // every model has them that does not say "no timestamps"
	} `toml:"models"`
	Adopt struct {
		Except []string `toml:"except"` // tables that adopt leaves alone, by name or pattern
	} `toml:"adopt"`
	Seed struct {
		Locale string `toml:"locale"` // of the names and places that seeds make up, such as it or pt-BR
	} `toml:"seed"`
	Plan struct {
		Online string `toml:"online"` // whether tables are changed while they are in use: auto, always, never
		// StagedWait is how long nobody may have written as before a staged change.
		StagedWait string `toml:"staged_wait"`
	} `toml:"plan"`
	Editor struct {
		Database string `toml:"database"` // whose rows are asked when a model is saved; empty: none is
	} `toml:"editor"`
	Types    map[string]TypesSettings    `toml:"types"` // by language, or by a name of the user's own
	Database map[string]DatabaseSettings `toml:"database"`
}

// TypesSettings say how the types of one application are written.
type TypesSettings struct {
	Lang     string `toml:"lang"` // empty: the name of the settings is a language
	File     string `toml:"file"` // from the project's folder; of Java a folder
	Case     string `toml:"case"`
	Int64    string `toml:"int64"`
	Package  string `toml:"package"`
	Nullable *bool  `toml:"nullable"`
	Template string `toml:"template"` // from the project's folder, instead of a language
}

// ErrNone says that there is no project here.
var ErrNone = errors.New("no erbario.toml here or in a folder above")

// Find loads the project of a folder, looking upward.
func Find(engines engine.Registry, dir string) (*Project, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(abs); err != nil || !info.IsDir() {
		return nil, fmt.Errorf("the folder %s does not exist", dir)
	}
	for d := abs; ; d = filepath.Dir(d) {
		if _, err := os.Stat(filepath.Join(d, SettingsFile)); err == nil {
			return load(engines, d)
		}
		if d == filepath.Dir(d) {
			return nil, fmt.Errorf("%w %s: start a project with erbario init", ErrNone, abs)
		}
	}
}

// ReadFile reads a text that people write, without the mark of its encoding that some
// editors put at its head.
func ReadFile(path string) (string, error) {
	text, err := os.ReadFile(path)
	return strings.TrimPrefix(string(text), "\ufeff"), err
}

func load(engines engine.Registry, dir string) (*Project, error) {
	p := &Project{Dir: dir, engines: engines, databases: map[string]Database{}, env: map[string]string{}}
	path := filepath.Join(dir, SettingsFile)
	text, err := ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("the settings cannot be read: %w", err)
	}
	dec := toml.NewDecoder(strings.NewReader(text))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&p.Settings); err != nil {
		return nil, TOMLError(path, err, "setting", []string{
			"language", "project", "naming", "database", "default", "together", "tables", "key", "url", "throwaway",
			"protected", "keep_for", "plan", "online", "staged_wait", "direct", "scratch", "engines", "models",
			"timestamps", "reference", "foreign_key", "unique", "index", "check", "primary_key", "type_checks", "mariadb", "collation", "on_delete", "on_update",
			"types", "editor", "lang", "file", "case", "int64", "package", "nullable", "template",
		})
	}
	if err := p.checkSettings(path); err != nil {
		return nil, err
	}
	if err := p.readEnv(); err != nil {
		return nil, err
	}
	for name, d := range p.Settings.Database {
		db, err := p.database(path, name, d)
		if err != nil {
			return nil, err
		}
		db.schemas = p.Schemas
		p.databases[name] = db
	}
	for _, name := range p.Settings.Project.Together {
		db, ok := p.databases[name]
		if !ok {
			return nil, fmt.Errorf("%s: project.together names %q, which is no database of the project", path, name)
		}
		if db.Protected {
			return nil, fmt.Errorf("%s: project.together names %q, which is protected", path, name)
		}
	}
	return p, nil
}

// checkSettings refuses values that no setting has.
func (p *Project) checkSettings(path string) error {
	if p.Settings.Language != 1 {
		return fmt.Errorf("%s: language is %d, and this version of erbario reads language = 1", path,
			p.Settings.Language)
	}
	if t := p.Settings.Naming.Tables; t != "" && t != "plural" && t != "singular" {
		return fmt.Errorf(`%s: naming.tables is %q; it is "plural" or "singular"`, path, t)
	}
	if t := p.Settings.Naming.Key; t != "" && t != "number" && t != "uuid" {
		return fmt.Errorf(`%s: naming.key is %q; it is "number" or "uuid"`, path, t)
	}
	if t := p.Settings.Naming.Reference; t != "" && !strings.Contains(t, "{field}") {
		return fmt.Errorf(`%s: naming.reference is %q; it has {field} in it, such as "{field}_id"`, path, t)
	}
	if kind, pattern, needs := p.names().Problem(); kind != "" {
		return fmt.Errorf(`%s: naming.%s is %q; it has %s in it, since names have to differ`, path, kind, pattern, needs)
	}
	for name, t := range map[string]string{"on_delete": p.Settings.Models.OnDelete,
		"on_update": p.Settings.Models.OnUpdate} {
		if t != "" && t != "restrict" && t != "no action" {
			return fmt.Errorf(`%s: models.%s is %q; it is "restrict" or "no action"`, path, name, t)
		}
	}
	for i, name := range p.Settings.Project.Engines {
		if _, err := p.engines.ByName(name); err != nil {
			return fmt.Errorf("%s: project.engines: %w", path, err)
		}
		if slices.Contains(p.Settings.Project.Engines[:i], name) {
			return fmt.Errorf("%s: project.engines names %s twice", path, name)
		}
	}
	if l := p.Settings.Seed.Locale; l != "" && !fake.IsLocale(l) {
		return fmt.Errorf(`%s: seed.locale is %q; it is a language, %s, or one with a country, such as "pt-BR"`,
			path, l, strings.Join(fake.Languages(), ", "))
	}
	switch p.Settings.Plan.Online {
	case "", "auto", "always", "never":
	default:
		return fmt.Errorf(`%s: plan.online is %q; it is "auto", "always" or "never"`, path, p.Settings.Plan.Online)
	}
	return nil
}

// readEnv reads .env, where there is one.
func (p *Project) readEnv() error {
	env := map[string]string{}
	text, err := ReadFile(filepath.Join(p.Dir, ".env"))
	if err == nil {
		env, err = godotenv.Unmarshal(text)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		// The error of the reader quotes the line, which may hold a secret.
		return fmt.Errorf("%s cannot be read: each line is NAME=value", filepath.Join(p.Dir, ".env"))
	}
	p.env = env
	return nil
}

// TOMLError says where in a file a mistake of TOML is; known are the words that
// may have been meant.
func TOMLError(path string, err error, what string, known []string) error {
	var missing *toml.StrictMissingError
	if errors.As(err, &missing) && len(missing.Errors) > 0 {
		e := missing.Errors[0]
		row, col := e.Position()
		key := strings.Join(e.Key(), ".")
		last := e.Key()[len(e.Key())-1]
		hint := lang.DidYouMean(last, known)
		if hint != "" {
			hint = "; " + hint
		}
		return fmt.Errorf("%s:%d:%d: there is no %s %s%s", path, row, col, what, key, hint)
	}
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		row, col := decode.Position()
		if strings.Contains(decode.Error(), "cannot decode TOML") {
			return fmt.Errorf(
				"%s:%d:%d: the %s %s has a value of the wrong kind: write text in quotes, a number, or true or false",
				path, row, col, what, strings.Join(decode.Key(), "."))
		}
		return fmt.Errorf("%s:%d:%d: this line is not TOML: write NAME = VALUE, with text in double quotes", path, row,
			col)
	}
	return fmt.Errorf("%s: %w", path, err)
}

var variable = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)\}`) })

// expand fills ${NAME} in from the environment, which wins, and .env.
func (p *Project) expand(s string) (out, unset string) {
	out = variable().ReplaceAllStringFunc(s, func(m string) string {
		name := m[2 : len(m)-1]
		if v, ok := p.Getenv(name); ok && v != "" {
			return v
		}
		if unset == "" {
			unset = name
		}
		return m
	})
	return out, unset
}

// Getenv is the value of a variable in the environment, or else in .env.
func (p *Project) Getenv(name string) (string, bool) {
	if v, ok := os.LookupEnv(name); ok {
		return v, true
	}
	v, ok := p.env[name]
	return v, ok
}

// Online tells whether migrations are made for tables that are in use: as soon as
// the project has a protected database, unless the settings say otherwise.
func (p *Project) Online() bool {
	switch p.Settings.Plan.Online {
	case "always":
		return true
	case "never":
		return false
	}
	for _, d := range p.databases {
		if d.Protected {
			return true
		}
	}
	return false
}

// Engines are the engines that the project is for: those that its settings name, or
// those of all databases whose URL is known. Each knows a server for proofs, if there is
// one: of a database that says where, or that is throwaway.
func (p *Project) Engines() []engine.Engine {
	var out []engine.Engine
	rank := map[string]int{}
	for _, name := range p.Settings.Project.Engines {
		if e, err := p.engines.ByName(name); err == nil {
			out = append(out, e)
		}
	}
	named := len(out) > 0
	for _, n := range p.Names() {
		d := p.databases[n]
		e, err := d.Engine()
		if err != nil {
			continue
		}
		i := slices.IndexFunc(out, func(o engine.Engine) bool { return o.Name() == e.Name() })
		r := 1
		switch {
		case d.Scratch != "":
			r = 3
		case d.Throwaway:
			r = 2
		}
		switch {
		case i < 0 && !named:
			out, rank[e.Name()] = append(out, e), r
		case i >= 0 && r > rank[e.Name()] && (!named || r > 1):
			out[i], rank[e.Name()] = e, r
		}
	}
	return out
}

// EnginesOfFiles are the engines that the migrations are for, by the names of their files.
// They know no server.
func (p *Project) EnginesOfFiles() []engine.Engine {
	var out []engine.Engine
	for _, name := range p.engines.Names() {
		if files, _ := filepath.Glob(filepath.Join(p.MigrationsDir(), "*."+name+".sql")); len(files) > 0 {
			if e, err := p.engines.ByName(name); err == nil {
				out = append(out, e)
			}
		}
	}
	return out
}

// Others are the engines beside the one of a name for which a draft writes a file.
func (p *Project) Others(name string) []engine.Engine {
	if len(p.Settings.Project.Engines) == 0 {
		return nil
	}
	return slices.DeleteFunc(p.Engines(), func(o engine.Engine) bool { return o.Name() == name })
}

func (p *Project) names() declare.Names {
	n := p.Settings.Naming
	return declare.Names{ForeignKey: n.ForeignKey, Unique: n.Unique, Index: n.Index, Check: n.Check,
		PrimaryKey: n.PrimaryKey}
}

// Rules are the project's naming rules.
func (p *Project) Rules() declare.Rules {
	perTable, schemas := map[string]bool{}, map[string]bool{}
	for _, e := range p.engines {
		perTable[e.Name()], schemas[e.Name()] = e.Caps().IndexesPerTable, e.Caps().Schemas
	}
	return declare.Rules{
		PerTable:   perTable,
		Schemas:    schemas,
		Tables:     p.Settings.Naming.Tables,
		Key:        p.Settings.Naming.Key,
		Timestamps: p.Settings.Models.Timestamps,
		Unchecked:  p.Settings.Naming.TypeChecks != nil && !*p.Settings.Naming.TypeChecks,
		Reference:  p.Settings.Naming.Reference,
		Names:      p.names(),
		OnDelete:   schema.Action(strings.ToUpper(p.Settings.Models.OnDelete)),
		OnUpdate:   schema.Action(strings.ToUpper(p.Settings.Models.OnUpdate)),
		Collation:  map[string]string{"mariadb": p.Settings.MariaDB.Collation},
		Engines:    p.engines.Names(),
	}
}

// Sources are the texts of the model files by their path, as shown.
type Sources map[string]string

// ModelFiles lists the paths of all model files, in order, relative to the
// project's folder.
func (p *Project) ModelFiles() ([]string, error) { return p.files(ModelSuffix) }

// files lists the files below the folder of the models whose names end with suffix.
func (p *Project) files(suffix string) ([]string, error) {
	root := filepath.Join(p.Dir, ModelsFolder)
	var out []string
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && path != root && strings.HasPrefix(d.Name(), ".") {
			return filepath.SkipDir
		}
		if !d.IsDir() && strings.HasSuffix(d.Name(), suffix) {
			rel, err := filepath.Rel(p.Dir, path)
			if err != nil {
				return err
			}
			out = append(out, filepath.ToSlash(rel))
		}
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the models cannot be read: %w", err)
	}
	slices.Sort(out)
	return out, nil
}

// ReadAhead begins to read the model files while something else is done, such as opening a
// database. The first Parse behind it has them.
func (p *Project) ReadAhead() {
	of := Project{Dir: p.Dir, Settings: p.Settings}
	done := make(chan parsed, 1)
	go func() {
		files, src, diags, err := of.Parse()
		done <- parsed{files, src, diags, err}
	}()
	p.ahead = done
}

// Parse reads every model file.
func (p *Project) Parse() ([]*lang.File, Sources, []lang.Diagnostic, error) {
	if ahead := p.ahead; ahead != nil {
		p.ahead = nil
		if len(p.Edited) == 0 {
			r := <-ahead
			return r.files, r.src, r.diags, r.err
		}
	}
	paths, err := p.ModelFiles()
	if err != nil {
		return nil, nil, nil, err
	}
	var files []*lang.File
	var diags []lang.Diagnostic
	src := Sources{}
	read := p.Read
	if read == nil {
		read = lang.Parse
	}
	for path := range p.Edited { // what is new
		if strings.HasSuffix(path, ModelSuffix) && !slices.Contains(paths, path) {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	for _, path := range paths {
		text, edited := p.Edited[path]
		if !edited {
			if text, err = ReadFile(filepath.Join(p.Dir, path)); err != nil {
				return nil, nil, nil, fmt.Errorf("the models cannot be read: %w", err)
			}
		}
		f, d := read(path, text)
		files = append(files, f)
		diags = append(diags, d...)
		src[path] = text
		diags = append(diags, p.rowFiles(f, src)...)
	}
	inSQL, err := p.files(SQLSuffix)
	if err != nil {
		return nil, nil, nil, err
	}
	for _, path := range inSQL { // for what is shown of them
		if text, err := ReadFile(filepath.Join(p.Dir, path)); err == nil {
			src[path] = text
		}
	}
	return files, src, diags, nil
}

// Edit adds a clause to the line of a field in the models, which may be named by
// their tables and columns too. Nothing is written before Save.
func (p *Project) Edit(model, field, clause string) (path string, ok bool, err error) {
	_, src, _, err := p.Parse()
	if err != nil {
		return "", false, err
	}
	for path, text := range src {
		if out, ok := lang.AddClause(path, text, model, field, clause); ok {
			if p.Edited == nil {
				p.Edited = map[string]string{}
			}
			p.Edited[path] = out
			return path, true, nil
		}
	}
	return "", false, nil
}

// Save writes the model files that were edited.
func (p *Project) Save() error {
	for path, text := range p.Edited {
		if err := WriteFile(filepath.Join(p.Dir, path), text); err != nil {
			return err
		}
	}
	p.Edited = nil
	return nil
}

// Migrations reads the migrations for an engine, in order.
func (p *Project) Migrations(e engine.Engine) ([]*migration.Migration, error) {
	return migration.ReadFolder(p.MigrationsDir(), e)
}

// MigrationsDir is the folder of migrations.
func (p *Project) MigrationsDir() string { return filepath.Join(p.Dir, MigrationsFolder) }

// WriteFile writes a file of the project whole or not at all.
func WriteFile(path string, text string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(path), ".erbario-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	_, err = tmp.WriteString(text)
	if err == nil {
		err = tmp.Sync()
	}
	if e := tmp.Close(); err == nil {
		err = e
	}
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, err)
	}
	mode := fs.FileMode(0o644)
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
	}
	if err := os.Chmod(tmp.Name(), mode); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), path)
}
