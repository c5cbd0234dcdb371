package launch

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"freshkeel/internal/tree"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/pattern"
	"mvdan.cc/sh/v3/syntax"
)

// This file says what of a script is known before it runs. A value that can't be known is unknown, and never empty: what it
// touches is unknown too. A variable that nobody set is known to be empty.

// state is what is known at a place of a script.
type state struct {
	vars    map[string]string
	arrays  map[string][]string
	unknown map[string]bool // variables whose values can't be known
	args    []string        // the positional parameters
	given   []string        // what they depend on that is unknown
	opaque  bool            // something was run here that may have set any variable
	over    bool            // the script has ended here
	left    bool            // the function, or the file that is read into this shell, has
	touched []string        // what was asked for and is unknown, since it was last looked at
}

// newState is that at the beginning of a script.
func newState(args []string) state {
	return state{vars: map[string]string{}, arrays: map[string][]string{}, unknown: map[string]bool{}, args: args}
}

// copied is a state that changes by itself.
func (s *state) copied() state {
	c := *s
	c.vars, c.arrays, c.unknown = maps.Clone(s.vars), maps.Clone(s.arrays), maps.Clone(s.unknown)
	c.args = slices.Clone(s.args)
	return c
}

// Get is a variable's value for an expansion.
func (s *state) Get(name string) expand.Variable {
	str := func(v string) expand.Variable { return expand.Variable{Set: true, Kind: expand.String, Str: v} }
	if n, err := strconv.Atoi(name); len(s.given) > 0 && (name == "@" || name == "*" || name == "#" || err == nil && n > 0) {
		for _, what := range s.given {
			s.touch(what)
		}
	}
	switch name {
	case "@", "*":
		return expand.Variable{Set: true, Kind: expand.Indexed, List: s.args}
	case "#":
		return str(strconv.Itoa(len(s.args)))
	case "$", "!", "?", "-", "RANDOM", "SECONDS", "LINENO":
		s.touch("$" + name)
		return str("")
	}
	if n, err := strconv.Atoi(name); err == nil && n > 0 {
		if n <= len(s.args) {
			return str(s.args[n-1])
		}
		return expand.Variable{}
	}
	if s.unknown[name] {
		s.touch("$" + name)
	}
	if list, is := s.arrays[name]; is {
		return expand.Variable{Set: true, Kind: expand.Indexed, List: list}
	}
	if v, is := s.vars[name]; is {
		return str(v)
	}
	if s.opaque {
		s.touch("$" + name)
	}
	return expand.Variable{}
}

// Set is what an expansion sets, as "${MEM:=2G}" does.
func (s *state) Set(name string, v expand.Variable) error {
	s.vars[name] = v.String()
	delete(s.unknown, name)
	return nil
}

// Each gives the variables.
func (s *state) Each(each func(string, expand.Variable) bool) {
	for name := range s.vars {
		if !each(name, s.Get(name)) {
			return
		}
	}
}

// touch notes that something unknown was asked for.
func (s *state) touch(what string) {
	if !slices.Contains(s.touched, what) {
		s.touched = append(s.touched, what)
	}
}

// asking gives what an expansion touched that is unknown, besides what was noted before.
func (s *state) asking(do func()) (unknown []string) {
	before := s.touched
	s.touched = nil
	do()
	unknown, s.touched = s.touched, before
	return unknown
}

// put sets a variable to what was read, unknown says what of it is not known.
func (s *state) put(name, value string, unknown []string) {
	s.vars[name] = value
	delete(s.arrays, name)
	if len(unknown) > 0 {
		s.unknown[name] = true
	} else {
		delete(s.unknown, name)
	}
}

// either has the variables that two ways left with different values be unknown; a is where it goes on.
func (s *state) either(a, b state) {
	if gone := a.over || a.left; gone != (b.over || b.left) { // one of the two goes no further
		touched, opaque := a.touched, a.opaque || b.opaque
		if *s = a; gone {
			*s = b
		}
		s.touched, s.opaque = touched, opaque
		return
	}
	*s = a
	for name := range b.vars {
		if _, is := a.vars[name]; !is {
			a.vars[name] = b.vars[name]
			a.unknown[name] = true
		}
	}
	for name, v := range a.vars {
		if other, is := b.vars[name]; !is || other != v || b.unknown[name] {
			a.unknown[name] = true
		}
	}
	for name, v := range a.arrays {
		if !slices.Equal(v, b.arrays[name]) {
			a.unknown[name] = true
		}
	}
	s.opaque = a.opaque || b.opaque
	if !slices.Equal(a.args, b.args) {
		s.opaque = true
	}
}

// answer is whether a command succeeds, as far as that is known.
type answer int

const (
	perhaps answer = iota
	yes
	no
)

func answerOf(is bool) answer {
	if is {
		return yes
	}
	return no
}

func (a answer) not() answer { return [...]answer{perhaps, no, yes}[a] }

