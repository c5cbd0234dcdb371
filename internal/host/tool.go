package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"

	"freshkeel/internal/words"
)

// Tool is a command that runs to its end while somebody watches: one that
// makes a build, say.
type Tool struct {
	Argv  []string
	Dir   string
	Env   []string
	Limit time.Duration // 0: none
	In    io.Reader     // nil: nothing
	Out   io.Writer     // where its standard output goes; nil: to line, as its errors
	On    *Screen       // it gets the terminal itself, and line hears nothing
}

// Screen is a terminal that is lent to a command: what a person types, and what they see.
type Screen struct {
	In, Out *os.File
	// Lines says that In is no terminal but a pipe, by which root passes on whole lines that are typed
	// at its own; of it nothing else is lent, and what the command says is heard.
	Lines bool
}

// ErrTooLong says that a tool was ended because its time was up.
var ErrTooLong = errors.New("it took too long and was ended")

// RunTool runs a tool and hands each line of its output to line. When ctx
// ends or the time is up, the tool and all that it started is killed.
func RunTool(ctx context.Context, t Tool, line func(string)) error {
	if t.Limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, t.Limit, ErrTooLong)
		defer cancel()
	}
	cmd := exec.CommandContext(ctx, t.Argv[0], t.Argv[1:]...)
	cmd.Dir, cmd.Env = t.Dir, t.Env
	if t.On != nil && !t.On.Lines {
		cmd.Stdin, cmd.Stdout, cmd.Stderr = t.On.In, t.On.Out, t.On.Out
		return ended(ctx, t, cmd.Run())
	}
	ownGroup(cmd)
	cmd.WaitDelay = 3 * time.Second
	r, w := io.Pipe()
	cmd.Stdin, cmd.Stdout, cmd.Stderr = t.In, w, w
	if t.On != nil {
		if err := HearTyped(); err != nil {
			return err
		}
		cmd.Stdin = t.On.In
	}
	if t.Out != nil {
		cmd.Stdout = t.Out
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("run %s: %w", t.Argv[0], err)
	}
	read := make(chan struct{})
	go func() {
		defer close(read)
		hear(r, t.On != nil, func(l string) { line(printable(l)) })
	}()
	err := cmd.Wait()
	w.Close()
	<-read
	return ended(ctx, t, err)
}

// askedAfter is how long a command may say nothing behind a text without a line's end before that counts as
// a line: it asks for something, and waits.
const askedAfter = 300 * time.Millisecond

// hear calls line with each line that is said; with prompts also with what stands there while nothing
// more comes, a question say.
func hear(r io.Reader, prompts bool, line func(string)) {
	said := make(chan []byte)
	go func() {
		defer close(said)
		for {
			b := make([]byte, 32<<10)
			n, err := r.Read(b)
			said <- b[:n]
			if err != nil {
				return
			}
		}
	}()
	var lines words.Lines
	quiet := time.NewTimer(askedAfter)
	for {
		select {
		case b, more := <-said:
			lines.Add(b, line)
			if !more {
				if rest := lines.Rest(); rest != "" {
					line(rest)
				}
				return
			}
			quiet.Reset(askedAfter)
		case <-quiet.C:
			if rest := lines.Rest(); rest != "" && prompts {
				line(rest)
				lines.Drop()
			}
		}
	}
}

// ended says how a tool ended.
func ended(ctx context.Context, t Tool, err error) error {
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		return fmt.Errorf("%s ended with %w", t.Argv[0], exit)
	}
	return err
}

// printable is a line as it may be shown: of one that a tool redraws, what it said
// last.
func printable(l string) string {
	l = strings.TrimRight(l, "\r\n")
	return words.Printable(l[strings.LastIndexByte(l, '\r')+1:])
}
