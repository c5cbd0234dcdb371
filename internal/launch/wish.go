package launch

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/placed"

	"mvdan.cc/sh/v3/syntax"
)

// Wish is what the commands of a launch script are to have. What it does not name stays.
type Wish struct {
	First, Most  string   // a runtime's heap, as "4G"
	Flags        []string // of a runtime, in front of what it runs
	With         []string // arguments of the server, behind
	Without      []string // words that must not be there; one may end in *
	Folder       string   // that it runs in, relative to the install; "." is the install
	NoBackground bool     // no & behind it
	NoWait       bool     // no key waited for once it has ended

	// of which commands: nil for all
	Of func(Command) bool
}

// Nothing tells whether nothing is wished.
func (w Wish) Nothing() bool { return len(w.steps()) == 0 }

// ofTheServer tells whether something is wished of what the server itself is told.
func (w Wish) ofTheServer() bool {
	w.NoBackground, w.NoWait = false, false
	return !w.Nothing()
}

// Edit is one change of a script's text.
type Edit struct {
	File string
	Line int // counted from 1, of the text before
	Old  string
	New  string
	Why  string
}

// Script is a launch script and the files that it reads, as they will be.
type Script struct {
	Install string
	Name    string   // relative to the install
	Env     []string // the server's
	Args    []string // that it is given
	Under   Texts    // texts that some files will have; may be nil

	// where there is no script of the install: what a service runs, see Lines
	Label string
	Lines [][]string
	Dir   string

	// Unread has Grant change what depends on something unknown too: who sets it proves what it did
	Unread bool

	texts map[string][]byte // of files that were edited
}

// Copy is the script as it is now: what is edited in one of the two is not in the other.
func (s *Script) Copy() *Script {
	c := *s
	c.texts = maps.Clone(s.texts)
	return &c
}

// Restore has the script be as a copy of it is.
func (s *Script) Restore(was *Script) { s.texts = maps.Clone(was.texts) }

// Now are the texts of files as they will be.
func (s *Script) Now() Texts { return s.with("", nil) }

// Has tells whether a command that was started has what is wished, as far as a command that was started tells.
func (w Wish) Has(s *Script, c Command) bool {
	w.NoBackground, w.NoWait = false, false
	return !slices.ContainsFunc(w.steps(), func(step func(*Script, Command) *change) bool { return step(s, c) != nil })
}

// Alone tells whether what is wished is all that differs between two commands that were started.
func (w Wish) Alone(s *Script, before, after Command) bool {
	w.NoBackground, w.NoWait = false, false
	for _, step := range w.steps() {
		for range mostChanges {
			ch := step(s, before)
			if ch == nil {
				break
			}
			before = ch.want(before)
		}
	}
	words := func(c Command) []string {
		out := slices.Concat(c.Args, c.Flags)
		slices.Sort(out)
		return slices.Compact(out)
	}
	return before.Program == after.Program && before.Dir == after.Dir && before.Jar == after.Jar && before.Script == after.Script &&
		slices.Equal(words(before), words(after))
}

// Texts are the files that were edited, by their paths.
func (s *Script) Texts() map[string][]byte { return s.texts }

// with is the script where one file says something else.
func (s *Script) with(file string, text []byte) Texts {
	return func(at string) ([]byte, bool) {
		if at == file {
			return text, true
		}
		if b, ok := s.texts[at]; ok {
			return b, true
		}
		if s.Under != nil {
			return s.Under(at)
		}
		return nil, false
	}
}

// Commands lists what the script runs, as edited so far.
func (s *Script) Commands() ([]Command, error) {
	return s.as(s.with("", nil))
}

func (s *Script) as(texts Texts) ([]Command, error) {
	if s.Name == "" {
		return Lines(s.Install, s.Label, s.Lines, s.Dir, s.Env, texts), nil
	}
	return ReadWith(s.Install, s.Name, s.Args, s.Env, texts)
}

// text is a file as edited so far.
func (s *Script) text(at string) ([]byte, error) {
	if s.Name == "" && at == s.Label {
		if b, ok := s.with("", nil)(at); ok {
			return b, nil
		}
		return UnitText(s.Lines), nil
	}
	return source{install: s.Install, texts: s.with("", nil)}.text(at)
}

// candidate is one way to change a script's text.
type candidate struct {
	region
	text string
}

// change is one change that a command is to get: what it is to be like afterwards, and the
// ways to write that. The first that reads back as it is meant is taken.
type change struct {
	why  string
	want func(Command) Command
	ways []candidate
}