// holds tells whether a condition holds; what it sets counts.
func (s *shell) holds(list []*syntax.Stmt) answer {
	out := perhaps
	s.asked++
	for _, st := range list {
		out = s.stmt(st)
	}
	s.asked--
	return out
}

// test is what "[ … ]" says.
func (s *shell) test(words []string) answer {
	switch {
	case len(words) == 0:
		return no
	case words[0] == "!":
		return s.test(words[1:]).not()
	case len(words) == 1:
		return answerOf(words[0] != "")
	case len(words) == 2:
		return s.unary(words[0], words[1])
	case len(words) == 3:
		return binary(words[1], words[0], words[2])
	}
	for i, w := range words {
		if w == "-a" || w == "-o" {
			a, b := s.test(words[:i]), s.test(words[i+1:])
			switch {
			case w == "-a" && (a == no || b == no):
				return no
			case w == "-o" && (a == yes || b == yes):
				return yes
			case a == perhaps || b == perhaps:
				return perhaps
			}
			return a
		}
	}
	return perhaps
}

func (s *shell) unary(sign, word string) answer {
	switch sign {
	case "-z":
		return answerOf(word == "")
	case "-n":
		return answerOf(word != "")
	case "-f", "-e", "-s", "-r", "-d", "-x", "-L", "-h":
		at := s.abs(word)
		fi, err := os.Stat(at)
		switch {
		case err != nil && tree.Inside(s.install, at): // a build may bring it
			return perhaps
		case err != nil:
			return no
		case sign == "-d":
			return answerOf(fi.IsDir())
		case sign == "-f":
			return answerOf(fi.Mode().IsRegular())
		case sign == "-s":
			return answerOf(fi.Size() > 0)
		case sign == "-x":
			return answerOf(fi.Mode()&0o111 != 0)
		case sign == "-L" || sign == "-h":
			return perhaps
		}
		return yes
	}
	return perhaps
}

func binary(sign, a, b string) answer {
	switch sign {
	case "=", "==":
		return answerOf(a == b)
	case "!=":
		return answerOf(a != b)
	}
	x, err := strconv.Atoi(strings.TrimSpace(a))
	y, err2 := strconv.Atoi(strings.TrimSpace(b))
	if err != nil || err2 != nil {
		return perhaps
	}
	switch sign {
	case "-eq":
		return answerOf(x == y)
	case "-ne":
		return answerOf(x != y)
	case "-lt":
		return answerOf(x < y)
	case "-le":
		return answerOf(x <= y)
	case "-gt":
		return answerOf(x > y)
	case "-ge":
		return answerOf(x >= y)
	}
	return perhaps
}

// double is what "[[ … ]]" says.
func (s *shell) double(e syntax.TestExpr) answer {
	word := func(e syntax.TestExpr) (string, bool) {
		w, is := e.(*syntax.Word)
		if !is {
			return "", false
		}
		v, err := expand.Literal(s.config(), w)
		return v, err == nil
	}
	switch e := e.(type) {
	case *syntax.Word:
		v, ok := word(e)
		if !ok {
			return perhaps
		}
		return answerOf(v != "")
	case *syntax.ParenTest:
		return s.double(e.X)
	case *syntax.UnaryTest:
		if e.Op == syntax.TsNot {
			return s.double(e.X).not()
		}
		if v, ok := word(e.X); ok {
			return s.unary(e.Op.String(), v)
		}
	case *syntax.BinaryTest:
		switch e.Op {
		case syntax.AndTest, syntax.OrTest:
			a, b := s.double(e.X), s.double(e.Y)
			decides := map[bool]answer{true: no, false: yes}[e.Op == syntax.AndTest]
			switch {
			case a == decides || b == decides:
				return decides
			case a == perhaps || b == perhaps:
				return perhaps
			}
			return a
		}
		a, ok := word(e.X)
		if !ok {
			return perhaps
		}
		if e.Op == syntax.TsMatch || e.Op == syntax.TsMatchShort || e.Op == syntax.TsNoMatch {
			w, _ := e.Y.(*syntax.Word)
			if w == nil {
				return perhaps
			}
			pat, err := expand.Pattern(s.config(), w)
			if err != nil {
				return perhaps
			}
			is := matches(pat, a)
			if e.Op == syntax.TsNoMatch {
				return is.not()
			}
			return is
		}
		if b, ok := word(e.Y); ok {
			return binary(e.Op.String(), a, b)
		}
	}
	return perhaps
}

// matches tells whether a pattern of the shell matches a word.
func matches(pat, word string) answer {
	m, err := pattern.Regexp(pat, pattern.EntireString)
	if err != nil {
		return perhaps
	}
	re, err := compiled(m)
	if err != nil {
		return perhaps
	}
	return answerOf(re.MatchString(word))
}

