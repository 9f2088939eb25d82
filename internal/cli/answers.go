package cli

// This file is how people answer what only they can decide: by flags, by a file
// of answers, or at the terminal, where each answer is told as the flag that
// would have said the same.

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/urfave/cli/v3"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/objects"
	"erbario/internal/plan"
	"erbario/internal/project"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// answerFlags are the answers that were given so far, as flags say them.
type answerFlags struct {
	engines engine.Registry

	rename, fill, drop, deleted []string
	defaults, optional          []string // these change the models
	noKeep                      bool
	rewrite                     bool // files of SQL follow what is renamed
	leaveBroken                 bool
	plain                       []string
	file                        string
	unknown                     []string // as flags, those about columns that no engine asked so far knows
}

// flags are the flags of a command that asks.
func (f *answerFlags) flags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{
			Name:        "fill",
			Usage:       "for rows without a value; also =sql:EXPRESSION, =sql@ENGINE:EXPRESSION, =ask:VALUE: `TABLE.COLUMN=VALUE`",
			Destination: &f.fill,
		},
		&cli.BoolFlag{
			Name:        "leave-broken",
			Usage:       "draft although something in SQL, whose text stays as it is, names what goes",
			Destination: &f.leaveBroken,
		},
		&cli.BoolFlag{
			Name:        "rewrite-objects",
			Usage:       "give files of SQL the new names of what is renamed, where it is beyond doubt what they mean",
			Destination: &f.rewrite,
		},
		&cli.StringSliceFlag{
			Name:        "default",
			Usage:       "give the field a default, in the model too: `TABLE.COLUMN=VALUE`",
			Destination: &f.defaults,
		},
		&cli.StringSliceFlag{
			Name:        "optional",
			Usage:       "make the field optional, in the model too: `TABLE.COLUMN`",
			Destination: &f.optional,
		},
		&cli.StringSliceFlag{
			Name:        "rename",
			Usage:       "a table, column or choice is renamed: `TABLE.OLD=NEW`",
			Destination: &f.rename,
		},
		&cli.StringSliceFlag{
			Name:        "drop",
			Usage:       "this table, or TABLE.COLUMN, may be dropped: `NAME`",
			Destination: &f.drop,
		},
		&cli.StringSliceFlag{
			Name:        "deleted",
			Usage:       "what to do with deleted rows when soft delete is removed: keep, restore or purge: `TABLE=FATE`",
			Destination: &f.deleted,
		},
		&cli.StringFlag{Name: "answers", Usage: "read the answers from a TOML `FILE`", Destination: &f.file},
		&cli.StringSliceFlag{
			Name:        "plain",
			Usage:       "use the plain (locking) form for this table: `TABLE`",
			Destination: &f.plain,
		},
		&cli.BoolFlag{
			Name:        "no-keep",
			Usage:       "do not keep what is dropped: it is lost permanently",
			Destination: &f.noKeep,
		},
	}
}

// answersFile is the form of a file of answers; what it says beside the flags.
type answersFile struct {
	Fill     map[string]any    `toml:"fill"`
	Rename   map[string]string `toml:"rename"`
	Drop     map[string]bool   `toml:"drop"`
	Deleted  map[string]string `toml:"deleted"`
	Default  map[string]any    `toml:"default"`
	Optional map[string]bool   `toml:"optional"`
}

func readAnswers(path string) (*answersFile, error) {
	text, err := project.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("the answers cannot be read: %w", err)
	}
	dec := toml.NewDecoder(strings.NewReader(text))
	dec.DisallowUnknownFields()
	out := &answersFile{}
	if err := dec.Decode(out); err != nil {
		return nil, project.TOMLError(path, err, "answer",
			[]string{"fill", "rename", "drop", "deleted", "default", "optional"})
	}
	return out, nil
}

