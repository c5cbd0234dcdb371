package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"syscall"
	"unicode/utf8"

	"freshkeel"

	"golang.org/x/term"
)

// asOwner has a command that root runs over somebody else's folder do the rest of its work as that
// user. It comes before anything of the folder or of a home is read, and does not return where there
// is such a rest: this process shows it, and ends with it.
func (p *program) asOwner(dir string) error {
	if p.became != nil && p.toldOwner {
		return nil
	}
	if p.became != nil {
		p.toldOwner = true
		p.view.noteLine(dir + " belongs to " + p.became.Name + ": working as that user, not as root")
		if at := p.became.Place; at != "" && !isThere(filepath.Join(at, "locker")) {
			p.view.noteLine(p.became.Name + " has no home that it can write in: its locker is in " + at + ", which is that user's alone")
		}
		return nil
	}
	rest, err := freshkeel.Enter(dir)
	if err != nil || rest == nil {
		return err
	}
	return fmt.Errorf("%s belongs to %s, and root does not work in a folder that somebody else decides on: %w",
		dir, rest.Owner.Name, goOn(p, rest))
}

func isThere(at string) bool {
	_, err := os.Stat(at)
	return err == nil
}

// intoTarget has a command that root runs, and that writes something new at a place which another user
// could lead elsewhere, do the rest of its work as that user. Where it has read something of root's for
// that, of an install of root's say, it is refused.
func (p *program) intoTarget(path string, ofRoot bool) error {
	if path == "" || p.became != nil {
		return nil
	}
	rest, err := freshkeel.EnterTarget(path)
	if err != nil || rest == nil {
		return err
	}
	if ofRoot {
		return &freshkeel.Advised{Err: fmt.Errorf("what root would write to %s could be led elsewhere by %s, through %s", path,
			rest.Owner.Name, rest.Dir), Do: "name a place that only root can change"}
	}
	p.view.noteLine(path + " is below a folder that " + rest.Owner.Name + " can exchange: working as that user, not as root")
	return goOn(p, rest)
}

// goOn shows the rest of a command, which another process does as another user, and ends as it does: it
// returns only where that could not be begun.
func goOn(p *program, rest *freshkeel.Rest) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	p.view.end()
	rest.Self, rest.Args, rest.Env = []string{self, ownerWord}, os.Args[1:], os.Environ()
	rest.Seen = freshkeel.Seen{Live: p.view.live, Colour: p.view.colour, Width: p.view.width, Asks: p.asks(),
		Out: term.IsTerminal(int(os.Stdout.Fd()))}
	rest.In, rest.Out, rest.Err = os.Stdin, os.Stdout, os.Stderr
	out, errs := term.IsTerminal(int(os.Stdout.Fd())), term.IsTerminal(int(os.Stderr.Fd()))
	shown := &relayed{harmless: harmless{os.Stderr, p.view.colour}, live: p.view.live}
	if out {
		rest.Out = shown // of both in one, so that they keep their order
	}
	if errs {
		rest.Err = shown
	}
	if !out && !errs && oneFile(os.Stdout, os.Stderr) {
		rest.Err = rest.Out // a log that takes both keeps their order too
	}
	rest.Ask = func(fields json.RawMessage) error {
		var a asking
		if err := json.Unmarshal(fields, &a); err != nil {
			return err
		}
		if !rest.Seen.Asks {
			return errors.New("nobody is at a terminal")
		}
		p.draw(a)
		return nil
	}
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE) // the other part learns it, and decides
	code, err := rest.Run(signals)
	if err != nil {
		return err
	}
	os.Exit(code)
	panic("unreachable")
}

// oneFile says whether two open files are the same one, as with 2>&1.
func oneFile(a, b *os.File) bool {
	one, err := a.Stat()
	if err != nil {
		return false
	}
	other, err := b.Stat()
	return err == nil && os.SameFile(one, other)
}

// said is how many bytes this process has said, where another one shows them.
var said atomic.Int64

// counting counts what is said.
type counting struct{ w io.Writer }

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	said.Add(int64(n))
	return n, err
}

// relayed shows at a terminal what a process says that is not root any more: its words, our own
// colours, and the one line that is drawn anew. Nothing else that a terminal obeys comes through.
type relayed struct {
	harmless
	live bool
	rest string // what may go on
}

// redrawn takes the live line away, so that another is drawn in its place.
const redrawn = "\r\x1b[K"

// unfinished is the end of a text that may be the beginning of a sequence of ours.
var unfinished = regexp.MustCompile(`(\r|\r?\x1b(\[[0-9;]{0,4})?)$`)

func (r *relayed) Write(b []byte) (int, error) {
	text := r.rest + string(b)
	keep := len(unfinished.FindString(text))
	for n := 1; n < utf8.UTFMax && keep == 0 && n <= len(text); n++ { // a character that is not whole
		if end := text[len(text)-n:]; utf8.RuneStart(end[0]) {
			if !utf8.FullRuneInString(end) {
				keep = n
			}
			break
		}
	}
	text, r.rest = text[:len(text)-keep], text[len(text)-keep:]
	var out strings.Builder
	for i, part := range strings.Split(text, redrawn) {
		if i > 0 && r.live {
			out.WriteString(redrawn)
		}
		out.WriteString(r.safe(part))
	}
	_, err := io.WriteString(r.w, out.String())
	return len(b), err
}
