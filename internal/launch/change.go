package launch

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// runtimeArgs are what a command's runtime is told: of a Java runtime out of all places.
func (c Command) runtimeArgs() []string {
	if c.Java() {
		return c.Flags
	}
	if i := slices.Index(c.Args, c.given()); i >= 0 && c.given() != "" {
		return c.Args[:i]
	}
	return nil
}

// HeapFlags are the flags that say the heap which a command's runtime begins with, and its
// greatest: the last of each, which counts; "" for one that is not said.
func (c Command) HeapFlags() (first, most string) {
	for _, a := range c.runtimeArgs() {
		for _, f := range firstFlags {
			if strings.HasPrefix(a, f) {
				first = a
			}
		}
		for _, f := range mostFlags {
			if strings.HasPrefix(a, f) {
				most = a
			}
		}
	}
	return first, most
}

// Heap is what HeapFlags say, in bytes; 0 for one that is not said.
func (c Command) Heap() (first, most int64) {
	f, m := c.HeapFlags()
	return HeapBytes(f), HeapBytes(m)
}

// heap sets a heap: in the last flag that says it, which counts, or in a new one.
func (c Command) heap(s *Script, forms []string, size string) *change {
	if !c.Java() && forms[0] == firstFlags[0] {
		return nil // the heap that it begins with is a Java runtime's alone
	}
	form, now := "", ""
	for _, a := range c.runtimeArgs() {
		for _, f := range forms {
			if strings.HasPrefix(a, f) {
				form, now = f, a
			}
		}
	}
	wanted := HeapBytes("-Xmx" + size)
	if now != "" && HeapBytes(now) == wanted {
		return nil
	}
	node := c.given() != "" && !c.Java()
	if form == "" && node {
		form = "--max-old-space-size="
	} else if form == "" {
		form = forms[0]
	}
	set := form + size
	if form == "--max-old-space-size=" {
		set = fmt.Sprintf("%s%d", form, wanted>>20)
	}
	if !c.Java() && !(node && (strings.HasPrefix(path.Base(c.Program), "node") || now != "")) {
		return nil // it has no heap that is known here
	}
	if now == "" {
		return c.insert(set)
	}
	return c.exchange(s, now, set)
}

// firstBelow lowers the heap that a runtime begins with where it would be larger than the
// greatest: the runtime refuses that.
func (c Command) firstBelow(s *Script, most string) *change {
	if first, _ := c.Heap(); first <= HeapBytes("-Xmx"+most) {
		return nil
	}
	return c.heap(s, firstFlags, most)
}

// keyOf is what a flag sets: two with one key say something of the same thing.
func keyOf(flag string) string {
	for _, f := range append(slices.Clone(mostFlags), firstFlags...) {
		if strings.HasPrefix(flag, f) {
			return f
		}
	}
	if name, ok := strings.CutPrefix(flag, "-XX:"); ok {
		name, _, _ = strings.Cut(strings.TrimLeft(name, "+-"), "=")
		return "-XX:" + name
	}
	key, _, _ := strings.Cut(flag, "=")
	if i := strings.IndexByte(key, ':'); i > 0 && strings.HasPrefix(key, "-X") {
		key = key[:i]
	}
	return key
}

// flag has a runtime's flag be there.
func (c Command) flag(s *Script, flag string) *change {
	if slices.Contains(c.runtimeArgs(), flag) {
		return nil
	}
	for _, a := range slices.Backward(c.runtimeArgs()) {
		if keyOf(a) == keyOf(flag) {
			return c.exchange(s, a, flag)
		}
	}
	if !c.Java() && c.given() == "" {
		return nil
	}
	return c.insert(flag)
}

// replaced is a list in which the last of a word is another.
func replaced(list []string, old, now string) []string {
	out := slices.Clone(list)
	for i, a := range slices.Backward(out) {
		if a == old {
			out[i] = now
			break
		}
	}
	return out
}

// exchange puts one flag in the place of another: in the word itself, in the value of a
// variable that it is made of, or in an argument file.
func (c Command) exchange(s *Script, old, now string) *change {
	ch := &change{why: fmt.Sprintf("%s → %s", old, now), want: func(c Command) Command {
		c.Args, c.Flags = replaced(c.Args, old, now), replaced(c.Flags, old, now)
		return c
	}}
	places := c.places(s)
	for _, pair := range parts(old, now) {
		for _, r := range places {
			ch.ways = append(ch.ways, s.tokens(r, pair[0], pair[1])...)
		}
	}
	ch.ways = slices.DeleteFunc(ch.ways, s.besideVariable)
	var whole []candidate
	for i, a := range c.Args { // the whole word, however it came about
		if a == old && i < len(c.words) && c.words[i].End > 0 {
			if q, err := c.quote(now); err == nil {
				whole = append(whole, candidate{c.words[i], q})
			}
		}
	}
	if len(c.Unknown) > 0 { // a part of the word may be what is not known
		ch.ways = append(whole, ch.ways...)
	} else {
		ch.ways = append(ch.ways, whole...)
	}
	return ch
}

// besideVariable tells whether the value of a variable would stand right behind what is written: the two would be one word.
func (s *Script) besideVariable(way candidate) bool {
	text, err := s.text(way.file)
	return err == nil && way.End < len(text) && strings.IndexByte("$%!`", text[way.End]) >= 0
}

// insert adds a flag to a runtime's, right behind the word that names it.
func (c Command) insert(flag string) *change {
	ch := &change{why: "with " + flag, want: func(c Command) Command {
		c.Args = slices.Insert(slices.Clone(c.Args), 0, flag)
		if c.Java() { // those of variables come before all that the line has
			c.Flags = slices.Insert(slices.Clone(c.Flags), c.outside, flag)
		}
		return c
	}}
	q, err := c.quote(flag)
	if err == nil && c.end > c.start {
		ch.ways = append(ch.ways, candidate{partOf(c.own.file, c.end, c.end), " " + q})
	}
	return ch
}