// values are the fills alone, by table.column, for what takes no other answer.
func (f *answerFlags) values() (map[string]string, error) {
	if err := f.load(); err != nil {
		return nil, err
	}
	if len(f.rename)+len(f.drop)+len(f.deleted)+len(f.defaults)+len(f.optional) > 0 ||
		f.noKeep || f.leaveBroken || f.rewrite {
		return nil, wrongUse(
			"only --fill, and --answers with fill, apply here: the other answers were given when the migration was drafted",
		)
	}
	out := map[string]string{}
	for _, r := range f.fill {
		name, value, ok := strings.Cut(r, "=")
		if !ok || !strings.Contains(name, ".") {
			return nil, wrongUse("--fill %s: write TABLE.COLUMN=VALUE", r)
		}
		out[name] = value
	}
	return out, nil
}

// asked are the values, by table.column, that were given for this database alone.
func (f *answerFlags) asked(s *sqlschema.Schema) map[string]string {
	out := map[string]string{}
	for _, r := range f.fill {
		name, value, _ := strings.Cut(r, "=")
		if v, ok := strings.CutPrefix(value, "ask:"); ok {
			if t, c := columnNamed(s, name); c != nil {
				name = t.Name + "." + c.Name
			}
			out[name] = v
		}
	}
	return out
}

// load adds the answers of the file to those of the flags; a flag wins over it.
func (f *answerFlags) load() error {
	if f.file == "" {
		return nil
	}
	in, err := readAnswers(f.file)
	if err != nil {
		return err
	}
	f.file = ""
	add := func(to *[]string, key, flag string) {
		if !slices.ContainsFunc(*to, func(s string) bool { return s == key || strings.HasPrefix(s, key+"=") }) {
			*to = append(*to, flag)
		}
	}
	for _, k := range slices.Sorted(maps.Keys(in.Rename)) {
		add(&f.rename, k, k+"="+in.Rename[k])
	}
	for _, k := range slices.Sorted(maps.Keys(in.Fill)) {
		add(&f.fill, k, fmt.Sprintf("%s=%v", k, in.Fill[k]))
	}
	for _, k := range slices.Sorted(maps.Keys(in.Deleted)) {
		add(&f.deleted, k, k+"="+in.Deleted[k])
	}
	for _, k := range slices.Sorted(maps.Keys(in.Default)) {
		add(&f.defaults, k, fmt.Sprintf("%s=%v", k, in.Default[k]))
	}
	for _, k := range slices.Sorted(maps.Keys(in.Drop)) {
		if in.Drop[k] {
			add(&f.drop, k, k)
		}
	}
	for _, k := range slices.Sorted(maps.Keys(in.Optional)) {
		if in.Optional[k] {
			add(&f.optional, k, k)
		}
	}
	return nil
}

// add takes a flag as a choice of a question tells it.
func (f *answerFlags) add(flag string) {
	name, value, _ := strings.Cut(strings.TrimPrefix(flag, "--"), " ")
	to := map[string]*[]string{"rename": &f.rename, "fill": &f.fill, "drop": &f.drop, "deleted": &f.deleted,
		"default": &f.defaults, "optional": &f.optional}[name]
	*to = append(*to, value)
}

