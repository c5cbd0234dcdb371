// Command freshkeel keeps a dedicated game server at the build its players
// have. It is flags, tables and progress; the work is package freshkeel's.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"freshkeel"
	"freshkeel/demo"

	"github.com/urfave/cli/v3"
)

// version is set when a release is built.
var version = "0.1.0-dev"

// Exit codes, as docs/commands.md lists them.
const (
	exitDone       = 0
	exitFailed     = 1
	exitUsage      = 2
	exitRefused    = 3
	exitRolledBack = 4
	exitHands      = 5
	exitNewer      = 10
	exitDown       = 11 // of status
	exitDiffers    = 13 // of audit: not clean; of compare: the two differ
	exitBetween    = 12 // of status: starting, stopping, or a run under way
)

// Hidden words by which this program calls itself.
const (
	minderWord  = "minder"
	runtimeWord = "simulated-runtime"
	answerWord  = freshkeel.AnswerWord
	ownerWord   = "as-owner"
	apartWord   = "run-apart"
)

// memoryLimit is where collecting garbage gets eager, in bytes: a large install
// is no reason to take memory from the server that runs beside.
const memoryLimit = 90 << 20

func main() {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
	}
	if err := freshkeel.InheritNothing(); err != nil {
		fmt.Fprintf(os.Stderr, "freshkeel: %v\n", err)
		os.Exit(exitFailed)
	}
	if len(os.Args) > 1 {
		switch os.Args[1] {
		case minderWord:
			if err := freshkeel.Mind(os.Stdin, os.Stdout); err != nil {
				os.Exit(exitFailed)
			}
			return
		case apartWord:
			os.Exit(freshkeel.BeApart(os.Stdin, os.Stdout, os.Stderr))
		case answerWord:
			if len(os.Args) == 3 { // by a rule of sudo's
				if err := freshkeel.AnswerBySudo(os.Stdin, os.Stdout, os.Stderr, os.Getenv("SUDO_UID"), os.Args[2]); err != nil {
					os.Exit(exitFailed)
				}
				return
			}
			if len(os.Args) != 4 {
				os.Exit(exitUsage)
			}
			uid, err := strconv.Atoi(os.Args[2])
			if err != nil {
				os.Exit(exitUsage)
			}
			if err := freshkeel.Answer(os.Stdin, os.Stdout, os.NewFile(3, "heard"), uid, os.Args[3]); err != nil {
				os.Exit(exitFailed)
			}
			return
		case runtimeWord:
			os.Exit(demo.Runtime(os.Args[2], os.Args[3:], os.Stdin, os.Stdout))
		}
	}
	var became *freshkeel.Became
	if len(os.Args) > 1 && os.Args[1] == ownerWord {
		var err error
		if became, err = freshkeel.BeOwner(); err != nil {
			fmt.Fprintf(os.Stderr, "freshkeel: %v\n", err)
			os.Exit(exitFailed)
		}
		os.Args = append(os.Args[:1], os.Args[2:]...)
	}
	// A command is over before its garbage is worth collecting, up to that limit; the
	// minder, which stays, collects as ever.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(-1)
	}
	// The first interrupt asks the run to end in good order; a second one does
	// not shorten that, so no default is ever restored.
	ctx, cancel := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer cancel()
	p := &program{out: os.Stdout, err: os.Stderr, became: became}
	if became != nil {
		p.out, p.err = &counting{os.Stdout}, &counting{os.Stderr}
	}
	os.Exit(p.main(ctx, os.Args))
}

// program is one call of the command line.
type program struct {
	out, err io.Writer
	view     *view
	json     bool
	plain    bool
	dir      string
	known    []string // names of commands, once they were asked for
	parting  freshkeel.Parting
	later    func() // what is left to do once it was told how the command failed

	became    *freshkeel.Became // the owner whom a command that root began has become; nil: none
	toldOwner bool              // and that was told
}

func (p *program) main(ctx context.Context, args []string) int {
	app := p.app()
	err := app.Run(ctx, args)
	if p.view == nil {
		p.view = newView(p)
	}
	if p.json && p.later != nil {
		p.later() // what says how it went comes last
	}
	code := p.fail(err)
	if !p.json && p.later != nil {
		p.later()
		p.view.end()
	}
	return code
}

