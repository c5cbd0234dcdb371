package acquire

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/host"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// make runs the command that makes a build, in a work folder of its own that
// stays from run to run, since such tools keep what they fetched there. What
// an earlier run made is taken away first: only what this run makes counts.
func (aq *Acquirer) make(ctx context.Context, c *resolve.Candidate, m *feed.Make) (string, error) {
	work, err := aq.workFolder(c)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(work, 0o700); err != nil {
		return "", err
	}
	lock := tree.NewLock(work + ".lock")
	if ok, err := lock.TryLock(); err != nil || !ok {
		return "", tell.Advise(fmt.Errorf("another run of %s is under way", m.Run[0]), "wait for it to end")
	}
	defer lock.Unlock()
	// Files that an earlier run left there are no product of this one: but a run that ended well
	// and whose product was only not named rightly is not done again (it may take long).
	if made := aq.madeBefore(work, c, m); made != "" {
		return made, nil
	}
	for _, old := range picked(work, m.Pick) {
		if err := os.RemoveAll(old); err != nil {
			return "", err
		}
	}
	os.Remove(filepath.Join(work, endedWell))
	log, err := os.OpenFile(filepath.Join(work, "output.log"), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	defer log.Close()
	argv := slices.Clone(m.Run)
	if strings.Contains(argv[0], "/") && !filepath.IsAbs(argv[0]) { // a tool that stands in the install
		argv[0] = aq.Path(argv[0])
	}
	env := append(slices.Clone(aq.Env), "FRESHKEEL_VERSION="+c.Version, "FRESHKEEL_INSTALL="+aq.Dir)
	t := &toolRun{aq: aq, log: log, name: words.Printable(filepath.Base(argv[0]))}
	tool := host.Tool{Argv: argv, Dir: work, Env: env, Limit: m.Limit}
	if err = host.RunTool(ctx, tool, t.hear); err != nil && ctx.Err() == nil {
		err = t.signIn(ctx, tool, err)
	}
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	last := t.last
	made := picked(work, m.Pick)
	if err == nil && len(made) != 1 {
		// Only for the next run: a full disk costs time and no more.
		tree.WriteFile(filepath.Join(work, endedWell), []byte(runMark(c, m)), 0o600)
		err = fmt.Errorf("it ended well, and %s", aq.notOne(work, m, made))
	}
	if err != nil {
		if advised := (*tell.Advised)(nil); errors.As(err, &advised) {
			return "", err
		}
		return "", &tell.ToolFailed{What: fmt.Sprintf("make %s: %v", c.Label(), err), Lines: last,
			Log: filepath.Join(work, "output.log")}
	}
	return made[0], nil
}

// toolRun is one run of a command that makes a build.
type toolRun struct {
	aq   *Acquirer
	log  io.Writer
	name string   // of the command: each of its lines bears it
	last []string // lines that it printed
	due  string   // the line by which it asked for a sign-in
}

// signsIn are the words by which a maker's own tool asks who downloads.
var signsIn = regexp.MustCompile(
	`(?i)\b(sign(ed)?[ -]?in|log(ged)?[ -]?(in|on)|logon|authenticat\w+|authori[sz]e|credentials?|password|` +
		`(device|verification|access|one-time|pairing) code|two-factor|2fa)\b`,
)

// hear hears a line of the tool. One that asks for a sign-in is told at once: the tool may wait
// for that.
func (t *toolRun) hear(l string) {
	fmt.Fprintln(t.log, l)
	if t.last = append(t.last, l); len(t.last) > 12 {
		t.last = t.last[1:]
	}
	t.aq.Tell(tell.Event{Kind: tell.ToolSaid, Text: t.name + ": " + l})
	if t.due == "" && signsIn.MatchString(l) {
		t.due = l
		t.aq.Warn("the command asks for a sign-in: %s", l)
	}
}

// signIn runs a tool that failed for want of a sign-in again, with the terminal; where there is
// none, it says where one is due.
func (t *toolRun) signIn(ctx context.Context, tool host.Tool, failed error) error {
	switch {
	case t.due == "":
		return failed
	case t.aq.Screen == nil:
		return tell.Advise(fmt.Errorf("a sign-in is due: %s (%w)", t.due, failed),
			"run freshkeel -d "+words.Shell(t.aq.Dir)+" fetch once at a terminal, and answer there what the command "+
				"asks")
	}
	how := "with this terminal: answer what it asks"
	if t.aq.Screen.Lines {
		how = "as " + filepath.Base(tool.Argv[0]) + " of the server's own user: each line that you type goes to it; root's " +
			"password is never asked for"
	}
	t.aq.Note("it is run again, %s", how)
	tool.On = t.aq.Screen
	return host.RunTool(ctx, tool, t.hear)
}

// workFolder is where a command works: the same for as long as the command is the same,
// whatever else of [source] is changed. What such a tool fetched there is hours of work.
func (aq *Acquirer) workFolder(c *resolve.Candidate) (string, error) {
	id, err := json.Marshal([]any{aq.Dir, c.Src.Command.Run})
	if err != nil {
		return "", err
	}
	work := filepath.Join(aq.Home, "sources", tree.SumBytes(id).String()[:16]+".work")
	was := strings.TrimSuffix(c.Offer.Memory.Path, ".json") + ".work" // of version 0.1
	if _, err := os.Stat(work); err != nil {
		if _, err := os.Stat(was); err == nil {
			return work, tree.Rename(was, work)
		}
	}
	return work, nil
}

// endedWell is a note in a work folder of which run ended well there last.
const endedWell = ".ended-well"

func runMark(c *resolve.Candidate, m *feed.Make) string {
	return fmt.Sprintf("%q %q", c.Version, m.Run)
}

// madeBefore is what the last run made, where it ended well, was the same as this one
// would be, and was given up only because pick named none or several of its files; "" for
// none. Its product is taken once: the next run makes a new one.
func (aq *Acquirer) madeBefore(work string, c *resolve.Candidate, m *feed.Make) string {
	note := filepath.Join(work, endedWell)
	b, err := tree.ReadOwn(note)
	if err != nil || string(b) != runMark(c, m) {
		return ""
	}
	tool, terr := os.Stat(m.Run[0])
	noted, nerr := os.Stat(note)
	if nerr != nil || (terr == nil && tool.ModTime().After(noted.ModTime())) {
		return "" // the command itself is another one now
	}
	made := picked(work, m.Pick)
	if len(made) != 1 {
		return ""
	}
	aq.Note("%s ended well before, and pick names one file of what it made: it is not run again", m.Run[0])
	os.Remove(note)
	return made[0]
}

// notOne says how pick fails to name one file, and what there is.
func (aq *Acquirer) notOne(work string, m *feed.Make, made []string) string {
	var names []string
	for _, at := range made {
		names = append(names, tree.Rel(work, at))
	}
	if len(made) > 0 {
		return fmt.Sprintf("pick = %s matches %s, and one is wanted; correct pick, and what was made is used without "+
			"another run", words.Quote(m.Pick), strings.Join(names, " and "))
	}
	list, _ := tree.Walk(work, nil)
	for _, e := range list {
		if e.Kind == tree.File && e.Path != "output.log" && e.Path != endedWell {
			names = append(names, e.Path)
		}
	}
	return fmt.Sprintf("pick = %s matches nothing in its work folder, which has %s; correct pick, and what was "+
		"made is used without another run", words.Quote(m.Pick), cmp.Or(words.Some(names, 8), "no file"))
}

func picked(work, pattern string) (out []string) {
	list, _ := tree.Walk(work, nil)
	for _, e := range list {
		if e.Path != "output.log" && e.Path != endedWell && (tree.Patterns{pattern}).Match(e.Path) {
			out = append(out, filepath.Join(work, filepath.FromSlash(e.Path)))
		}
	}
	return
}

// madeAs holds what a command made against the version that was asked for.
func (aq *Acquirer) madeAs(c *resolve.Candidate, v *fetch.Verified) error {
	said, from := version.In(v.Name), "its name"
	if j := jarVersion(v.Path); j != "" && c.Src.Version != "name" {
		said, from = j, "its manifest"
	}
	if said != "" && said != c.Version {
		return fmt.Errorf("make %s: %s was made, and %s says that it is %s", c.Version, v.Name, from, said)
	}
	return nil
}