// edits makes the changes of the models that were answered, without writing
// them yet.
func (a *app) edits(p *project.Project, s *sqlschema.Schema, f *answerFlags) error {
	p.Edited = nil
	edit := func(flag, name, clause string, value *string) error {
		t, c := columnNamed(s, name)
		for _, e := range p.Engines() { // a field of another engine alone
			if c != nil {
				break
			}
			other, err := a.wanted(p, e)
			if err != nil {
				return err
			}
			t, c = columnNamed(other, name)
		}
		if c == nil {
			return wrongUse("--%s %s: the models have no field %s", flag, name, name)
		}
		if t.InSQL {
			return wrongUse("--%s %s: %s is declared in SQL: change its file", flag, name, t.Name)
		}
		if value != nil {
			text, err := defaultClause(*value, c.Type)
			if err != nil {
				return wrongUse("--%s %s: %v", flag, name, err)
			}
			clause = text
		}
		_, ok, err := p.Edit(t.Model(), c.Field(), clause)
		if err == nil && !ok {
			err = fmt.Errorf("--%s %s: the line of %s is not in model %s itself: add %s to it where it is", flag, name,
				c.Field(), t.Model(), clause)
		}
		return err
	}
	for _, d := range f.defaults {
		name, value, ok := strings.Cut(d, "=")
		if !ok {
			return wrongUse("--default %s: write TABLE.COLUMN=VALUE", d)
		}
		if err := edit("default", name, "", &value); err != nil {
			return err
		}
	}
	for _, name := range f.optional {
		if err := edit("optional", name, "optional", nil); err != nil {
			return err
		}
	}
	return nil
}

// defaultClause writes a value as the models do, behind "default".
func defaultClause(raw string, t schema.Type) (string, error) {
	if sql, ok := strings.CutPrefix(raw, "sql:"); ok {
		return "default (" + sql + ")", nil
	}
	v, err := schema.ReadValue(raw, t)
	if err != nil && t.Kind.Number() {
		err = fmt.Errorf("%w; for an expression write sql:EXPRESSION", err)
	}
	if err != nil {
		return "", err
	}
	switch t.Kind {
	case schema.Date, schema.JSON, schema.Choice:
		if t.Kind == schema.Choice && strings.ContainsAny(raw, " \"") {
			break
		}
		return "default " + raw, nil
	}
	return "default " + v.String(), nil
}

// columnNamed finds a column by table and column, or by model and field.
func columnNamed(s *sqlschema.Schema, name string) (*sqlschema.Table, *sqlschema.Column) {
	table, column, _ := sqlschema.CutTable(name, s)
	named := s.Find(table)
	for _, t := range s.Tables {
		if t.Model() != table && t != named {
			continue
		}
		for _, c := range t.Columns {
			if c.Field() == column || strings.EqualFold(c.Name, column) {
				return t, c
			}
		}
	}
	return nil, nil
}

// answers reads the flags. A literal is written as the column's type wants it,
// so the wanted schema is needed to read it.
func (f answerFlags) answers(s *draft.State) (plan.Answers, []string, error) {
	out := plan.Answers{Fill: map[string]plan.Fill{}, Drop: map[string]bool{}, Deleted: map[string]plan.DeletedRows{}}
	var said []string
	for _, r := range f.rename {
		rename, ok := readRename(r, s.Upcoming, s.Wanted)
		if !ok {
			return out, nil, wrongUse("--rename %s: write TABLE=NEW, TABLE.COLUMN=NEW or TABLE.COLUMN.VALUE=NEW", r)
		}
		out.Rename = append(out.Rename, rename)
		said = append(said, "--rename "+r)
	}
	own := map[string]bool{}
	for _, r := range f.fill {
		name, value, ok := strings.Cut(r, "=")
		if !ok || !strings.Contains(name, ".") {
			return out, nil, wrongUse("--fill %s: write TABLE.COLUMN=VALUE, or TABLE.COLUMN=sql:EXPRESSION", r)
		}
		if on, sql, ok := forEngine(value); ok { // this engine's own words stand before those for all
			if _, err := f.engines.ByName(on); err != nil {
				return out, nil, wrongUse("--fill %s: %v", r, err)
			}
			if on != s.Engine.Name() {
				continue
			}
			value = "sql:" + sql
			own[name] = true
		} else if own[name] {
			continue
		}
		fill, err := literalFor(s, name, value)
		if err != nil {
			return out, nil, wrongUse("--fill %s: %v", r, err)
		}
		out.Fill[name] = fill
		said = append(said, "--fill "+r)
	}
	for _, d := range f.defaults { // it is for the rows that have none, too
		name, value, _ := strings.Cut(d, "=")
		t, c := columnNamed(s.Wanted, name)
		if _, given := out.Fill[name]; c == nil || !c.NotNull || given {
			continue
		}
		if live := s.Upcoming.Table(t.Name); live == nil || live.Column(c.Name) == nil || live.Column(c.Name).NotNull {
			continue
		}
		fill, err := literalFor(s, name, value)
		if err != nil {
			return out, nil, wrongUse("--default %s: %v", d, err)
		}
		out.Fill[name] = fill
		said = append(said, "--fill "+name+"="+value)
	}
	for _, d := range f.drop {
		if d == "" {
			return out, nil, wrongUse("--drop: write a table, or TABLE.COLUMN")
		}
		out.Drop[d] = true
		said = append(said, "--drop "+d)
	}
	for _, d := range f.deleted {
		table, fate, _ := strings.Cut(d, "=")
		switch plan.DeletedRows(fate) {
		case plan.Keep, plan.Restore, plan.Purge:
			out.Deleted[table] = plan.DeletedRows(fate)
			said = append(said, "--deleted "+d)
		default:
			return out, nil, wrongUse("--deleted %s: write TABLE=keep, TABLE=restore or TABLE=purge", d)
		}
	}
	return out, said, nil
}