func (p *program) app() *cli.Command {
	for _, t := range []*string{&cli.RootCommandHelpTemplate, &cli.CommandHelpTemplate, &cli.SubcommandHelpTemplate} {
		*t = strings.ReplaceAll(*t, "DESCRIPTION:", "EXAMPLES:")
	}
	cli.VersionPrinter = func(*cli.Command) { fmt.Fprintln(p.out, "freshkeel", version) }
	app := &cli.Command{
		Name:                  "freshkeel",
		Usage:                 "keep a dedicated game server at the build its players have",
		Version:               version,
		Writer:                p.out,
		ErrWriter:             p.err,
		EnableShellCompletion: true,
		HideHelpCommand:       true, // ours knows commands of several words
		Suggest:               true,
		// A pattern may hold a comma: 'gardens/{east,west}/**'.
		DisableSliceFlagSeparator: true,
		ExitErrHandler:            func(context.Context, *cli.Command, error) {},
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:        "d",
				Usage:       "the server's install `DIR` (default: the nearest folder upwards with a freshkeel.toml)",
				Destination: &p.dir,
			},
			&cli.BoolFlag{Name: "json", Usage: "results as JSON on standard output; while a refit runs, one " +
				"event a line", Destination: &p.json},
			&cli.BoolFlag{Name: "show-secrets", Usage: "passwords and tokens as they are, at a terminal alone"},
			&cli.BoolFlag{Name: "plain", Usage: "no live view and no colour: one line a step", Destination: &p.plain},
		},
		Before: func(ctx context.Context, c *cli.Command) (context.Context, error) {
			terminal := atTerminal(p)
			p.view = newView(p)
			if !c.Bool("show-secrets") {
				return ctx, nil
			}
			if !terminal {
				return ctx, &freshkeel.Usage{What: "--show-secrets shows them to a person at a terminal alone, and the output goes " +
					"elsewhere", Do: "leave it away, or run the command without a pipe"}
			}
			freshkeel.RevealSecrets()
			return ctx, nil
		},
		Commands: p.commands(),
	}
	slices.SortStableFunc(app.Commands, func(a, b *cli.Command) int {
		return slices.Index(inOrder, a.Name) - slices.Index(inOrder, b.Name)
	})
	showExamples(app, "")
	p.completeWords(app, "")
	answerMistakes(app, "freshkeel")
	return app
}

// options are the core's, from the environment.
func (p *program) options() (freshkeel.Options, error) {
	home := os.Getenv("FRESHKEEL_HOME")
	if home == "" {
		var err error
		if home, err = freshkeel.DefaultHome(); err != nil {
			return freshkeel.Options{}, err
		}
	}
	self, err := os.Executable()
	if err != nil {
		return freshkeel.Options{}, err
	}
	if home, err = filepath.Abs(home); err != nil {
		return freshkeel.Options{}, err
	}
	var lent *freshkeel.Screen
	if p.asks() {
		lent = &freshkeel.Screen{In: os.Stdin, Out: os.Stderr, Lines: p.became != nil}
	}
	return freshkeel.Options{
		Screen:  lent,
		Parting: p.parting,
		Home:    home,
		Self:    []string{self, minderWord},
		Apart:   []string{self, apartWord},
		Env:     os.Environ(),
		Observe: p.view.observe,
		Halt:    haltFromEnv(),
	}, nil
}

// seeThrough is for commands that change the install: a terminal that goes
// away, or a reader of their output, is no reason to stop half-way. The signals
// are taken and dropped, not ignored: ignoring is handed down to the server.
func (p *program) seeThrough() {
	p.view.stream = true
	signal.Notify(make(chan os.Signal, 1), syscall.SIGHUP, syscall.SIGPIPE)
}

// open opens the install that the command is for.
func (p *program) open() (*freshkeel.Keel, error) {
	dir := p.dir
	if dir == "" {
		var err error
		if dir, err = freshkeel.Find("."); err != nil {
			return nil, &freshkeel.Usage{What: err.Error(), Do: "freshkeel -d DIR …, or freshkeel adopt DIR first"}
		}
	}
	if err := p.asOwner(dir); err != nil {
		return nil, err
	}
	o, err := p.options()
	if err != nil {
		return nil, err
	}
	k, err := freshkeel.Open(dir, o)
	if errors.Is(err, freshkeel.ErrNotAdopted) {
		return nil, &freshkeel.Usage{What: err.Error(), Do: "freshkeel adopt " + freshkeel.Shell(dir)}
	}
	return k, err
}

// look opens the install for a command that only looks. What a crash left is told, and left as it is: who looks
// does not want a server to be started.
func (p *program) look(ctx context.Context) (*freshkeel.Keel, error) {
	k, err := p.open()
	if err != nil {
		return nil, err
	}
	k.Rejoin(ctx)
	k.LetGo()
	if e := k.Unsettled(); e != nil {
		what := fmt.Sprintf("%s %s of %s was interrupted while %s", e.Kind, e.ID, when(e.Started), e.Phase)
		if e.Stuck != "" {
			what += " and could not be settled: " + e.Stuck
		}
		p.view.warnLine(runnable(p, what+". What you see here is what it left; freshkeel recover settles it"))
	}
	return k, nil
}

// glance opens the install for a command that only tells how the server is, or talks to
// it: nothing is settled, since who asks is not to wait for a server to come up.
func (p *program) glance(ctx context.Context) (*freshkeel.Keel, error) {
	k, err := p.open()
	if err == nil {
		k.Rejoin(ctx)
	}
	return k, err
}

