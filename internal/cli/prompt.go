package cli

// This file asks at the terminal: one question at a time, with the choices that make sense
// there, the keys that answer it, and a few of the rows that it is about. It is never reached
// where standard input or standard error is no terminal. Each answer is printed as the flag
// that would have given the same, so that it can be repeated without a terminal.

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/huh/v2"
	"charm.land/lipgloss/v2"
	"github.com/mattn/go-runewidth"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/plan"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// errStopped ends a run in which a person chose to stop.
var errStopped = &exitError{code: exitQuestion, err: errors.New("stopped at a question: nothing was written")}

// interactive tells whether there is somebody to ask.
func (a *app) interactive() bool {
	return !a.json && isTerminal(a.stdin) && isTerminal(a.err.w)
}

// formLines is the room that a form needs at most.
const formLines = 18

// form shows fields at the terminal.
func (a *app) form(ctx context.Context, fields ...huh.Field) error {
	return a.formWith(ctx, nil, nil, fields...)
}

// formWith is form with a filter for what is pressed, and other keys; nil: none.
func (a *app) formWith(ctx context.Context, filter func(tea.Model, tea.Msg) tea.Msg, keys *huh.KeyMap,
	fields ...huh.Field) error {
	theme := huh.ThemeFunc(func(isDark bool) *huh.Styles {
		s := huh.ThemeBase(isDark)
		s.Focused.Base = lipgloss.NewStyle()
		s.Focused.Card = s.Focused.Base
		s.Focused.SelectSelector = lipgloss.NewStyle().SetString("> ")
		if a.err.colour {
			s.Focused.SelectSelector = s.Focused.SelectSelector.Foreground(lipgloss.Color("172"))
			s.Focused.SelectedOption = lipgloss.NewStyle().Bold(true)
			s.Focused.Description = styleDim
			s.Focused.ErrorMessage = styleDrop
		}
		return s
	})
	form := huh.NewForm(huh.NewGroup(fields...)).
		WithTheme(theme).
		WithShowHelp(false).
		WithWidth(min(a.err.width(), 120)).
		WithInput(a.stdin).
		WithOutput(a.err.w)
	if keys != nil {
		form = form.WithKeyMap(keys)
	}
	if filter != nil {
		form = form.WithProgramOptions(tea.WithFilter(filter), tea.WithInput(a.stdin), tea.WithOutput(a.err.w))
	}
	if os.Getenv("TERM") == "dumb" {
		return form.WithAccessible(true).RunWithContext(ctx)
	}
	// The form is taken off the screen when it is done: what was asked and what was
	// answered stand there already. Room is made for it first, so that it does not
	// scroll away from the place that is gone back to.
	fmt.Fprintf(a.err.w, "%s\x1b[%dA\x1b7", strings.Repeat("\n", formLines), formLines)
	err := form.RunWithContext(ctx)
	fmt.Fprint(a.err.w, "\x1b8\x1b[J")
	if errors.Is(err, huh.ErrUserAborted) {
		return errStopped
	}
	return err
}

// takes says why a column does not take a value that people typed; nil: it does.
func takes(col *sqlschema.Column, raw string) error {
	v, err := schema.ReadValue(raw, col.Type)
	if err == nil {
		err = col.Refuses(v)
	}
	return err
}

// ask puts the first of the open questions and returns the flags that answer it.
func (a *app) ask(ctx context.Context, s *draft.State, open []plan.Question) ([]string, error) {
	q := open[0]
	head := "question:"
	if all := a.answered + len(open); all > 1 {
		head = fmt.Sprintf("question %d of %d:", a.answered+1, all)
	}
	a.err.printf("%s %s", a.err.paint(styleWarn, head), cell(q.Text))
	shown := q.Sample
	if len(shown.Values) == 0 {
		shown = a.rowsAbout(ctx, s, q)
	}
	for _, line := range sample(shown, "    ") {
		a.err.line(a.err.paint(styleDim, line))
	}
	a.more(q.Rows, shown)
	if q.Other != "" {
		a.err.line("    " + a.err.paint(styleDim, cell(q.Other)))
	}
	wide := 0
	for _, c := range q.Choices {
		wide = max(wide, len([]rune(c.Words)))
	}
	var options []huh.Option[int]
	for i, c := range q.Choices {
		flags := cell(shellFlags(c.Flags))
		label := fmt.Sprintf("%-*s  %s", wide, c.Words, flags)
		if runewidth.StringWidth(label) > a.err.width()-6 { // a flag is never cut
			label = c.Words + "\n    " + flags
		}
		options = append(options, huh.NewOption(label, i))
	}
	options = append(options, huh.NewOption("stop here; change the models or the rows first", -1))
	choice, err := a.choose(ctx, options)
	if err != nil {
		return nil, err
	}
	if choice < 0 {
		return nil, errStopped
	}
	a.answered++
	flags := slices.Clone(q.Choices[choice].Flags)
	for i, flag := range flags {
		for _, hole := range []string{"VALUE", "EXPRESSION"} {
			head, ok := strings.CutSuffix(flag, hole)
			if !ok {
				continue
			}
			text, err := a.askText(ctx, s, q.About, strings.TrimSuffix(head, "="), hole)
			if err != nil {
				return nil, err
			}
			flags[i] = head + text
		}
		a.err.line(a.err.paint(styleDim, "    "+shellFlag(flags[i])))
	}
	return flags, nil
}