// argument has an argument of the server be there: one word, or a name and its value.
func (c Command) argument(arg string) *change {
	words := strings.Fields(arg)
	first := c.After
	if !c.Java() {
		first = slices.Index(c.Args, c.given()) + 1
	}
	own := c.Args[min(first, len(c.Args)):]
	at := slices.IndexFunc(own, func(a string) bool {
		return a == words[0] || (len(words) == 1 && strings.Contains(arg, "=") && keyOf(a) == keyOf(arg))
	})
	if at >= 0 && len(words) == 1 && own[at] == arg {
		return nil
	}
	if at >= 0 && len(words) == 2 && at+1 < len(own) && own[at+1] == words[1] {
		return nil
	}
	ch := &change{why: "with " + arg}
	if c.Java() && first == 0 {
		return ch // where its own arguments begin is not known
	}
	switch i := first + at; {
	case at < 0:
		ch.want = func(c Command) Command {
			c.Args = slices.Insert(slices.Clone(c.Args), first, words...)
			return c
		}
		behind := c.end
		if first > 0 {
			behind = c.words[first-1].End
		}
		if behind > 0 {
			text := ""
			for _, w := range words {
				q, err := c.quote(w)
				if err != nil {
					return ch
				}
				text += " " + q
			}
			ch.ways = []candidate{{partOf(c.own.file, behind, behind), text}}
		}
	default:
		set := words[len(words)-1]
		if i += len(words) - 1; i >= len(c.Args) {
			return ch
		}
		ch.want = func(c Command) Command {
			c.Args = slices.Clone(c.Args)
			c.Args[i] = set
			return c
		}
		if q, err := c.quote(set); err == nil && c.words[i].End > 0 {
			ch.ways = []candidate{{c.words[i], q}}
		}
	}
	return ch
}

// taken has words go: each of them that stands there.
func (c Command) taken(s *Script, word string) *change {
	matches := func(a string) bool {
		stem, any := strings.CutSuffix(word, "*")
		return a == word || (any && strings.HasPrefix(a, stem))
	}
	for _, a := range slices.Concat(c.Flags, c.Args) {
		if !matches(a) {
			continue
		}
		ch := &change{why: "without " + a, want: func(c Command) Command {
			drop := func(list []string) []string {
				i := slices.Index(list, a)
				if i < 0 {
					return list
				}
				return slices.Delete(slices.Clone(list), i, i+1)
			}
			c.Args, c.Flags = drop(c.Args), drop(c.Flags)
			return c
		}}
		for _, r := range c.places(s) {
			for _, way := range s.tokens(r, a, "") {
				ch.ways = append(ch.ways, candidate{s.withBlank(way.region), ""}, way)
			}
		}
		for i, b := range c.Args {
			if b == a && c.words[i].End > 0 {
				ch.ways = append(ch.ways, candidate{s.withBlank(c.words[i]), ""})
			}
		}
		return ch // one at a time: the next is seen when the script is read anew
	}
	return nil
}

// folder has a command run in a folder of the install.
func (c Command) folder(s *Script, folder string) *change {
	want := path.Join(s.Install, folder)
	if path.Clean(c.Dir) == want {
		return nil
	}
	ch := &change{why: "in the folder " + folder, want: func(c Command) Command {
		c.Dir = want
		return c
	}}
	at, indent, nl := s.lineStart(c.own)
	slash := strings.ReplaceAll(c.Program, `\`, "/")
	if at < 0 || c.Path != "" && strings.Contains(slash, "/") && !path.IsAbs(slash) && !runs(path.Join(want, slash)) {
		return ch // from there it finds no program
	}
	here := partOf(c.own.file, at, at)
	below := ""
	if folder != "." {
		below = "/" + path.Clean(folder)
	}
	if c.batch {
		ch.ways = []candidate{{here, indent + `cd /d "%~dp0` + strings.ReplaceAll(strings.TrimPrefix(below, "/"), "/",
			`\`) + `"` + nl}}
		return ch
	}
	if q, err := syntax.Quote(below, syntax.LangPOSIX); err == nil || below == "" {
		if below == "" {
			q = ""
		}
		ch.ways = append(ch.ways, candidate{here, indent + `cd "$(dirname "$0")"` + q + " || exit 1" + nl})
	}
	if q, err := syntax.Quote(want, syntax.LangPOSIX); err == nil {
		ch.ways = append(ch.ways, candidate{here, indent + "cd " + q + " || exit 1" + nl})
	}
	return ch
}

// foreground has no & stand behind a command: the script then lasts as long as the server, and
// the server gets its console.
func (c Command) foreground(s *Script) *change {
	if !c.Background || c.batch {
		return nil
	}
	return &change{why: "without the & behind it", want: func(c Command) Command {
		c.Background = false
		return c
	}, ways: []candidate{{s.withBlank(c.ends), ""}, {c.ends, ";"}}}
}

// noWait has no key waited for behind a command.
func (c Command) noWait(s *Script) *change {
	if c.Stays == nil {
		return nil
	}
	text, err := s.text(c.Stays.File)
	if err != nil {
		return nil
	}
	at := 0
	for range c.Stays.Line - 1 {
		at += bytes.IndexByte(text[at:], '\n') + 1
	}
	end := len(text)
	if i := bytes.IndexByte(text[at:], '\n'); i >= 0 {
		end = at + i + 1
	}
	return &change{why: "without the wait for a key", want: func(c Command) Command {
		c.Stays = nil
		return c
	}, ways: []candidate{{partOf(c.Stays.File, at, end), ""}}}
}