// change opens the install for a command that changes it, which recovers by
// itself; a dry run only looks.
func (p *program) change(ctx context.Context, c *cli.Command) (*freshkeel.Keel, error) {
	if c.Bool("dry-run") {
		return p.look(ctx)
	}
	p.seeThrough()
	p.parting = freshkeel.Parting{Now: c.Bool("now"), Reason: c.String("reason"), WhenEmpty: c.Bool("when-empty"),
		AtMost: c.Duration("at-most")}
	if p.parting.AtMost > 0 && !p.parting.WhenEmpty {
		return nil, &freshkeel.Usage{What: "--at-most bounds --when-empty, which is not there",
			Do: "freshkeel " + c.Name + " --when-empty --at-most 2h"}
	}
	return p.open()
}

// partingFlags say how players are parted from a server that is to stop.
func partingFlags(more ...cli.Flag) []cli.Flag {
	return append([]cli.Flag{
		&cli.BoolFlag{Name: "now", Usage: "without the warning that [stop] gives the players"},
		&cli.StringFlag{Name: "reason", Usage: "what the players are told: `TEXT` for {reason} in [stop] warn"},
		&cli.BoolFlag{Name: "when-empty", Usage: "wait until nobody is on, as [players] asks the server"},
		&cli.DurationFlag{Name: "at-most", Usage: "of --when-empty: give up after `TIME`, with nothing changed"},
	}, more...)
}

// result prints a command's result as JSON, or by show.
func (p *program) result(v any, show func()) error {
	p.view.end()
	if !p.json {
		show()
		return nil
	}
	enc := json.NewEncoder(p.out)
	enc.SetEscapeHTML(false)
	if p.view.events == 0 {
		enc.SetIndent("", "  ")
	}
	return enc.Encode(v)
}

// failure is the JSON of an error.
type failure struct {
	Event string              `json:"event"`
	Exit  int                 `json:"exit"`
	Error string              `json:"error"`
	Try   []string            `json:"try,omitempty"`
	Stops []freshkeel.Finding `json:"stops,omitempty"`
	Lines []string            `json:"lines,omitempty"`
}

// fail prints an error in one line, what to try, and gives the exit code.
func (p *program) fail(err error) int {
	p.view.end()
	if err == nil {
		return exitDone
	}
	// A command that has said all there is to say only gives its exit code.
	if said := cli.ExitCoder(nil); errors.As(err, &said) && said.Error() == "" {
		return said.ExitCode()
	}
	f := explain(err)
	for i := range f.Try {
		f.Try[i] = runnable(p, f.Try[i])
	}
	if p.json {
		enc := json.NewEncoder(p.out)
		enc.SetEscapeHTML(false)
		enc.Encode(f)
		return f.Exit
	}
	var (
		refused *freshkeel.Refused
		back    *freshkeel.RolledBack
		hands   *freshkeel.NeedsHands
	)
	switch {
	case errors.As(err, &hands):
		p.view.needsHands(hands)
	case errors.As(err, &refused):
		p.view.refused(refused)
	case errors.As(err, &back):
		p.view.rolledBack(back)
	default:
		fmt.Fprintf(p.err, "freshkeel: %s\n", f.Error)
		for _, t := range f.Try {
			fmt.Fprintf(p.err, "try: %s\n", t)
		}
	}
	return f.Exit
}

// explain sorts an error into exit code, text and next steps.
func explain(err error) failure {
	f := failure{Event: "failed", Exit: exitFailed, Error: strings.ReplaceAll(err.Error(), "\n", "; ")}
	var (
		usage   *freshkeel.Usage
		advised *freshkeel.Advised
		prof    *freshkeel.ProfileError
		refused *freshkeel.Refused
		back    *freshkeel.RolledBack
		hands   *freshkeel.NeedsHands
		busy    *freshkeel.Busy
		running *freshkeel.AlreadyRunning
		tool    *freshkeel.ToolFailed
		away    *freshkeel.Unreachable
	)
	add := func(do ...string) {
		for _, d := range do {
			if d != "" {
				f.Try = append(f.Try, d)
			}
		}
	}
	switch {
	case errors.As(err, &hands):
		f.Exit, f.Lines = exitHands, hands.Lines
		f.Error = hands.What + "; " + hands.State
		add(hands.Do...)
	case errors.As(err, &back):
		f.Exit, f.Lines = exitRolledBack, back.Lines
		add("freshkeel logbook " + back.Refit)
	case errors.As(err, &refused):
		f.Exit, f.Stops = exitRefused, refused.Stops
	case errors.As(err, &usage):
		f.Exit = exitUsage
		add(usage.Do)
	case errors.As(err, &prof):
		f.Exit = exitUsage
	case errors.As(err, &advised):
		add(advised.Do)
	case errors.As(err, &away):
		add(away.Do)
	case errors.As(err, &tool):
		f.Lines = tool.Lines
		if tool.Log != "" {
			add("less " + tool.Log)
		}
	case errors.As(err, &busy):
		add("freshkeel status")
	case errors.As(err, &running):
		add("freshkeel status")
	case errors.As(err, new(*freshkeel.Interrupted)): // which says it all
	case errors.Is(err, context.Canceled):
		f.Error = "interrupted; nothing was changed"
	}
	return f
}