// rowsAbout are three rows of the table that a question is about, for a person who has to say
// something of rows that they do not see.
func (a *app) rowsAbout(ctx context.Context, s *draft.State, q plan.Question) engine.Rows {
	table, _, _ := sqlschema.CutTable(q.About, s.Live)
	t := s.Live.Table(table)
	if t == nil || q.Rows == 0 {
		return engine.Rows{}
	}
	var names []string
	for _, c := range t.Columns {
		if len(names) < 4 && !schema.Own(c.Name) {
			names = append(names, s.Engine.SQL().Quote(c.Name))
		}
	}
	rows, err := s.DB.Sample(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+s.Engine.SQL().QuoteTable(t.Name), 3)
	if err != nil { // they help to answer, and nothing depends on them
		return engine.Rows{}
	}
	return rows
}

// keysHelp says below a question which keys answer it.
const keysHelp = "↑↓ choose   enter accept   ctrl-c stop"

// choose lets a person choose among options. Who types letters believes to be asked for a
// text: Enter does not choose then, before an arrow has been pressed.
func (a *app) choose(ctx context.Context, options []huh.Option[int]) (int, error) {
	choice, letters := 0, false
	field := huh.NewSelect[int]().Description(keysHelp).Options(options...).Value(&choice).Filtering(false)
	keys := huh.NewDefaultKeyMap()
	keys.Select.Filter.SetEnabled(false)
	filter := func(_ tea.Model, msg tea.Msg) tea.Msg {
		key, ok := msg.(tea.KeyPressMsg)
		switch {
		case !ok:
		case key.Text != "" && key.Code != tea.KeySpace:
			letters = true
			return nil
		case key.Code == tea.KeyEnter && letters:
			return nil
		case key.Code == tea.KeyUp, key.Code == tea.KeyDown:
			letters = false
		}
		return msg
	}
	err := a.formWith(ctx, filter, keys, field)
	return choice, err
}

// askText asks for a value or an expression, and looks at it before it is taken.
func (a *app) askText(ctx context.Context, s *draft.State, about, flag, hole string) (string, error) {
	_, col := columnNamed(s.Wanted, about)
	what := "SQL expression over the row, in the database's syntax:"
	if hole == "VALUE" {
		what = "value:"
		if col != nil {
			what = "value for " + col.Name + ", " + col.Type.String() + ":"
		}
	}
	text := ""
	field := huh.NewInput().
		Title(what).
		Description("enter accept   ctrl-c stop").
		Value(&text).
		Validate(func(v string) error {
			if hole == "EXPRESSION" {
				return oneExpression(s.Engine.SQL(), v)
			}
			if sql, ok := strings.CutPrefix(v, "sql:"); ok {
				return oneExpression(s.Engine.SQL(), sql)
			}
			if col == nil {
				return nil
			}
			return takes(col, v)
		})
	err := a.form(ctx, field)
	return text, err
}

// shellFlags are flags as one would type them.
func shellFlags(list []string) string {
	var out []string
	for _, flag := range list {
		out = append(out, shellFlag(flag))
	}
	return strings.Join(out, " ")
}

// shellFlag is a flag as one would type it. SQL that has yet to be written will need
// quotes.
func shellFlag(flag string) string {
	name, value, _ := strings.Cut(flag, " ")
	if strings.HasSuffix(value, "EXPRESSION") ||
		strings.Trim(value, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._=:/-") != "" {
		value = "'" + strings.ReplaceAll(value, "'", `'\''`) + "'"
	}
	return name + " " + value
}

// askRows shows rows in the way, and offers to show them all.
func (a *app) askRows(ctx context.Context, db engine.Database, list []plan.InTheWay) error {
	for _, w := range list {
		a.ways([]plan.InTheWay{w})
		if w.Rows <= int64(len(w.Sample.Values)) {
			continue
		}
		all := false
		field := huh.NewSelect[bool]().Description(keysHelp).
			Options(huh.NewOption("stop here", false), huh.NewOption("show them all", true)).
			Value(&all)
		if err := a.form(ctx, field); err != nil {
			return err
		}
		if !all {
			continue
		}
		rows, err := db.Sample(ctx, w.Requirement.Query, 0)
		if err != nil {
			return err
		}
		a.err.line("    all of them:")
		for _, line := range sample(rows, "    ") {
			a.err.line(line)
		}
	}
	return nil
}

// confirm asks a question of yes or no; without anybody to ask it is an error
// that names the flag.
func (a *app) confirm(ctx context.Context, what string) error {
	if a.yes {
		return nil
	}
	if !a.interactive() {
		return &exitError{code: exitQuestion, err: fmt.Errorf("%s: no terminal to confirm at; add --yes", what)}
	}
	yes := false
	if err := a.form(ctx, huh.NewConfirm().Title(upperFirst(what)+"?").Affirmative("yes").Negative("no").Value(
		&yes)); err != nil {
		return err
	}
	if !yes {
		return fmt.Errorf("cancelled: nothing was changed")
	}
	return nil
}

// more tells how many rows a sample leaves out.
func (a *app) more(n int64, shown engine.Rows) {
	if left := n - int64(len(shown.Values)); left > 0 && len(shown.Values) > 0 {
		a.err.printf("    and %s more", words.Thousands(left))
	}
}
