package cli

// This file is the command status: where databases stand, whether models, migrations
// and tables agree, and how far a migration is that was left halfway.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/runner"
)

// jsonHalf is a migration that was left halfway.
type jsonHalf struct {
	Migration string   `json:"migration"`
	Since     string   `json:"since"`
	Done      []int    `json:"steps_done"`
	Cut       int      `json:"interrupted_step,omitempty"`
	Step      int      `json:"step,omitempty"` // at which it stands
	Title     string   `json:"title,omitempty"`
	SQL       []string `json:"sql,omitempty"`
	Error     string   `json:"error,omitempty"`
	AtWork    string   `json:"active_session,omitempty"` // the session of its run, if that is not gone
	WaitsFor  string   `json:"waits_for,omitempty"`
	where     string
}

func jsonHalfOf(h *runner.Interrupted) *jsonHalf {
	return &jsonHalf{
		Migration: h.ID,
		Since:     h.Since,
		Done:      append([]int{}, h.Done...),
		Cut:       h.Cut,
		Error:     h.Error,
		where:     h.Where(),
	}
}

// halfway tells of a migration that was left halfway where it stands, what stopped it,
// and whether its run is still at work.
func halfway(ctx context.Context, l *live, h *runner.Interrupted) *jsonHalf {
	out := jsonHalfOf(h)
	if m, err := migration.Parse("journal of "+h.ID, h.Text, l.engine); err == nil {
		if n := h.Next(); n > 0 && n <= len(m.Steps) {
			step := m.Steps[n-1]
			list := step.Apply
			if h.Undoing || h.Recorded && h.Cut == 0 {
				list = step.Undo
			}
			out.Step, out.Title = n, step.Title
			for _, st := range list {
				out.SQL = append(out.SQL, st.SQL)
			}
		}
	}
	if gone, err := runner.SessionEnded(ctx, l.db, h.Session); err == nil && !gone {
		out.AtWork, _, _ = strings.Cut(h.Session, " ")
		if r, ok := engine.As[engine.Resumer](l.db); ok {
			out.WaitsFor, _ = r.BlockedBy(ctx, h.Session)
		}
	}
	return out
}

// how tells whether the run is at work yet.
func (h *jsonHalf) how() string {
	if h.AtWork != "" {
		return "under way"
	}
	return "interrupted"
}

func (a *app) showHalf(who string, h *jsonHalf) {
	a.out.printf("%s%s  %s since %s: %s", who, a.out.paint(styleWarn, h.how()), h.Migration, h.Since, h.where)
	if h.Step > 0 {
		a.out.printf("    step %d  %s", h.Step, cell(h.Title))
		for _, sql := range h.SQL {
			for line := range strings.Lines(clean(sql)) {
				a.out.line("        " + a.out.paint(styleDim, strings.TrimRight(line, "\n")))
			}
		}
	}
	if h.Error != "" {
		a.out.line("    " + clean(h.Error))
	}
	switch {
	case h.WaitsFor != "":
		a.out.printf("    its run is still active (process %s), and waits for %s", cell(h.AtWork), clean(h.WaitsFor))
	case h.AtWork != "":
		a.out.printf("    its run is still active (process %s)", cell(h.AtWork))
	default:
		a.out.line("    erbario apply resumes it, erbario undo rolls it back")
	}
}

// half is the migration that was left halfway on a database; nil: none was.
func (a *app) half(ctx context.Context, l *live) (*runner.Interrupted, error) {
	if !l.engine.Caps().Journal {
		return nil, nil
	}
	return runner.FindInterrupted(ctx, l.db)
}