// forEngine takes sql@ENGINE:EXPRESSION apart.
func forEngine(value string) (name, sql string, ok bool) {
	rest, ok := strings.CutPrefix(value, "sql@")
	if !ok {
		return "", "", false
	}
	name, sql, ok = strings.Cut(rest, ":")
	return name, sql, ok
}

// literalFor reads a value given on the command line as one of the column.
func literalFor(s *draft.State, name, value string) (plan.Fill, error) {
	if sql, ok := strings.CutPrefix(value, "sql:"); ok {
		if err := oneExpression(s.Engine.SQL(), sql); err != nil {
			return plan.Fill{}, err
		}
		return plan.Fill{SQL: sql}, nil
	}
	value, ask := strings.CutPrefix(value, "ask:")
	_, col := columnNamed(s.Wanted, name)
	if col == nil {
		return plan.Fill{}, fmt.Errorf("the models have no column %s", name)
	}
	v, err := schema.ReadValue(value, col.Type)
	switch { // one time for all rows, and for the statement that records what they were given
	case err == nil && v.Kind == schema.NowValue:
		v, err = schema.ReadValue(time.Now().UTC().Format("2006-01-02 15:04:05"), col.Type)
	case err == nil && v.Kind == schema.TodayValue:
		v, err = schema.ReadValue(time.Now().UTC().Format(time.DateOnly), col.Type)
	case err != nil && col.Type.Kind.Number():
		err = fmt.Errorf("%w; for an expression write sql:EXPRESSION", err)
	}
	if err == nil {
		if err = col.Refuses(v); err != nil && col.Type.Kind == schema.UUID {
			err = fmt.Errorf("%w; for an expression write sql:EXPRESSION", err)
		}
	}
	if err != nil {
		return plan.Fill{}, err
	}
	sql, err := s.Engine.SQL().Literal(v, col.Type)
	return plan.Fill{SQL: sql, Literal: v.Constant(), Ask: ask}, err
}

func oneExpression(d engine.Dialect, sql string) error {
	pieces := d.Split(sql + ";")
	if len(pieces) != 1 || pieces[0].Comment || pieces[0].Bad != "" || pieces[0].Text != strings.TrimSpace(sql) {
		return fmt.Errorf("write one expression, without ; or comments")
	}
	return nil
}