// Grant has the script's commands have what is wished: each change in the place where the
// script has what it changes, be it a word, a variable's value or an argument file, and added
// where it has none. All else stays byte for byte. A change is made only where the script,
// read anew, then runs the same commands as before but for it. lacking tells what could not
// be had so.
func (s *Script) Grant(w Wish) (edits []Edit, lacking []string, err error) {
	commands, err := s.Commands()
	if err != nil {
		return nil, nil, err
	}
	if w.Of == nil && w.ofTheServer() && !slices.ContainsFunc(commands, Command.Serves) {
		return nil, []string{cmp.Or(s.Name, s.Label) + ": it is not known which line of it starts the server"}, nil
	}
	for i := range commands {
		if !commands[i].Serves() || (w.Of != nil && !w.Of(commands[i])) {
			continue
		}
		for _, step := range w.steps() {
			if unknown := commands[i].Unknown; len(unknown) > 0 && !s.Unread && step(s, commands[i]) != nil {
				lacking = append(lacking, fmt.Sprintf("%s:%d: what it runs depends on %s, which can't be known before it runs",
					commands[i].File, commands[i].Line, strings.Join(unknown, " and ")))
				break
			}
			for range mostChanges {
				c := commands[i]
				ch := step(s, c)
				if ch == nil {
					break
				}
				e, ok := s.try(i, *ch)
				if !ok {
					lacking = append(lacking, fmt.Sprintf("%s:%d: %s", c.File, c.Line, ch.why))
					break
				}
				edits = append(edits, e)
				if commands, err = s.Commands(); err != nil {
					return nil, nil, err
				}
			}
		}
	}
	return edits, lacking, nil
}

// mostChanges bounds how often one wish changes one command.
const mostChanges = 20

// Serves tells whether a command is the server, and no look at a version.
func (c Command) Serves() bool {
	if !c.Java() {
		return c.Path != "" || c.Script != ""
	}
	if c.Jar != "" || len(c.Unknown) > 0 { // whatever its name is
		return true
	}
	line, err := c.JavaLine(func(string) ([]byte, error) { return nil, nil })
	return err == nil && line.Runs()
}

// steps are a wish's changes, one after the other: each is asked anew, as the script is then.
func (w Wish) steps() (out []func(*Script, Command) *change) {
	if w.Most != "" {
		out = append(out, func(s *Script, c Command) *change { return c.heap(s, mostFlags, w.Most) })
		if w.First == "" {
			out = append(out, func(s *Script, c Command) *change { return c.firstBelow(s, w.Most) })
		}
	}
	if w.First != "" {
		out = append(out, func(s *Script, c Command) *change { return c.heap(s, firstFlags, w.First) })
	}
	for _, f := range w.Flags {
		out = append(out, func(s *Script, c Command) *change { return c.flag(s, f) })
	}
	for _, f := range slices.Backward(w.With) { // each is put before the others: so they stand in their order
		out = append(out, func(s *Script, c Command) *change { return c.argument(f) })
	}
	for _, f := range w.Without {
		out = append(out, func(s *Script, c Command) *change { return c.taken(s, f) })
	}
	if w.Folder != "" {
		out = append(out, func(s *Script, c Command) *change { return c.folder(s, w.Folder) })
	}
	if w.NoBackground {
		out = append(out, func(s *Script, c Command) *change { return c.foreground(s) })
	}
	if w.NoWait {
		out = append(out, func(s *Script, c Command) *change { return c.noWait(s) })
	}
	return out
}

// try makes a change in the first of its ways that reads back right.
func (s *Script) try(i int, ch change) (Edit, bool) {
	before, err := s.Commands()
	if err != nil {
		return Edit{}, false
	}
	for _, way := range ch.ways {
		text, err := s.text(way.file)
		if err != nil || way.Start < 0 || way.End > len(text) || way.Start > way.End {
			continue
		}
		edited := placed.Apply(text, []placed.Edit{{Span: way.Span, Text: way.text}})
		after, err := s.as(s.with(way.file, edited))
		if err != nil || len(after) != len(before) || !alike(after[i], ch.want(before[i])) {
			continue
		}
		same := true
		for j := range before {
			// What stands at one place of a file runs for each command that reads it.
			same = same && (alike(after[j], before[j]) || alike(after[j], ch.want(before[j])))
		}
		if !same {
			continue
		}
		if s.texts == nil {
			s.texts = map[string][]byte{}
		}
		s.texts[way.file] = edited
		line := placed.LineOf(text, way.Start)
		e := Edit{File: way.file, Line: line, Old: linesOf(text, way.Start, way.End), Why: ch.why}
		if way.text != "" || way.Start != placed.LineStart(text, way.Start) || way.End != placed.LineEnd(text, way.Start) { // else the line is gone
			e.New = linesOf(edited, way.Start, way.Start+len(way.text))
		}
		return e, true
	}
	return Edit{}, false
}