// dryHalf shows what an apply or an undo would do first: bring a migration that was
// left halfway to one of its ends.
func (a *app) dryHalf(ctx context.Context, l *live, h *runner.Interrupted, undo bool) error {
	if h == nil {
		return nil
	}
	m, err := migration.Parse("journal of "+h.ID, h.Text, l.engine)
	if err != nil {
		return err
	}
	type jsonStep struct {
		Step  int      `json:"step"`
		Title string   `json:"title"`
		SQL   []string `json:"sql"`
	}
	var steps []jsonStep
	for i, step := range m.Steps {
		n := i + 1
		stands := slices.Contains(h.Done, n)
		list := step.Apply
		if undo {
			list = step.Undo
		}
		if n != h.Cut && stands != undo {
			continue
		}
		one := jsonStep{Step: n, Title: step.Title, SQL: []string{}}
		for _, st := range list {
			one.SQL = append(one.SQL, st.SQL)
		}
		steps = append(steps, one)
	}
	if undo {
		slices.Reverse(steps)
	}
	out := halfway(ctx, l, h)
	if a.json {
		return a.document(map[string]any{"database": l.Name, "interrupted": out, "steps": steps})
	}
	a.out.printf("%s  %s since %s: %s", a.out.paint(styleWarn, out.how()), h.ID, h.Since, out.where)
	what := "an apply resumes it"
	if undo {
		what = "an undo rolls it back"
	}
	a.out.printf("%s, before anything else:", what)
	for _, one := range steps {
		a.out.printf("  step %d  %s", one.Step, cell(one.Title))
		for _, sql := range one.SQL {
			for line := range strings.Lines(clean(sql) + ";") {
				a.out.line("    " + a.out.paint(styleDim, strings.TrimRight(line, "\n")))
			}
		}
	}
	return nil
}

// statusRow is one database in the table of status.
type statusRow struct {
	Database string       `json:"database"`
	Engine   string       `json:"engine,omitempty"`
	URL      string       `json:"url"`
	StandsAt string       `json:"current"`
	Applied  int          `json:"applied"`
	Waits    []string     `json:"pending"`
	Edited   []string     `json:"edited"`
	Missing  []string     `json:"missing"`
	Newer    []string     `json:"unknown"`
	Direct   []string     `json:"direct,omitempty"` // applied without a file
	Forks    [][2]string  `json:"forks"`
	Early    [][2]string  `json:"early,omitempty"`          // a migration that is applied, and the one that it follows, which is not
	Gaps     [][2]string  `json:"missing_before,omitempty"` // a migration, and the one that it follows, whose file is missing
	Models   []jsonChange `json:"models"`                   // not drafted yet
	Live     []jsonChange `json:"changed_outside"`          // since the last migration
	Half     *jsonHalf    `json:"interrupted,omitempty"`
	Problem  string       `json:"problem,omitempty"`
	unopened string       // why it could not be opened
	Ways     []jsonWaysOn `json:"fixes,omitempty"`
	Others   int          `json:"undeclared"` // that no migration made, and that is left alone
	hand     *byHand
	absent   bool
}

func (r *statusRow) differs() bool {
	return r.Problem != "" || r.Half != nil ||
		len(r.Waits)+len(r.Edited)+len(r.Missing)+len(r.Forks)+len(r.Gaps)+len(r.Early)+len(r.Models)+len(r.Live) > 0
}

func (a *app) statusCommand() *cli.Command {
	var all, exitCode bool
	return &cli.Command{
		Name: "status", Usage: "show applied and pending migrations, and whether models, migrations and tables agree",
		Description: "  erbario status --all\n  erbario status --exit-code",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "all", Usage: "all databases of the project", Destination: &all},
			&cli.BoolFlag{
				Name:        "exit-code",
				Usage:       "exit 3 if something is pending or differs",
				Destination: &exitCode,
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			p, err := a.projectFor(c, 0)
			if err != nil {
				return err
			}
			names := []string{a.database}
			if all {
				names = p.Names()
			} else if len(a.databases) > 1 {
				names = a.eachName(p)
			}
			for _, name := range names {
				if _, err := p.Database(name); err != nil && !all {
					return err
				}
			}
			var list []*statusRow
			differs := false
			var failed, half []string
			for _, n := range names {
				r := a.status(ctx, p, n)
				if ctx.Err() != nil {
					return ctx.Err() // what is said of it is that it was stopped
				}
				list = append(list, r)
				a.report.status(p, r)
				differs = differs || r.differs()
				if r.Problem != "" {
					failed = append(failed, r.Database+": "+cmp.Or(r.unopened, r.Problem))
				}
				if r.Half != nil {
					half = append(half, r.Database+": "+r.Half.how())
				}
			}
			if secrets := a.secrets(p); a.json {
				a.document(map[string]any{"databases": list, "warnings": secrets})
			} else {
				a.showStatus(list)
			}
			switch {
			case exitCode && differs:
				return exit(exitDiffers)
			case len(failed) > 0:
				return &exitError{code: exitFailed, told: true, err: errors.New(strings.Join(failed, "; "))}
			case len(half) > 0:
				return &exitError{code: exitHalfway, told: true, err: errors.New(strings.Join(half, "; "))}
			}
			return nil
		},
	}
}