// settle makes a draft, and asks what it has to until there is nothing left to
// ask or nobody is there. look reads how things stand; it is read again when an
// answer has changed the models.
func (a *app) settle(ctx context.Context, p *project.Project, f *answerFlags, look func() (*draft.State, error),
	try func(s *draft.State, answers plan.Answers, said []string) (*draft.Draft, error)) (*draft.State, *draft.Draft,
	error) {
	if err := f.load(); err != nil {
		return nil, nil, err
	}
	var s *draft.State
	models := look
	look = func() (*draft.State, error) {
		s, err := models()
		if err == nil {
			err = s.ReadTables(ctx)
		}
		return s, err
	}
	read := func() (err error) {
		if s, err = look(); err != nil || len(f.defaults)+len(f.optional) == 0 {
			return err
		}
		if err := a.edits(p, s.Wanted, f); err != nil {
			return err
		}
		s, err = look()
		return err
	}
	if err := read(); err != nil {
		return nil, nil, err
	}
	rewritten := map[objects.Renamed]bool{}
	for {
		mine := *f
		if len(p.Others(s.Engine.Name())) > 0 { // what is about a column of another engine alone is answered there
			mine, f.unknown = f.known(s.Wanted, s.Upcoming)
		}
		answers, said, err := mine.answers(s)
		if err != nil {
			return s, nil, err
		}
		if f.rewrite {
			fresh := slices.DeleteFunc(renamed(answers), func(r objects.Renamed) bool { return rewritten[r] })
			for _, r := range fresh { // each once: names may swap
				rewritten[r] = true
			}
			again, err := p.Rewrite(s.Engine, s.Upcoming, fresh)
			if err != nil {
				return s, nil, err
			}
			if again {
				if s, err = look(); err != nil {
					return s, nil, err
				}
				continue
			}
		}
		done := a.slow("proving on a scratch copy…")
		d, err := try(s, answers, said)
		done()
		var stale *draft.StaleError
		if errors.As(err, &stale) && !f.rewrite && len(renamed(answers)) > 0 {
			err = fmt.Errorf("%w. --rewrite-objects gives files of SQL the new names", err)
		}
		if err != nil || len(d.Plan.Questions) == 0 || !a.interactive() {
			return s, d, err
		}
		flags, err := a.ask(ctx, s, d.Plan.Questions)
		if err != nil {
			return s, nil, err
		}
		for _, flag := range flags {
			f.add(flag)
			if strings.HasPrefix(flag, "--default ") || strings.HasPrefix(flag, "--optional ") {
				if err := read(); err != nil {
					return s, nil, err
				}
			}
		}
	}
}

// template writes questions as a file of answers to fill in.
func (a *app) template(command string, list []plan.Question) string {
	var b strings.Builder
	fmt.Fprintf(&b,
		"# Answers for erbario %s --answers FILE.\n# Uncomment one line per question and fill in the value.\n", command)
	for i, q := range list {
		fmt.Fprintf(&b, "\n# question %d: %s\n", i+1, cell(q.Text))
		var lines [][]string
		for _, c := range q.Choices {
			words := "# " + c.Words
			for i, flag := range c.Flags {
				name, rest, _ := strings.Cut(strings.TrimPrefix(flag, "--"), " ")
				key, value, given := strings.Cut(rest, "=")
				text := fmt.Sprintf("# %s.%s = true", name, tomlText(key))
				if given {
					text = fmt.Sprintf("# %s.%s = %s", name, tomlText(key), tomlText(value))
				}
				if i > 0 {
					words = "# … together with this line"
				}
				lines = append(lines, []string{text, words})
			}
		}
		for _, l := range columns(lines) {
			b.WriteString(l + "\n")
		}
		if q.Other != "" {
			b.WriteString("# " + cell(q.Other) + "\n")
		}
	}
	return b.String()
}

// tomlText is a text as TOML writes it: control characters are gone already.
func tomlText(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(cell(s)) + `"`
}

// renamed are the tables and columns that answers rename.
func renamed(answers plan.Answers) []objects.Renamed {
	var out []objects.Renamed
	for _, r := range answers.Rename {
		if r.Value == "" && !r.Aside {
			out = append(out, objects.Renamed{Table: r.Table, Column: r.Column, To: r.To})
		}
	}
	return out
}