// decide follows the ways that a script may take from here: the one that is known, or each of them, of which what they set
// is unknown afterwards. The ways are in order; otherwise is the one of none.
func (s *shell) decide(conditions []func() answer, ways []func(), otherwise func()) {
	for i, holds := range conditions {
		var is answer
		if unknown := s.asking(func() { is = holds() }); len(unknown) > 0 {
			is = perhaps
		}
		switch is {
		case no:
			continue
		case yes:
			ways[i]()
			return
		}
		// From here on nothing is decided.
		var ends []state
		start := s.state.copied()
		for _, way := range ways[i:] {
			s.state = start.copied()
			way()
			ends = append(ends, s.state)
		}
		s.state = start.copied()
		if otherwise != nil {
			otherwise()
		}
		ends = append(ends, s.state)
		s.state = ends[0]
		for _, end := range ends[1:] {
			s.either(s.state, end)
		}
		return
	}
	if otherwise != nil {
		otherwise()
	}
}

// said is what a substitution writes, where that is known: the few by which scripts find folders, and texts.
func (s *shell) said(list []*syntax.Stmt) (out string, known bool) {
	saved, found, dir := s.state.copied(), s.found, s.dir
	defer func() {
		touched := s.touched
		s.state, s.found, s.dir = saved, found, dir
		s.touched = touched
	}()
	for _, st := range list {
		for {
			b, is := st.Cmd.(*syntax.BinaryCmd)
			if !is || b.Op != syntax.AndStmt {
				break
			}
			if _, ok := s.said([]*syntax.Stmt{b.X}); !ok {
				if s.stmt(b.X) == no {
					return "", true
				}
			} else {
				s.stmt(b.X)
			}
			st = b.Y
		}
		call, is := st.Cmd.(*syntax.CallExpr)
		if !is || len(call.Args) == 0 {
			return "", false
		}
		var words []string
		for _, a := range call.Args {
			fields, err := expand.Fields(s.config(), a)
			if err != nil {
				return "", false
			}
			words = append(words, fields...)
		}
		rest := slices.DeleteFunc(slices.Clone(words[1:]), func(w string) bool { return strings.HasPrefix(w, "-") })
		one := ""
		if len(rest) > 0 {
			one = rest[0]
		}
		switch words[0] {
		case "cd", "pushd":
			s.dir = s.abs(one)
			s.vars["PWD"] = s.dir
			out, known = "", true
		case "pwd":
			out, known = s.dir, true
		case "dirname":
			out, known = filepath.Dir(one), one != ""
		case "basename":
			out, known = filepath.Base(one), one != ""
			if len(rest) > 1 {
				out = strings.TrimSuffix(out, rest[1])
			}
		case "readlink", "realpath":
			out, known = s.abs(one), one != ""
			if real, err := filepath.EvalSymlinks(out); err == nil {
				out = real
			}
		case "echo":
			out, known = strings.Join(words[1:], " "), !slices.ContainsFunc(words[1:], func(w string) bool { return strings.HasPrefix(w, "-") })
		case "command", "which":
			out, known = s.lookup(one), true
		case "cat":
			b, err := s.source.text(s.rel(s.abs(one)))
			out, known = string(b), err == nil && len(rest) == 1
		default:
			return "", false
		}
	}
	return strings.TrimRight(out, "\n"), known
}

// substitute writes what a substitution says, and notes one of which that is not known.
func (s *shell) substitute(w io.Writer, c *syntax.CmdSubst) error {
	out, known := s.said(c.Stmts)
	if !known {
		var b bytes.Buffer
		for i, st := range c.Stmts {
			if i > 0 {
				b.WriteString("; ")
			}
			syntax.NewPrinter().Print(&b, st)
		}
		text := strings.Join(strings.Fields(b.String()), " ")
		s.touch(fmt.Sprintf("$(%s)", clipped(text)))
		return nil
	}
	_, err := io.WriteString(w, out)
	return err
}

func clipped(s string) string {
	if r := []rune(s); len(r) > 40 {
		return string(r[:39]) + "…"
	}
	return s
}

// sourced runs another file's text in this shell.
func (s *shell) sourced(words []string) answer {
	at := s.abs(words[0])
	b, err := s.source.text(s.rel(at))
	switch {
	case errors.Is(err, os.ErrNotExist):
		return no
	case err != nil || s.depth >= maxDepth:
		s.opaque = true
		return perhaps
	}
	plain := bytes.ReplaceAll(b, []byte("\r\n"), []byte("\n"))
	f, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(bytes.NewReader(plain), at)
	if err != nil {
		s.opaque = true
		return perhaps
	}
	in := *s
	in.script, in.lines, in.returns, in.found = s.rel(at), strings.Split(string(b), "\n"), nil, nil
	if len(plain) < len(b) {
		in.returns = returns(b)
	}
	in.depth++
	if len(words) > 1 {
		in.state.args = words[1:]
	}
	args := s.state.args
	in.stmts(f.Stmts)
	s.state, s.dir, s.from = in.state, in.dir, in.from
	s.state.args, s.left = args, false
	s.found = append(s.found, in.found...)
	return yes
}

// compiled is a pattern of a regular expression.
func compiled(expr string) (*regexp.Regexp, error) { return regexp.Compile(expr) }