// status looks at one database. What goes wrong is a part of the answer.
func (a *app) status(ctx context.Context, p *project.Project, name string) *statusRow {
	d, err := p.Database(name)
	r := &statusRow{
		Database: d.Name,
		URL:      d.Shown,
		Waits:    []string{},
		Edited:   []string{},
		Missing:  []string{},
		Newer:    []string{},
		Forks:    [][2]string{},
		Models:   []jsonChange{},
		Live:     []jsonChange{},
	}
	fail := func(err error) *statusRow {
		r.Problem = err.Error()
		var u *project.DatabaseError
		if errors.As(err, &u) {
			r.unopened = u.Err.Error()
		}
		var e *exitError
		if errors.As(err, &e) && e.err != nil {
			r.Problem = e.err.Error()
		}
		return r
	}
	if err != nil {
		return fail(err)
	}
	p.ReadAhead()
	l, err := a.open(ctx, p, d.Name, engine.ReadOnly, false)
	if err != nil {
		return fail(err)
	}
	defer l.Close()
	r.Engine, r.absent = l.engine.Name(), l.absent
	s, err := a.state(ctx, p, l)
	var stopped *runner.Stopped
	if errors.As(err, &stopped) {
		r.Half = halfway(ctx, l, stopped.Half)
	}
	if err != nil {
		// The models may be wrong and the migrations still tell how it stands.
		if files, e := p.Migrations(l.engine); e == nil {
			if applied, e := runner.History(ctx, l.db); e == nil {
				r.standing(runner.StatusOf(files, applied, l.engine))
			}
		}
		if r.Half != nil {
			return r
		}
		return fail(err)
	}
	r.standing(s.Status)
	if r.hand, err = a.byHand(ctx, p, s, d); err != nil {
		return fail(err)
	}
	r.Live, r.Ways = jsonChanges(r.hand.changes, nil), r.hand.ways
	a.statusModels(ctx, s, r)
	return r
}

func (r *statusRow) standing(s *runner.LineStatus) {
	r.StandsAt, r.Applied = s.At(), len(s.Applied)
	for _, m := range s.Pending {
		r.Waits = append(r.Waits, m.ID)
	}
	r.Edited = append(r.Edited, s.Edited...)
	r.Missing = append(r.Missing, s.Missing...)
	r.Newer = append(r.Newer, s.Newer...)
	r.Direct = append(r.Direct, s.Direct...)
	for _, f := range s.Early {
		r.Early = append(r.Early, [2]string{f.Migration.ID, f.Follows.ID})
	}
	for _, g := range s.Gaps {
		r.Gaps = append(r.Gaps, [2]string{g.Migration.ID, g.Missing})
	}
	for _, f := range s.Forks {
		r.Forks = append(r.Forks, [2]string{f.First.ID, f.Second.ID})
	}
}

func (a *app) statusModels(ctx context.Context, s *draft.State, r *statusRow) {
	pl, err := s.Changes(ctx)
	if err != nil {
		r.Problem = err.Error()
		return
	}
	r.Models, r.Others = jsonChanges(pl.Changes, pl.Effects), len(pl.Undeclared)
}

func (a *app) showStatus(list []*statusRow) {
	a.out.headed(statusTable(list))
	for _, r := range list {
		who := ""
		if len(list) > 1 {
			who = r.Database + ": "
		}
		if r.Half != nil {
			a.showHalf(who, r.Half)
		}
		a.statusLines(who, r)
		if len(r.Live) > 0 {
			a.out.line("")
			a.showByHand(who, r.hand)
		}
		if r.Problem != "" && len(list) == 1 {
			a.err.line(a.err.paint(styleBad, "error: ") + clean(r.Problem))
		} else if r.Problem != "" {
			a.out.printf("%s%s", who, clean(cmp.Or(r.unopened, r.Problem)))
		}
	}
	for _, r := range list {
		if next := r.next(); next != "" {
			if len(list) > 1 {
				next = strings.Replace(next, "erbario ", "erbario --database "+r.Database+" ", 1)
			}
			a.next(next)
			return
		}
	}
}

