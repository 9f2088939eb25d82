// Package cli is the command line and the terminal: commands, flags, prompts,
// and output as text and as JSON. It alone knows of them; what a command does is
// done in the packages below it.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"erbario/internal/draft"
	"erbario/internal/engine"

	"github.com/urfave/cli/v3"
	// The engines that this program knows.
)

// Version is the program's version, Commit what it was built from and Date the day of that,
// set when it is built; without them the build information of Go tells.
var (
	Version = "0.1.0"
	Commit  string
	Date    string
)

// The exit codes. They are part of the interface.
const (
	exitDone     = 0
	exitFailed   = 1
	exitUse      = 2
	exitDiffers  = 3
	exitQuestion = 4
	exitHalfway  = 5
)

// exitError ends a command with a code. told: the text output has it already, and only
// the JSON document says it once more; err is nil where the code says all.
type exitError struct {
	code int
	err  error
	told bool
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

func exit(code int) error { return &exitError{code: code} }

func wrongUse(format string, args ...any) error {
	return &exitError{code: exitUse, err: fmt.Errorf(format, args...)}
}

// Main runs the program, which knows these engines, and returns its exit code.
func Main(engines engine.Registry, args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	if len(args) == 2 && args[1] == "--version" { // needs no command
		fmt.Fprintln(stdout, "erbario "+version())
		return exitDone
	}
	// A run is short and its values live to its end: collecting less often costs
	// little memory and saves a quarter of the time on large projects.
	debug.SetGCPercent(400)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{engines: engines, stdin: stdin, out: &printer{w: stdout}, err: &printer{w: stderr}, json: wantsJSON(args)}
	over := context.AfterFunc(ctx, func() { // a second one ends the program at once
		stop()
		time.AfterFunc(2*time.Second, func() {
			a.err.line(
				"stopping: the migration in progress is undone first. Ctrl-C again ends at once; erbario status then shows the state of the database.",
			)
		})
	})
	defer over() // what is closed behind a run that has ended may take long
	root := a.root()
	root.Writer, root.ErrWriter, root.Reader = stdout, stderr, stdin
	err := root.Run(ctx, args)
	return a.finish(ctx, err)
}

// wantsJSON tells whether the arguments ask for JSON: also a mistake in them is told so.
func wantsJSON(args []string) bool {
	for i, arg := range args {
		name := strings.TrimLeft(arg, "-")
		switch {
		case arg == "--":
			return false
		case name == arg:
		case name == "format=json", name == "format" && i+1 < len(args) && args[i+1] == "json":
			return true
		}
	}
	return false
}

// finish tells an error, writes the JSON document, and gives the exit code.
func (a *app) finish(ctx context.Context, err error) int {
	code, message, told := ended(ctx, err)
	if message != "" && !(told && !a.json) {
		a.err.line(a.err.paint(styleBad, "error: ") + clean(message))
	}
	if a.json {
		if code != exitDone {
			a.document(failure(code, message))
		}
		a.writeDocument()
	}
	return code
}

// ended is what an error, or nil, ends a command with; told: the text output has it already.
func ended(ctx context.Context, err error) (code int, message string, told bool) {
	if err == nil {
		return exitDone, "", false
	}
	code = exitFailed
	var stale *draft.StaleError
	var breaks *draft.BreaksError
	if errors.As(err, &stale) || errors.As(err, &breaks) { // something has to be changed, too
		code = exitQuestion
	}
	var e *exitError
	if errors.As(err, &e) {
		code, told = e.code, e.told
		if e.err == nil {
			return code, "", true
		}
	}
	if ctx.Err() != nil && code != exitHalfway {
		err = errors.New("interrupted: the migration in progress was rolled back; the database is unchanged")
	}
	message = strings.TrimSpace(err.Error())
	if g := usageShell().FindStringSubmatch(message); g != nil {
		return exitUse, "there is no completion for " + g[1] + ": write bash, zsh, fish or pwsh", told
	}
	return code, message, told
}

// failure is what a JSON document says of an end that is not exit 0.
func failure(code int, message string) map[string]any {
	out := map[string]any{"exit": code}
	if message != "" {
		out["error"] = message
	}
	return out
}

// app is one run of the program.
type app struct {
	engines engine.Registry
	stdin   io.Reader
	out     *printer // results
	err     *printer // everything else

	dir       string
	databases []string // as they were named
	database  string   // the one that was named, or ""
	json      bool
	verbose   bool
	yes       bool
	yesOn     string
	doc       map[string]any // the JSON document of the run, written at its end
	report    *reporting     // what is written in its place; nil: nothing is
	answered  int            // questions, so far
	noColour  bool
	forceTerm bool
	shown     bool // what is written is shown to a person, whatever it goes to
}

func (a *app) root() *cli.Command {
	cli.VersionPrinter = func(c *cli.Command) { fmt.Fprintln(c.Root().Writer, "erbario "+version()) }
	cli.HelpPrinter = a.help
	format := ""
	usage := func(ctx context.Context, c *cli.Command, err error, sub bool) error {
		return &exitError{
			code: exitUse,
			err:  fmt.Errorf("%s; erbario %s--help shows more", usageWords(c, err), subName(c)),
		}
	}
	root := &cli.Command{
		Name:    "erbario",
		Usage:   "declare data models, and keep live databases in step with them",
		Version: version(),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "C", Usage: "project directory: `DIR`", Destination: &a.dir, Value: "."},
			&cli.StringSliceFlag{
				Name:        "database",
				Usage:       "the database: `NAME`; several for apply, undo, status, review",
				Destination: &a.databases,
			},
			&cli.StringFlag{Name: "format", Usage: "text or json; for CI sarif or junit (check, status, prove)",
				Destination: &format, Value: "text"},
			&cli.BoolFlag{Name: "no-color", Usage: "no colours", Destination: &a.noColour},
			&cli.BoolFlag{
				Name:        "v",
				Usage:       "print the SQL sent to the database, and what scratch databases lack",
				Destination: &a.verbose,
			},
			&cli.BoolFlag{Name: "yes", Usage: "answer yes-or-no questions with yes", Destination: &a.yes},
			&cli.StringFlag{Name: "yes-on", Usage: "the same for the protected database `NAME`", Destination: &a.yesOn},
		},
		EnableShellCompletion:     true,
		DisableSliceFlagSeparator: true,
		OnUsageError:              usage,
		Suggest:                   false,
		ExitErrHandler:            func(context.Context, *cli.Command, error) {},
		Before: func(ctx context.Context, c *cli.Command) (context.Context, error) {
			if err := a.formatAs(format, c.Args().First()); err != nil {
				return ctx, err
			}
			a.out.colour, a.err.colour = a.colour(a.out.w), a.colour(a.err.w)
			if len(a.databases) > 0 {
				a.database = a.databases[0]
			}
			if name := c.Args().First(); len(a.databases) > 1 &&
				!slices.Contains([]string{"apply", "undo", "status", "review"}, name) {
				return ctx, wrongUse("--database is given %d times: erbario %s works on one database", len(a.databases),
					name)
			}
			return ctx, nil
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if name := c.Args().First(); name != "" {
				var known []string
				for _, s := range c.Commands {
					known = append(known, s.Name)
				}
				return wrongUse("there is no command %q%s; erbario --help lists them", name, meant(name, known))
			}
			return cli.ShowRootCommandHelp(c)
		},
		Commands: []*cli.Command{
			a.initCommand(), a.adoptCommand(), a.declareCommand(), a.checkCommand(), a.fmtCommand(),
			a.diffCommand(), a.draftCommand(), a.redraftCommand(), a.proveCommand(),
			a.applyCommand(), a.undoCommand(), a.statusCommand(), a.historyCommand(), a.scriptCommand(),
			a.rebuildCommand(), a.seedCommand(), a.deletedCommand(), a.keptCommand(), a.lookCommand(),
			a.insertCommand(), a.typesCommand(), a.diagramCommand(), a.reviewCommand(), a.editorCommand(),
			a.demoCommand(),
		},
	}
	for _, c := range root.Commands {
		c.OnUsageError = usage
		c.HideHelpCommand = len(c.Commands) == 0 // "h" may be a title
		for _, sub := range c.Commands {
			sub.OnUsageError = usage
		}
	}
	return root
}

func subName(c *cli.Command) string {
	if c == nil || c.Name == "erbario" {
		return ""
	}
	return c.Name + " "
}

// version is the program's version, with the commit that it was built from and its day.
func version() string {
	commit, date := Commit, Date
	if info, ok := debug.ReadBuildInfo(); ok && commit == "" {
		for _, s := range info.Settings {
			switch {
			case s.Key == "vcs.revision" && len(s.Value) >= 8:
				commit = s.Value[:8]
			case s.Key == "vcs.time" && len(s.Value) >= 10:
				date = s.Value[:10]
			}
		}
	}
	if built := strings.TrimSpace(commit + " " + date); built != "" {
		return Version + " (" + strings.Replace(built, " ", ", ", 1) + ")"
	}
	return Version
}

// atMost refuses arguments that a command has no use for.
func atMost(c *cli.Command, n int) error {
	if c.Args().Len() > n {
		return wrongUse("erbario %s takes no argument %q", c.Name, c.Args().Get(n))
	}
	return nil
}
