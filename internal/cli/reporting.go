package cli

// This file gives what check, status and prove find to editors and build servers, as SARIF or as JUnit's XML.

import (
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"erbario/internal/check"
	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/report"
)

// The kinds of what is found.
var (
	ruleModel   = report.Rule{ID: "model", Words: "models and seeds can be read, and mean one thing"}
	ruleEngine  = report.Rule{ID: "engine", Words: "every engine of the project can do what the models say"}
	ruleFork    = report.Rule{ID: "fork", Words: "no two migrations drafted in parallel change the same table"}
	ruleSecret  = report.Rule{ID: "secret", Words: "no password is in a file under version control"}
	ruleLine    = report.Rule{ID: "migrations", Words: "a database has the migrations of this checkout, unedited"}
	rulePending = report.Rule{ID: "pending", Words: "every migration is applied"}
	ruleDraft   = report.Rule{ID: "not-drafted", Words: "every change of the models is in a migration"}
	ruleOutside = report.Rule{ID: "changed-outside", Words: "a database is as its migrations left it"}
	ruleReach   = report.Rule{ID: "database", Words: "a database can be read, and no run on it was interrupted"}
	ruleProof   = report.Rule{ID: "not-proved", Words: "a migration can be applied, undone and applied again, with rows"}
	ruleAgree   = report.Rule{ID: "models-differ", Words: "the migrations create what the models declare"}
)

// reporting is the report of a run; nil: none is asked for.
type reporting struct {
	report.Report
	app    *app
	format string
	dir    string // of the project
}

// formatAs has something else than text written, where a command has that.
func (a *app) formatAs(format, command string) error {
	if a.json = format != "text"; format == "text" || format == "json" {
		return nil
	}
	of := map[string][]string{"sarif": {"check", "status", "prove"}, "junit": {"status", "prove"}}
	if of[format] == nil {
		a.json = false
		return wrongUse("--format is text, json, sarif or junit, not %q", format)
	}
	for _, name := range of[format] {
		if name == command {
			a.report = &reporting{app: a, format: format}
			a.report.Report = report.Report{Command: command, Version: version()}
			return nil
		}
	}
	a.json = false
	return wrongUse("--format %s is for %s and prove; erbario %s writes text or json", format,
		strings.Join(of[format][:len(of[format])-1], ", "), command)
}

// write writes it.
func (r *reporting) write(w io.Writer) {
	if message, ok := r.app.doc["error"].(string); ok && len(r.Findings)+len(r.Cases) == 0 {
		r.Failed = message
	}
	as := r.SARIF
	if r.format == "junit" {
		as = r.JUnit
	}
	if err := as(w); err != nil {
		r.app.err.line(r.app.err.paint(styleBad, "error: ") + clean(err.Error()))
	}
}

// find adds something at a place in a file of the project.
func (r *reporting) find(rule report.Rule, level report.Level, at lang.Pos, format string, args ...any) {
	r.Find(report.Finding{Rule: rule, Level: level, Message: fmt.Sprintf(format, args...), Path: r.relative(at.Path),
		Line: at.Line, Column: at.Col})
}

// relative is the path of a file of the project from where the program was started.
func (r *reporting) relative(path string) string {
	if path == "" {
		return ""
	}
	whole := path
	if !filepath.IsAbs(path) {
		whole = filepath.Join(r.dir, path)
	}
	if filepath.IsAbs(whole) {
		here, err := filepath.Abs(".")
		rel, e2 := filepath.Rel(here, whole)
		if err == nil && e2 == nil {
			whole = rel
		}
	}
	return filepath.ToSlash(whole)
}

// checked reports what check found.
func (r *reporting) checked(p *project.Project, diags []lang.Diagnostic, forks []migration.Fork, secrets []string) {
	if r == nil {
		return
	}
	r.dir = p.Dir
	for _, d := range diags {
		text := d.Message
		if d.Hint != "" {
			text += "; " + d.Hint
		}
		if d.Warning {
			r.find(ruleEngine, report.Warning, d.Pos, "%s", text)
		} else {
			r.find(ruleModel, report.Error, d.Pos, "%s", text)
		}
	}
	for _, f := range forks {
		r.find(ruleFork, report.Error, lang.Pos{Path: f.Second.Path, Line: 1}, "%s", f.Error())
	}
	for _, s := range secrets {
		r.find(ruleSecret, report.Warning, lang.Pos{Path: project.SettingsFile, Line: 1}, "%s", s)
	}
}