// alike tells whether two commands run the same in the same way.
func alike(a, b Command) bool {
	return a.Program == b.Program && a.Dir == b.Dir && a.Background == b.Background && a.Jar == b.Jar &&
		a.Script == b.Script && slices.Equal(a.Args, b.Args) && slices.Equal(a.Flags, b.Flags) &&
		a.Given == b.Given && a.Screen == b.Screen && (a.Loop == nil) == (b.Loop == nil) &&
		(a.Waits == nil) == (b.Waits == nil) && (a.Stays == nil) == (b.Stays == nil)
}

// linesOf are the lines of a text that a part of it stands on.
func linesOf(text []byte, start, end int) string {
	from := bytes.LastIndexByte(text[:start], '\n') + 1
	to := len(text)
	if end > start && text[end-1] == '\n' {
		end--
	}
	if i := bytes.IndexByte(text[end:], '\n'); i >= 0 {
		to = end + i
	}
	return strings.TrimSpace(string(text[from:to]))
}

// mostFlags and firstFlags are how runtimes are told their greatest heap, and the one that
// they begin with.
var (
	mostFlags  = []string{"-Xmx", "-XX:MaxHeapSize=", "--max-old-space-size="}
	firstFlags = []string{"-Xms", "-XX:InitialHeapSize="}
)

// parts are ways to say that one word becomes another: the whole words, then what is left
// when what they have in common is cut off, as far as a name, a number or an equals sign goes.
func parts(old, now string) (out [][2]string) {
	out = append(out, [2]string{old, now})
	stop := func(b byte) bool {
		return !(b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b == '.')
	}
	begin := 0
	for begin < min(len(old), len(now)) && old[begin] == now[begin] {
		begin++
	}
	end := 0
	for end < min(len(old), len(now))-begin && old[len(old)-1-end] == now[len(now)-1-end] {
		end++
	}
	add := func(b, e int) {
		if b < len(old)-e && b < len(now)-e {
			out = append(out, [2]string{old[b : len(old)-e], now[b : len(now)-e]})
		}
	}
	for _, form := range append(slices.Clone(mostFlags), firstFlags...) { // a size, behind its flag
		if strings.HasPrefix(old, form) && strings.HasPrefix(now, form) {
			add(len(form), 0)
			if old[len(old)-1] == now[len(now)-1] { // the unit stands in the word
				add(len(form), 1)
			}
		}
	}
	b, e := begin, end
	for b > 0 && !stop(old[b-1]) {
		b--
	}
	for e > 0 && !stop(old[len(old)-e]) {
		e--
	}
	add(b, e)
	if ext := path.Ext(old); ext == path.Ext(now) && len(ext) > 1 &&
		wordByte(ext[len(ext)-1]) { // the version, without the ending
		add(b, len(ext))
	}
	return out
}

// places are where what a command is made of may stand: its words, argument files, the values
// of variables.
func (c Command) places(s *Script) []region {
	out := []region{c.own}
	for _, a := range c.Args {
		if name, is := strings.CutPrefix(a, "@"); is && c.Java() && !strings.HasPrefix(name, "@") {
			at := c.At(s.Install, name)
			if b, err := s.text(at); err == nil && !path.IsAbs(at) {
				out = append(out, partOf(at, 0, len(b)))
			}
		}
	}
	return append(out, c.from...)
}

// tokens are the places in a region where a word stands by itself, the last one first.
func (s *Script) tokens(r region, old, now string) (out []candidate) {
	text, err := s.text(r.file)
	if err != nil || r.End > len(text) || old == "" {
		return nil
	}
	part := text[r.Start:r.End]
	edge := func(at int) bool {
		if at < 0 || at >= len(part) {
			return true
		}
		b := part[at]
		return !(b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b == '_' || b == '-' || b == '.')
	}
	for at := 0; ; {
		i := bytes.Index(part[at:], []byte(old))
		if i < 0 {
			break
		}
		i += at
		at = i + 1
		isDefault := i > 1 && part[i-1] == '-' && part[i-2] == ':' // of ${NAME:-4G}
		if (isDefault || edge(i-1) || !wordByte(old[0])) && (edge(i+len(old)) || !wordByte(old[len(old)-1])) {
			out = append(out, candidate{partOf(r.file, r.Start+i, r.Start+i+len(old)), now})
		}
	}
	slices.Reverse(out)
	return out
}