// statusTable is a line for each database.
func statusTable(list []*statusRow) [][]string {
	table := [][]string{{"database", "at", "pending", "models", "live"}}
	for _, r := range list {
		at := r.StandsAt
		if at == "" {
			at = "start"
		}
		waits := "nothing"
		if n := len(r.Waits); n > 0 {
			waits = fmt.Sprint(n)
		}
		models, live := "agree", "as migrated"
		if len(r.Models) > 0 {
			models = plural(len(r.Models), "change", "changes") + " to draft"
		}
		if n := len(r.Live); n > 0 {
			live = plural(n, "change", "changes") + " outside"
		}
		if r.absent {
			live = "does not exist yet"
		}
		if r.Problem != "" && r.Engine == "" {
			at, waits, models, live = "?", "?", "?", "cannot be read"
		} else if r.Half != nil {
			models, live = "?", r.Half.how()
		} else if r.Problem != "" {
			models, live = "?", "?"
		}
		table = append(table, []string{cell(r.Database), at, waits, models, cell(live)})
	}
	return table
}

// statusLine is one thing that is to be done about a database.
type statusLine struct {
	word, id string // what it is, and the migration
	text     string
}

// lines are what is to be done about the migrations of a database.
func (r *statusRow) lines() []statusLine {
	var out []statusLine
	add := func(word, id, format string, args ...any) {
		out = append(out, statusLine{word, id, fmt.Sprintf(format, args...)})
	}
	for _, id := range r.Waits {
		add("pending", id, "%s", id)
	}
	for _, id := range r.Edited {
		add("edited", id, "%s was edited after it was applied: restore the file, or undo or redraft it; erbario history %s shows its text",
			id, id)
	}
	for _, id := range r.Missing {
		add("missing", id, "%s was applied but its file is missing: erbario history %s --restore writes it back; or undo it",
			id, id)
	}
	for _, f := range r.Early {
		add("early", f[0], "%s is applied without %s, which it now follows: erbario undo, then erbario apply", f[0], f[1])
	}
	for _, g := range r.Gaps {
		add("missing", g[0], "%s, which %s follows, has no file: restore it, or run erbario redraft %s", g[1], g[0], g[0])
	}
	for _, id := range r.Newer {
		add("newer", id, "%s is in the database and not in this checkout", id)
	}
	for _, id := range r.Direct {
		add("direct", id, "%s has no file: erbario draft TITLE writes it, erbario undo undoes it", id)
	}
	for _, f := range r.Forks {
		add("fork", f[1], "%s was proved without %s: erbario redraft %s", f[1], f[0], f[1])
	}
	return out
}

// statusLines tell what is to be done about one database.
func (a *app) statusLines(who string, r *statusRow) {
	for _, l := range r.lines() {
		a.out.printf("%s%-9s %s", who, l.word, l.text)
	}
	if r.Others > 0 {
		a.out.printf("%s%s: erbario diff --undeclared lists %s", who, undeclaredWords(r.Others),
			oneMany(r.Others, "it", "them"))
	}
}

// next is the command that brings a database on; empty where there is none, or a person has
// to choose.
func (r *statusRow) next() string {
	switch {
	case r.Problem != "" || r.Half != nil && r.Half.AtWork != "":
		return ""
	case r.Half != nil:
		return "erbario apply"
	case len(r.Missing) > 0:
		return "erbario history " + r.Missing[0] + " --restore"
	case len(r.Edited) > 0:
		return "erbario history " + r.Edited[0]
	case len(r.Early) > 0:
		return "erbario undo"
	case len(r.Gaps) > 0:
		return "erbario redraft " + r.Gaps[0][0]
	case len(r.Forks) > 0:
		return "erbario redraft " + r.Forks[0][1]
	case len(r.Waits) > 0:
		return "erbario apply"
	case len(r.Models) > 0:
		return "erbario diff"
	}
	return ""
}