// status reports what was found of one database.
func (r *reporting) status(p *project.Project, row *statusRow) {
	if r == nil {
		return
	}
	r.dir = p.Dir
	settings := lang.Pos{Path: project.SettingsFile, Line: 1}
	class := "erbario.status." + row.Database
	look := func(name string, broken bool, list []string) {
		c := report.Case{Class: class, Name: name, Broken: broken}
		if len(list) > 0 {
			c.Failure, c.Details = list[0], strings.Join(list, "\n")
			if len(list) > 1 {
				c.Failure = plural(len(list), "difference", "differences") + ": " + list[0] + ", …"
			}
		}
		r.Look(c)
	}
	var problems []string
	if row.Problem != "" {
		problems = append(problems, row.Problem)
	}
	if row.Half != nil {
		h := row.Half
		problems = append(problems, fmt.Sprintf("%s  %s since %s: %s", h.how(), h.Migration, h.Since, h.where))
	}
	for _, text := range problems {
		r.find(ruleReach, report.Error, settings, "%s: %s", row.Database, text)
	}
	look("the database", true, problems)
	if len(problems) > 0 {
		return
	}
	var lines []string
	for _, l := range row.lines() {
		at := settings
		if e, err := r.app.engines.ByName(row.Engine); err == nil {
			at = migrationAt(p, e, l.id, settings)
		}
		if l.word == "pending" {
			r.find(rulePending, report.Warning, at, "%s: %s is pending", row.Database, l.id)
		} else {
			r.find(ruleLine, report.Error, at, "%s: %s", row.Database, l.text)
		}
		lines = append(lines, l.word+" "+l.text)
	}
	look("the migrations", false, lines)
	look("the models", false, r.changes(p, row, ruleDraft, "not drafted", row.Models))
	look("the tables", false, r.changes(p, row, ruleOutside, "changed outside Erbario", row.Live))
}

// changes reports changes, each at the line of the model that it is about.
func (r *reporting) changes(p *project.Project, row *statusRow, rule report.Rule, what string,
	list []jsonChange) (told []string) {
	if len(list) == 0 {
		return nil
	}
	at := func(jsonChange) lang.Pos { return lang.Pos{} }
	if e, err := r.app.engines.ByName(row.Engine); err == nil {
		if files, _, _, err := p.Parse(); err == nil {
			d, _, _ := check.Resolve(p, files, e)
			at = func(c jsonChange) lang.Pos { return check.Place(files, d, c.Table, c.Name) }
		}
	}
	for _, c := range list {
		pos := at(c)
		if pos.Path == "" {
			pos = lang.Pos{Path: project.SettingsFile, Line: 1}
		}
		text := string(c.Kind) + " " + diff.Change{Table: c.Table, Name: c.Name}.Target()
		if c.What != "" {
			text += ": " + c.What
		}
		r.find(rule, report.Warning, pos, "%s: %s: %s", row.Database, what, text)
		told = append(told, text)
	}
	return told
}

// proved reports the proofs of one engine's migrations; err: why they could not all be tried, or that one failed.
func (r *reporting) proved(p *project.Project, e engine.Engine, list []jsonProof, err error) {
	if r == nil {
		return
	}
	r.dir = p.Dir
	failed := false
	for _, proof := range list {
		c := report.Case{Class: "erbario.prove." + e.Name(), Name: proof.Migration}
		if !proof.Proved {
			failed = true
			c.Failure, c.Details = proof.Outcome, strings.Join(proof.Differ, "\n")
			r.find(ruleProof, report.Error, migrationAt(p, e, proof.Migration, lang.Pos{}), "%s", proof.Outcome)
		}
		r.Look(c)
	}
	if err != nil && !failed {
		r.Failed = e.Name() + ": " + err.Error()
	}
}

// agreed reports whether the migrations of an engine create what the models declare.
func (r *reporting) agreed(e engine.Engine, difference error) {
	if r == nil {
		return
	}
	c := report.Case{Class: "erbario.prove." + e.Name(), Name: "the models"}
	if difference != nil {
		c.Failure = difference.Error()
		r.find(ruleAgree, report.Error, lang.Pos{Path: project.SettingsFile, Line: 1}, "%s", c.Failure)
	}
	r.Look(c)
}

// migrationAt is the file of a migration; otherwise: it has none here.
func migrationAt(p *project.Project, e engine.Engine, id string, otherwise lang.Pos) lang.Pos {
	files, err := p.Migrations(e)
	if err != nil {
		return otherwise
	}
	for _, m := range files {
		if m.ID == id {
			return lang.Pos{Path: m.Path, Line: 1}
		}
	}
	return otherwise
}
