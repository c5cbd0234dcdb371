// Package lessons makes one install's profile better at any time: by what its server was seen
// to do, and by hand, key by key. What stands in the profile by hand is never touched but
// where a person names the key.
package lessons

import (
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/launch"
	"freshkeel/internal/learn"
	"freshkeel/internal/logbook"
	"freshkeel/internal/logline"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Book is the lessons of one install.
type Book struct {
	*install.Install
	inv *inventory.Kept
}

// New is the lessons of an install.
func New(in *install.Install, inv *inventory.Kept) *Book { return &Book{in, inv} }

func (b *Book) file() string { return filepath.Join(b.Dir, profile.FileName) }

// text is the profile as it stands there now.
func (b *Book) text() (profile.Text, *profile.Profile, error) {
	raw, err := tree.ReadUpTo(b.file(), 4<<20)
	if err != nil {
		return nil, nil, err
	}
	p, err := profile.Parse(b.file(), raw)
	return raw, p, err
}

// Propose makes rules of what the server has shown since it was started, if it runs under a
// minder, and of how it was last stopped.
func (b *Book) Propose() ([]learn.Proposal, error) {
	text, p, err := b.text()
	if err != nil {
		return nil, err
	}
	seen := learn.ReadSeen(b.State(learn.FileName))
	o := learn.Observation{
		Names:   b.names(p),
		Stop:    seen.Stop,
		Twice:   seen.Twice,
		Version: b.version(),
		OfBuild: func(string) bool { return false },
		People: func(at string) bool {
			text, _ := tree.ReadUpTo(b.Path(at), 1<<20)
			return profile.People(at, text)
		},
	}
	st := b.Host().Status()
	if !st.Running || st.Silent {
		return learn.Propose(text, p, seen, o), nil
	}
	if err := b.observe(&o, st, p); err != nil {
		return nil, err
	}
	return learn.Propose(text, p, seen, o), nil
}

// names are those of the server's script and of what that runs.
func (b *Book) names(p *profile.Profile) []string {
	out := []string{filepath.Base(p.Launch.Script), p.Server.Name}
	if cmds, err := launch.Read(b.Dir, p.Launch.Script, b.ServerEnv()); err == nil {
		for _, c := range cmds {
			out = append(out, filepath.Base(c.Program), filepath.Base(c.Jar), filepath.Base(c.Script))
		}
	}
	return out
}

func (b *Book) version() string {
	head, err := b.inv.Head()
	if err != nil {
		return ""
	}
	return head.Version
}

// mostLines bounds how much of a console or a log is looked at.
const mostLines = 2000

// observe looks at a running server.
func (b *Book) observe(o *learn.Observation, st *host.Status, p *profile.Profile) error {
	if b.Minded() {
		o.Console = firstLines(b.RunDir().Console(), 0)
	} else {
		o.Console, _ = b.Host().Tail(mostLines)
	}
	for _, q := range host.PortsOf(st.Processes) {
		o.Ports = append(o.Ports, profile.Port{Net: q.Net, Number: q.Number})
	}
	list, err := tree.Walk(b.Dir, nil)
	if err != nil {
		return err
	}
	marks := b.logMarks()
	o.Logs, o.LogsEarlier = map[string][]string{}, map[string][]string{}
	o.Files, o.Used, o.Head = list, b.used(st.Processes), b.head
	if err := b.written(o, st.Since); err != nil {
		return err
	}
	for _, e := range list {
		if e.Kind != tree.File || !learn.IsLog(e.Path) || len(o.Logs) == 8 {
			continue
		}
		from := marks[e.Path]
		if time.Unix(0, e.Mtime).Before(st.Since) {
			if lines := firstLines(b.Path(e.Path), max(0, e.Size-earlierLog)); len(lines) > 0 {
				o.LogsEarlier[e.Path] = lines
			}
			continue
		}
		if e.Size < from {
			from = 0
		}
		if lines := firstLines(b.Path(e.Path), from); len(lines) > 0 {
			o.Logs[e.Path] = lines
		}
		if from > 0 {
			if lines := firstLines(b.Path(e.Path), max(0, from-earlierLog)); len(lines) > len(o.Logs[e.Path]) {
				o.LogsEarlier[e.Path] = lines[:len(lines)-len(o.Logs[e.Path])]
			}
		}
	}
	o.Changed = b.byRefit(st.Since)
	if b.Minded() {
		o.Earlier = logline.Own(firstLines(strings.TrimSuffix(b.RunDir().Console(), ".log")+".1.log", 0))
	}
	o.Console = logline.Own(o.Console)
	for name, lines := range o.Logs {
		o.Logs[name] = logline.Own(lines)
	}
	o.Named = b.namedPorts(list, p)
	for name, lines := range o.Logs {
		o.Words = append(o.Words, learn.WordsIn(name, strings.Join(lines, "\n"))...)
	}
	o.Words = learn.Ranked(append(learn.WordsIn("the console", strings.Join(o.Console, "\n")), o.Words...))
	return nil
}

// earlierLog is how much of a log's end before a start is looked at, in bytes.
const earlierLog = 64 << 10

// byRefit tells whether a server that runs since then was started by a refit to another version.
func (b *Book) byRefit(since time.Time) bool {
	all, err := b.Install.Book.All()
	return err == nil && slices.ContainsFunc(all, func(e *logbook.Entry) bool {
		return e.Kind == logbook.Refit && e.Outcome == logbook.Confirmed && e.From != e.To && !since.Before(e.Started) &&
			!since.After(e.Ended)
	})
}

// used is how the server's processes use files of the install.
func (b *Book) used(pids []int) map[string]learn.Use {
	out := map[string]learn.Use{}
	for at, u := range host.Used(pids) {
		if dir := tree.Real(b.Dir); tree.Inside(dir, at) && at != dir {
			out[tree.Rel(dir, at)] = learn.Use(u)
		}
	}
	return out
}

// headBytes is how much of a file is read to tell what it is.
const headBytes = 16 << 10

// head is how a file begins.
func (b *Book) head(at string) []byte {
	f, err := tree.OpenRegular(b.Path(at))
	if err != nil {
		return nil
	}
	defer f.Close()
	buf := make([]byte, headBytes)
	n, _ := f.ReadAt(buf, 0)
	return buf[:n]
}

// written finds what was written since the server started, what its processes have open for writing, and what came or
// changed since the files were last recorded: a server saves when it ends, too.
func (b *Book) written(o *learn.Observation, since time.Time) error {
	inv, err := b.inv.Read()
	if err != nil {
		inv = &inventory.Inventory{}
	}
	had := map[string]inventory.Owned{}
	for _, f := range inv.Files {
		had[f.Path] = f
	}
	o.Known, o.Since = inv.Known, since
	o.OfBuild = func(at string) bool { _, is := had[at]; return is }
	for _, e := range o.Files {
		was, there := had[e.Path]
		at := time.Unix(0, e.Mtime)
		if e.Kind == tree.File && (!at.Before(since) || o.Used[e.Path].Writes ||
			!inv.At.IsZero() && at.After(inv.At) && (!there || !inv.Known && (was.Mtime != e.Mtime || was.Size != e.Size))) {
			o.Written = append(o.Written, e)
		}
	}
	return nil
}

// logMarks says how long logs were when the server was started.
func (b *Book) logMarks() map[string]int64 { return learn.ReadMarks(b.State("run", learn.MarksFile)) }

// firstLines are the lines of a text from an offset on, without what a terminal obeys.
func firstLines(path string, from int64) (out []string) {
	f, err := tree.OpenRegular(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	buf := make([]byte, 512<<10)
	n, _ := f.ReadAt(buf, from)
	text := strings.TrimRight(strings.ReplaceAll(string(buf[:n]), "\r\n", "\n"), "\n")
	if text == "" {
		return nil
	}
	for _, l := range strings.SplitN(text, "\n", mostLines+1) {
		if len(out) < mostLines {
			out = append(out, words.Printable(l))
		}
	}
	return out
}

// namedPorts are the ports that the script and settings name, and where.
func (b *Book) namedPorts(list []tree.Entry, p *profile.Profile) map[int]string {
	named := map[int]string{}
	add := func(all []learn.NamedPort) {
		for _, n := range all {
			if named[n.Number] == "" {
				named[n.Number] = strings.SplitN(n.From, ": ", 2)[0]
			}
		}
	}
	cmds, err := launch.Read(b.Dir, p.Launch.Script, b.ServerEnv())
	near := []string{"."} // where settings lie: in the install, and in the package of what it runs
	for _, c := range cmds {
		for _, at := range c.Runs(b.Dir) {
			near = append(near, path.Dir(at))
		}
	}
	isNear := func(at string) bool {
		return slices.ContainsFunc(near, func(dir string) bool {
			below := at
			if dir != "." {
				if rest, is := strings.CutPrefix(at, dir+"/"); is {
					below = rest
				} else {
					return false
				}
			}
			return strings.Count(below, "/") < 2
		})
	}
	for _, e := range list {
		if e.Kind == tree.File && e.Size < 1<<20 && isNear(e.Path) && !tree.Ours(e.Path) &&
			(profile.SettingsKind(e.Path) && e.Path != profile.FileName || e.Path == p.Launch.Script) {
			if text, err := tree.ReadUpTo(b.Path(e.Path), 1<<20); err == nil {
				add(learn.PortsIn(e.Path, string(text), false))
			}
		}
	}
	if err == nil {
		for _, c := range cmds {
			add(learn.PortsIn(c.File, strings.Join(c.Args, " "), false))
		}
	}
	add(learn.PortsIn(p.Launch.Script, strings.Join(p.Launch.Args, " "), false))
	return named
}

// ofBuild tells whether a file, or with a slash behind it anything of a folder, was put there
// with the build, as far as the inventory knows.
func (b *Book) ofBuild() func(string) bool {
	inv, err := b.inv.Read()
	if err != nil {
		return func(string) bool { return false }
	}
	files, folders := map[string]bool{}, map[string]bool{}
	for _, o := range inv.Files {
		files[o.Path] = true
		if top, _, below := strings.Cut(o.Path, "/"); below {
			folders[top+"/"] = true
		}
	}
	return func(at string) bool { return files[at] || folders[at] }
}

// Accept writes proposals into the profile: each with what it was learned from, and all else
// of it as it is.
func (b *Book) Accept(list []learn.Proposal) error {
	if len(list) == 0 {
		return nil
	}
	return b.change("learn", func(text profile.Text) (profile.Text, error) {
		text, edits, err := learn.Apply(text, list)
		if err != nil {
			return nil, err
		}
		ofBuild := b.ofBuild()
		for _, p := range list { // settings that the server writes itself are carried like those that a build ships
			if p.Key == "server.settings" && p.Item != "" && !tree.IsGlob(p.Item) && !ofBuild(p.Item) &&
				b.Profile.CarryOf(p.Item).File == "" {
				text = withCarry(text, p.Item)
			}
		}
		seen := learn.ReadSeen(b.State(learn.FileName))
		seen.Edits = append(seen.Edits, edits...)
		seen.ProveLearned(list)
		return text, errors.Join(seen.Write(b.State(learn.FileName)), b.noteVersion(list))
	})
}

// noteVersion keeps the version that the server said by a rule that was learned, where none
// was known.
func (b *Book) noteVersion(list []learn.Proposal) error {
	for _, p := range list {
		if p.Says != "" && b.version() == "" {
			seen := learn.ReadSeen(b.State(learn.FileName))
			seen.Heard = p.Says
			if err := seen.Write(b.State(learn.FileName)); err != nil {
				return err
			}
			return b.inv.Rewrite(func(head *inventory.Inventory) { head.Version = p.Says })
		}
	}
	return nil
}

// CarryWritten adds a rule for each of some files of settings that the server writes at its first start.
func (b *Book) CarryWritten(files []string) error {
	if len(files) == 0 {
		return nil
	}
	return b.change("settings", func(text profile.Text) (profile.Text, error) {
		for _, at := range files {
			text = withCarry(text, at)
		}
		return text, nil
	})
}

// withCarry is a profile's text with a rule for one file that the server writes at its first start.
func withCarry(text profile.Text, at string) profile.Text {
	return append(slices.Clip(text), "\n[[carry]]\n# learned: the server writes it itself; for its defaults each "+
		"build is booted once in an empty folder apart\n"+
		"file = "+words.Quote(tree.Literally(at))+"\ndefaults = 'written'\n"...)
}

// Forget takes what was learned of a key out of the profile again, "" for all that was.
func (b *Book) Forget(key string) (gone, stays []string, err error) {
	err = b.change("forget", func(text profile.Text) (profile.Text, error) {
		seen := learn.ReadSeen(b.State(learn.FileName))
		var left []learn.Edit
		var err error
		text, left, gone, stays, err = learn.Forget(text, seen.Edits, key)
		if err != nil {
			return nil, err
		}
		if len(gone)+len(stays) == 0 {
			if key == "" {
				return nil, errors.New("nothing was learned into the profile")
			}
			return nil, tell.Advise(fmt.Errorf("nothing was learned of %s", key), learnedKeys(b.Learned()))
		}
		seen.Edits = left
		return text, seen.Write(b.State(learn.FileName))
	})
	return gone, stays, err
}

// Learned lists the keys that something was learned of.
func (b *Book) Learned() (keys []string) {
	for _, e := range learn.ReadSeen(b.State(learn.FileName)).Edits {
		if !slices.Contains(keys, e.Key) {
			keys = append(keys, e.Key)
		}
	}
	return keys
}

func learnedKeys(keys []string) string {
	if len(keys) == 0 {
		return "nothing was learned yet: freshkeel start --learn"
	}
	return "learned were: " + strings.Join(keys, ", ")
}

// Change is how one key is edited by hand.
type Change struct {
	Key    string
	Values []string
	Add    bool // to a list, besides what is there
	Drop   bool // from a list
	Unset  bool // the key goes
}

// Set edits keys in place, all of them or none, with the errors of whoever reads the profile: keys that need each
// other are set together.
func (b *Book) Set(changes ...Change) error {
	return b.change("profile", func(text profile.Text) (_ profile.Text, err error) {
		for _, c := range changes {
			if text, err = b.edited(text, c); err != nil {
				return nil, err
			}
		}
		return text, nil
	})
}

// edited is a profile's text with one key edited.
func (b *Book) edited(text profile.Text, c Change) (profile.Text, error) {
	literal := ""
	if !c.Unset {
		var err error
		if literal, err = profile.Literal(b.file(), c.Key, c.Values); err != nil {
			return nil, err
		}
	} else if _, _, there := text.Value(c.Key); !there {
		return nil, &profile.Error{File: b.file(), Key: c.Key, Why: "the profile has no such key"}
	}
	if (c.Add || c.Drop) && !profile.IsList(c.Key) {
		return nil, &profile.Error{File: b.file(), Key: c.Key, Why: "it holds one value, not a list"}
	}
	var err error
	switch {
	case c.Unset:
		return text.Without(c.Key)
	case c.Add || c.Drop:
		for _, v := range c.Values {
			if c.Add {
				text, err = text.WithItem(c.Key, v, "")
			} else {
				was := text
				if text, err = text.WithoutItem(c.Key, v); err == nil && string(text) == string(was) {
					err = &profile.Error{File: b.file(), Key: c.Key, Why: fmt.Sprintf("%q is not in it", v)}
				}
			}
			if err != nil {
				return nil, err
			}
		}
		return text, nil
	}
	return text.With(c.Key, literal, profile.NoComment)
}

// change edits the profile under the lock. What could not be read back is not written, and a
// file that is another user's or read-only is told.
func (b *Book) change(doing string, edit func(profile.Text) (profile.Text, error)) error {
	unlock, err := b.Lock(doing)
	if err != nil {
		return err
	}
	defer unlock()
	old, err := tree.ReadUpTo(b.file(), 4<<20)
	if err != nil {
		return err
	}
	text, err := edit(old)
	if err != nil {
		return err
	}
	p, err := profile.Parse(b.file(), text)
	if err != nil {
		return err
	}
	mode := os.FileMode(0o644)
	if fi, err := os.Stat(b.file()); err == nil {
		mode = fi.Mode().Perm()
	}
	if err := tree.WriteFile(b.file(), text, mode); err != nil {
		return err
	}
	*b.Profile = *p
	return nil
}