func wordByte(b byte) bool {
	return b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z'
}

// plain are words that need no quotes in any script.
var plain = regexp.MustCompile(`^[A-Za-z0-9_@+:./-][A-Za-z0-9_@+=:./-]*$`)

func (c Command) quote(word string) (string, error) {
	if plain.MatchString(word) {
		return word, nil
	}
	if c.batch {
		return batchQuote(word)
	}
	return syntax.Quote(word, syntax.LangPOSIX)
}

// withBlank is a region with the blanks before it, or behind it where none are before.
func (s *Script) withBlank(r region) region {
	text, err := s.text(r.file)
	if err != nil || r.End > len(text) {
		return r
	}
	blank := func(at int) bool { return at >= 0 && at < len(text) && (text[at] == ' ' || text[at] == '\t') }
	if blank(r.Start - 1) {
		for blank(r.Start - 1) {
			r.Start--
		}
		return r
	}
	for blank(r.End) {
		r.End++
	}
	return r
}

// lineStart is where the line begins on which a place of a file stands, and the blanks that
// it begins with.
func (s *Script) lineStart(r region) (at int, indent, newline string) {
	text, err := s.text(r.file)
	if err != nil || r.Start > len(text) {
		return -1, "", "\n"
	}
	at = placed.LineStart(text, r.Start)
	n := len(text[at:]) - len(bytes.TrimLeft(text[at:], " \t"))
	newline = "\n"
	if bytes.Contains(text, []byte("\r\n")) {
		newline = "\r\n"
	}
	return at, string(text[at : at+n]), newline
}

// Artifact has commands run another file in the place of one: the build calls it otherwise now.
func (s *Script) Artifact(old, now string) (edits []Edit, lacking []string, err error) {
	commands, err := s.Commands()
	if err != nil {
		return nil, nil, err
	}
	for i := range commands {
		c := commands[i]
		names := func(a string) bool { return c.At(s.Install, a) == old }
		k := slices.IndexFunc(c.Args, names)
		program := c.Path != "" && c.At(s.Install, c.Path) == old
		if k < 0 && !program {
			continue
		}
		ch := change{why: fmt.Sprintf("the build calls %s %s", path.Base(old), path.Base(now))}
		written := c.Program
		if !program {
			written = c.Args[k]
		}
		other := written[:len(written)-len(path.Base(old))] + path.Base(now)
		if !strings.HasSuffix(written, path.Base(old)) || path.Dir(old) != path.Dir(now) {
			lacking = append(lacking, fmt.Sprintf("%s:%d: %s", c.File, c.Line, ch.why))
			continue
		}
		ch.want = func(c Command) Command {
			if program {
				c.Program = strings.ReplaceAll(c.Program, written, other)
				return c
			}
			c.Args = replaced(c.Args, written, other)
			if c.Jar == old {
				c.Jar = now
			}
			if c.Script == old {
				c.Script = now
			}
			return c
		}
		for _, pair := range append(parts(written, other), parts(path.Base(old), path.Base(now))...) {
			for _, r := range c.places(s) {
				ch.ways = append(ch.ways, s.tokens(r, pair[0], pair[1])...)
			}
		}
		if program {
			ch.ways = append(ch.ways, s.tokens(partOf(c.own.file, c.start, c.end), path.Base(old), path.Base(now))...)
		}
		if e, ok := s.try(i, ch); ok {
			edits = append(edits, e)
		} else {
			lacking = append(lacking, fmt.Sprintf("%s:%d: %s", c.File, c.Line, ch.why))
		}
		if commands, err = s.Commands(); err != nil {
			return nil, nil, err
		}
	}
	return edits, lacking, nil
}

// Program has the i-th command run another program.
func (s *Script) Program(i int, program, why string) (e Edit, ok bool, err error) {
	commands, err := s.Commands()
	if err != nil || i >= len(commands) {
		return e, false, err
	}
	c := commands[i]
	text, err := s.text(c.File)
	if err != nil {
		return e, false, err
	}
	edited, err := c.WithProgram(text, program)
	if err != nil {
		return e, false, nil
	}
	if s.texts == nil {
		s.texts = map[string][]byte{}
	}
	s.texts[c.File] = edited
	return Edit{File: c.File, Line: c.Line, Old: linesOf(text, c.start, c.end),
		New: linesOf(edited, c.start, c.start), Why: why}, true, nil
}
