// Package launch reads launch scripts: which program would really run, from
// which line, with which jar. It runs nothing. A shell script is read by its
// syntax tree, with the assignments, cd and export that come before; what it
// would only know by running (a command's output, a read) stays unknown.
package launch

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/placed"
	"freshkeel/internal/tree"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"
)

// Command is one program that a script starts.
type Command struct {
	File       string   // script, relative to the install
	Line       int      // counted from 1
	Text       string   // the line as it stands there
	Program    string   // as written, variables filled in
	Path       string   // the file that would run; "" when there is none
	Args       []string // variables filled in
	Dir        string   // the folder it would run in
	Jar        string   // of -jar, relative to the install where it lies in it; "" when none
	Script     string   // what an interpreter, or a program that runs programs, is given: as Jar
	Background bool     // a trailing &
	Given      bool     // to a shell, which runs it whatever its mode
	Libraries  []string // folders where its loader looks for libraries first (LD_LIBRARY_PATH)
	Screen     string   // the terminal multiplexer that runs it; "": none
	Loop       *Place   // the endless loop that starts it again
	Waits      *Place   // where the script waits for a key before it
	Stays      *Place   // where the script waits for a key once it has ended
	By         *Command // what ran File by its name; nil: nothing did, or a shell that was given it

	// what can't be known before it runs and what it is given depends on: "$(date +%F)", say; none: all is known
	Unknown []string
	Written []string // Args, with those that depend on it as they stand in the script; nil: all is known

	Flags []string // of a Java runtime: what it is told before what it runs, out of variables and argument files too
	After int      // of a Java runtime: how many of Args come before the server's own

	outside    int      // how many of Flags come out of variables
	start, end int      // where in the file the word stands that names the program; 0, 0: it is no word of its own
	batch      bool     // the file is a batch script
	own        region   // the command itself
	words      []region // where each of Args stands; none, where it is no word of its own
	ends       region   // the & behind it
	from       []region // where what it is made of may stand: values of variables, the last one first
}

// Place is a line of a script.
type Place struct {
	File string
	Line int // counted from 1
	Text string
}

func (p Place) String() string { return fmt.Sprintf("%s:%d: %s", p.File, p.Line, p.Text) }

// WithProgram returns the script's text with the one word changed that names
// the command's program; all else stays byte for byte.
func (c Command) WithProgram(text []byte, program string) ([]byte, error) {
	if c.end <= c.start || c.end > len(text) {
		return nil, fmt.Errorf("line %d of %s names its program in a way that is not edited", c.Line, c.File)
	}
	quoted, err := syntax.Quote(program, syntax.LangPOSIX)
	if c.batch {
		quoted, err = batchQuote(program)
	}
	if err != nil {
		return nil, err
	}
	out := append([]byte{}, text[:c.start]...)
	return append(append(out, quoted...), text[c.end:]...), nil
}

// Java tells whether the command is a Java runtime's.
func (c Command) Java() bool {
	base := strings.TrimSuffix(filepath.Base(strings.ReplaceAll(c.Program, `\`, "/")), ".exe")
	return base == "java" || base == "javaw"
}

// interpreter tells programs that run a file which they are given.
var interpreter = regexp.MustCompile(`^(node|nodejs|python[\d.]*|dotnet|perl|ruby|php|lua[\d.]*)$`)

// given is the file that the command's program is told to run, as written; ""
// where it is told none, or is no program that runs others.
func (c Command) given() string {
	first := ""
	for _, a := range c.Args {
		if a == "-m" || a == "-c" || a == "-e" { // code or a module, no file
			return ""
		}
		if !strings.HasPrefix(a, "-") {
			first = a
			break
		}
	}
	name := strings.TrimSuffix(filepath.Base(strings.ReplaceAll(c.Program, `\`, "/")), ".exe")
	if interpreter.MatchString(name) || strings.HasSuffix(strings.ToLower(first), ".exe") {
		return first
	}
	return ""
}

// maxScript bounds a script, in bytes. What launches a server may also be a program,
// which is read as far as that to see that it is one.
const maxScript = 64 << 20

// maxDepth bounds how far scripts that run scripts are followed.
const maxDepth = 4

// Texts gives the text of a file of the install as it will be, by its path; false for one
// that stays as it is.
type Texts func(at string) (text []byte, ok bool)

// Read lists what the script (relative to the install) runs: runtimes, and
// files of the install. env is the environment the server would get, in the
// form "NAME=value".
func Read(install, script string, env []string) ([]Command, error) {
	return ReadAs(install, script, env, nil)
}

// ReadAs is Read with the texts that some files will have.
func ReadAs(install, script string, env []string, texts Texts) ([]Command, error) {
	return ReadWith(install, script, nil, env, texts)
}

// ReadWith is ReadAs for a script that is given words.
func ReadWith(install, script string, args, env []string, texts Texts) ([]Command, error) {
	return source{install: install, texts: texts, args: args}.read(script, env)
}

// source is where scripts are read from.
type source struct {
	install string
	texts   Texts
	depth   int
	args    []string // that the script is given
	from    []region // of the scripts that led here: values of variables
}

// region is a part of a file of the install.
type region struct {
	file string
	placed.Span
}

func partOf(file string, start, end int) region {
	return region{file, placed.Span{Start: start, End: end}}
}

// text is what a file of the install says, or will say.
func (so source) text(at string) ([]byte, error) {
	if so.texts != nil {
		if b, ok := so.texts(at); ok {
			return b, nil
		}
	}
	full := filepath.FromSlash(at)
	if !filepath.IsAbs(full) {
		full = filepath.Join(so.install, full)
	}
	in, err := tree.OpenRegular(full)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return io.ReadAll(io.LimitReader(in, maxScript))
}

func (so source) read(script string, env []string) ([]Command, error) {
	b, err := so.text(script)
	if err != nil {
		return nil, err
	}
	if isBatch(script) {
		return readBatch(so, script, env, b), nil
	}
	if !LooksShell(script, b) {
		return nil, nil
	}
	plain := bytes.ReplaceAll(b, []byte("\r\n"), []byte("\n"))
	f, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(bytes.NewReader(plain), script)
	if err != nil {
		return nil, fmt.Errorf("read the launch script: %w", err)
	}
	s := &shell{source: so, script: script, dir: so.install, lines: strings.Split(string(b), "\n"),
		state: newState(so.args),
		funcs: map[string]*syntax.Stmt{}}
	if len(plain) < len(b) {
		s.returns = returns(b)
	}
	for _, kv := range env {
		if k, v, ok := strings.Cut(kv, "="); ok {
			s.vars[k] = v
		}
	}
	full := filepath.Join(so.install, filepath.FromSlash(script))
	s.vars["0"] = full
	s.vars["BASH_SOURCE"] = full
	s.vars["PWD"] = so.install
	s.stmts(f.Stmts)
	return s.found, nil
}

// isBatch tells whether a file is a Windows batch script, by its name.
func isBatch(name string) bool {
	ext := strings.ToLower(filepath.Ext(name))
	return ext == ".bat" || ext == ".cmd"
}

// returns lists where in a text's lines the carriage returns stood, counted as if they were
// not there.
func returns(b []byte) (out []int) {
	for i := 0; i+1 < len(b); i++ {
		if b[i] == '\r' && b[i+1] == '\n' {
			out = append(out, i-len(out))
		}
	}
	return out
}

// LooksShell tells whether a file is a shell script, by name or first line.
func LooksShell(name string, b []byte) bool {
	line, _, _ := bytes.Cut(b[:min(len(b), 200)], []byte("\n"))
	return strings.HasSuffix(name, ".sh") || regexp.MustCompile(`^#!.*\b(ba|da|z|k)?sh\b`).Match(line)
}

// shell walks a script's statements in order, with the variables that are known so far.
type shell struct {
	source
	state
	script, dir string
	funcs       map[string]*syntax.Stmt
	lines       []string
	found       []Command
	returns     []int // carriage returns of the text, which the parser does not get

	loop    *Place   // the endless loop around what is walked
	ends    region   // the & behind the command that is walked
	own     region   // that command's words
	written []string // likewise, as they stand there, where they depend on what is unknown
	dirs    []string // where pushd went from
	asked   int      // of a condition: what is read there is no wait for a key
	waits   *Place   // a wait for a key that no command came after yet
}

func (s *shell) lineAt(line int) *Place {
	p := &Place{File: s.script, Line: line}
	if line >= 1 && line <= len(s.lines) {
		p.Text = strings.TrimSpace(s.lines[line-1])
	}
	return p
}

func (s *shell) stmts(list []*syntax.Stmt) {
	for _, st := range list {
		if s.over || s.left {
			return
		}
		s.stmt(st)
	}
}

// stmt follows a statement, and tells whether it succeeds.
func (s *shell) stmt(st *syntax.Stmt) (is answer) {
	if st.Negated {
		defer func() { is = is.not() }()
	}
	switch c := st.Cmd.(type) {
	case *syntax.CallExpr:
		if s.waitsForKey(c, st) {
			s.wait(int(c.Pos().Line()))
			for _, a := range c.Args[1:] {
				s.hears(a.Lit())
			}
			return perhaps
		}
		s.ends = region{}
		if st.Background {
			s.ends = s.region(int(st.Semicolon.Offset()), int(st.Semicolon.Offset())+1)
		}
		return s.call(c, st.Background)
	case *syntax.DeclClause:
		for _, a := range c.Args {
			s.assign(a)
		}
		return yes
	case *syntax.BinaryCmd:
		return s.two(c)
	case *syntax.Block:
		for _, st := range c.Stmts {
			if s.over || s.left {
				break
			}
			is = s.stmt(st)
		}
		return is
	case *syntax.Subshell:
		dir, before := s.dir, s.state.copied()
		s.stmts(c.Stmts)
		s.dir, s.state = dir, before
	case *syntax.IfClause:
		var conditions []func() answer
		var ways []func()
		var otherwise func()
		for ; c != nil; c = c.Else {
			then, cond := c.Then, c.Cond
			if len(cond) == 0 {
				otherwise = func() { s.stmts(then) }
				break
			}
			conditions = append(conditions, func() answer { return s.holds(cond) })
			ways = append(ways, func() { s.stmts(then) })
		}
		s.decide(conditions, ways, otherwise)
	case *syntax.WhileClause:
		s.while(c)
	case *syntax.ForClause:
		l, counts := c.Loop.(*syntax.CStyleLoop)
		if words, is := c.Loop.(*syntax.WordIter); is {
			s.each(words)
		}
		s.body(c.Do, int(c.Pos().Line()), counts && l.Cond == nil)
	case *syntax.CaseClause:
		s.chosen(c)
	case *syntax.TestClause:
		return s.double(c.X)
	case *syntax.ArithmCmd:
		if n, err := expand.Arithm(s.config(), c.X); err == nil {
			return answerOf(n != 0)
		}
	case *syntax.FuncDecl:
		s.funcs[c.Name.Value] = c.Body
		return yes
	case *syntax.TimeClause:
		if c.Stmt != nil {
			return s.stmt(c.Stmt)
		}
	}
	return perhaps
}

// two follows commands that are joined: the second of "a && b" runs where the first succeeds.
func (s *shell) two(c *syntax.BinaryCmd) answer {
	if c.Op != syntax.AndStmt && c.Op != syntax.OrStmt {
		s.stmt(c.X)
		s.asked++
		s.stmt(c.Y)
		s.asked--
		return perhaps
	}
	var is answer
	if unknown := s.asking(func() { is = s.stmt(c.X) }); len(unknown) > 0 {
		is = perhaps
	}
	runs := is
	if c.Op == syntax.OrStmt {
		runs = is.not()
	}
	switch runs {
	case no:
		return is
	case yes:
		return s.stmt(c.Y)
	}
	before := s.state.copied()
	s.stmt(c.Y)
	s.either(s.state, before)
	return perhaps
}

// each sets the variable of a loop: one of several words is unknown.
func (s *shell) each(w *syntax.WordIter) {
	var fields []string
	unknown := s.asking(func() { fields, _ = expand.Fields(s.config(), w.Items...) })
	value := ""
	if len(fields) > 0 {
		value = fields[0]
	}
	if len(fields) > 1 {
		unknown = append(unknown, "$"+w.Name.Value)
	}
	s.put(w.Name.Value, value, unknown)
}

// chosen follows the way of a case that is known to be taken, or each.
func (s *shell) chosen(c *syntax.CaseClause) {
	word := ""
	unknown := s.asking(func() { word, _ = expand.Literal(s.config(), c.Word) })
	var conditions []func() answer
	var ways []func()
	for _, it := range c.Items {
		conditions = append(conditions, func() answer {
			if len(unknown) > 0 {
				return perhaps
			}
			for _, p := range it.Patterns {
				pat, err := expand.Pattern(s.config(), p)
				if err != nil {
					return perhaps
				}
				if is := matches(pat, word); is != no {
					return is
				}
			}
			return no
		})
		ways = append(ways, func() { s.stmts(it.Stmts) })
	}
	s.decide(conditions, ways, nil)
}

// while follows a loop. A server in its condition is started again by how it ended.
func (s *shell) while(c *syntax.WhileClause) {
	before, line := len(s.found), int(c.Pos().Line())
	s.holds(c.Cond)
	for i := before; i < len(s.found); i++ {
		s.found[i].Loop = s.lineAt(line)
	}
	s.body(c.Do, line, endless(c))
}

func (s *shell) body(list []*syntax.Stmt, line int, endless bool) {
	around := s.loop
	if endless {
		s.loop = s.lineAt(line)
	}
	s.stmts(list)
	if s.loop = around; !endless { // it may not be gone through at all
		s.over, s.left = false, false
	}
}

// endless tells whether a loop's condition always holds: "while true", "while :",
// "while [ 1 ]", "until false".
func endless(c *syntax.WhileClause) bool {
	if len(c.Cond) != 1 {
		return false
	}
	var b strings.Builder
	syntax.NewPrinter().Print(&b, c.Cond[0])
	always := []string{"true", ":", "[ 1 ]", "[[ 1 ]]", "((1))", "((1 == 1))", "[ 1 = 1 ]", "/bin/true"}
	if c.Until {
		always = []string{"false", "[ ]", "((0))", "/bin/false"}
	}
	return slices.Contains(always, b.String())
}

// waitsForKey tells whether a statement reads a line from the terminal, for as long as
// it takes: what scripts end with so that a window stays open.
func (s *shell) waitsForKey(c *syntax.CallExpr, st *syntax.Stmt) bool {
	if len(c.Args) == 0 || c.Args[0].Lit() != "read" || s.asked > 0 || len(st.Redirs) > 0 {
		return false
	}
	for _, a := range c.Args[1:] {
		if w := a.Lit(); strings.HasPrefix(w, "-") && strings.ContainsAny(w, "tu") { // a time, or another input
			return false
		}
	}
	return true
}

// hears notes that what a variable holds is told to the script as it runs.
func (s *shell) hears(name string) {
	if name != "" && !strings.HasPrefix(name, "-") {
		s.put(name, "", []string{"read " + name})
	}
}

// wait notes where the script waits for a key: after what it has run so far, or before
// what comes.
func (s *shell) wait(line int) {
	if n := len(s.found); n > 0 {
		s.found[n-1].Stays = s.lineAt(line)
		return
	}
	s.waits = s.lineAt(line)
}

// took notes of commands that were found how the script comes to them.
func (s *shell) took(cmds []Command, screen string) {
	for _, c := range cmds {
		if c.Screen == "" {
			c.Screen = screen
		}
		if c.Loop == nil {
			c.Loop = s.loop
		}
		if c.Waits == nil {
			c.Waits = s.waits
		}
		s.found = append(s.found, c)
	}
}

// inScreen takes apart a line that has a terminal multiplexer run a command in the
// background: which one, and the command. Others of its lines run nothing.
func inScreen(words []string) (screen string, rest []string) {
	name := filepath.Base(words[0])
	valued := ""
	switch {
	case name == "screen":
		valued, rest = "ScehstTp", words[1:]
	case name == "tmux":
		i := slices.IndexFunc(words, func(w string) bool {
			return w == "new-session" || w == "new" ||
				w == "new-window" || w == "neww"
		})
		if i < 0 {
			return "", nil
		}
		valued, rest = "sncxytFe", words[i+1:]
	default:
		return "", nil
	}
	for len(rest) > 0 && strings.HasPrefix(rest[0], "-") {
		flag := rest[0]
		if flag == "-X" || flag == "-r" || flag == "-ls" || flag == "-list" {
			return "", nil
		}
		rest = rest[1:]
		if strings.ContainsAny(flag[len(flag)-1:], valued) && len(rest) > 0 {
			rest = rest[1:]
		}
	}
	if len(rest) == 0 || slices.Contains(rest, "-X") {
		return "", nil
	}
	return name, rest
}

func (s *shell) assign(a *syntax.Assign) {
	if a.Name == nil || a.Naked {
		return
	}
	name := a.Name.Value
	if a.Array != nil {
		var list []string
		unknown := s.asking(func() {
			for _, e := range a.Array.Elems {
				if e.Value != nil {
					fields, _ := expand.Fields(s.config(), e.Value)
					list = append(list, fields...)
				}
			}
		})
		if a.Append {
			list = append(slices.Clone(s.arrays[name]), list...)
		}
		s.put(name, strings.Join(list[:min(1, len(list))], ""), unknown)
		s.arrays[name] = list
		s.from = append([]region{s.region(int(a.Array.Pos().Offset()), int(a.Array.End().Offset()))}, s.from...)
		return
	}
	v := ""
	var unknown []string
	if a.Value != nil {
		unknown = s.asking(func() { v, _ = expand.Literal(s.config(), a.Value) })
		s.from = append([]region{s.region(int(a.Value.Pos().Offset()), int(a.Value.End().Offset()))}, s.from...)
	}
	if a.Append {
		v = s.vars[name] + v
		if s.unknown[name] {
			unknown = append(unknown, "$"+name)
		}
	}
	s.put(name, v, unknown)
}

func (s *shell) config() *expand.Config {
	return &expand.Config{
		Env:       &s.state,
		CmdSubst:  s.substitute,
		ProcSubst: func(*syntax.ProcSubst) (string, error) { return os.DevNull, nil },
	} // "<(a command)": it is not run
}

// wrapper is a program that runs the rest of its line.
type wrapper struct {
	skip   int      // how many words of its own stand in front of the rest, besides flags
	valued []string // its flags whose value is the next word
}

var wrappers = map[string]wrapper{"exec": {0, []string{"-a"}}, "nohup": {}, "setsid": {}, "nice": {0, []string{"-n"}},
	"ionice": {0, []string{"-c", "-n"}}, "env": {0, []string{"-u", "-C"}}, "command": {}, "time": {0, []string{"-o", "-f"}},
	"taskset": {skip: 1}, "timeout": {1, []string{"-k", "-s"}}, "stdbuf": {0, []string{"-i", "-o", "-e"}}, "chrt": {skip: 1},
	"caffeinate": {0, []string{"-t", "-w"}}, "sudo": {0, []string{"-u", "-g", "-h", "-p", "-C", "-D", "-R", "-T", "-r", "-t", "--user", "--group"}},
	"doas": {0, []string{"-u", "-C"}}, "runuser": {0, []string{"-u", "-g", "-G"}}, "numactl": {0, []string{"-N", "-m", "-i", "-C", "-p"}}, "setpriv": {}, "unbuffer": {}}

func (s *shell) call(c *syntax.CallExpr, background bool) answer {
	if len(c.Args) == 0 {
		for _, a := range c.Assigns {
			s.assign(a)
		}
		return yes
	}
	if len(c.Assigns) > 0 { // these hold for this one command
		before := s.state.copied()
		defer func() { s.state = before }()
		for _, a := range c.Assigns {
			s.assign(a)
		}
	}
	var words, written []string
	var at []region
	failed := false
	unknown := s.asking(func() {
		for _, a := range c.Args {
			touched := len(s.touched)
			fields, err := expand.Fields(s.config(), a)
			if err != nil {
				failed = true
				return
			}
			where := s.region(int(a.Pos().Offset()), int(a.End().Offset()))
			if len(fields) != 1 {
				where = region{} // several words, or none, of one as written
			}
			as := fields
			if len(s.touched) > touched {
				as = make([]string, len(fields))
				if len(as) > 0 {
					as[0] = s.plainly(a) // the others stand there in the same word
				}
			}
			if written = append(written, as...); len(fields) == 0 && len(s.touched) > touched && len(written) > 0 {
				written[len(written)-1] += " " + s.plainly(a) // it may be no word at all
			}
			for _, f := range fields {
				words, at = append(words, f), append(at, where)
				if globbed.MatchString(f) && !quotedWord(a) {
					s.touch(f)
				}
			}
		}
	})
	if failed || len(words) == 0 {
		return perhaps
	}
	if is, done := s.builtin(words, unknown); done {
		return is
	}
	s.own = s.region(int(c.Args[0].Pos().Offset()), int(c.End().Offset()))
	if s.written = nil; len(unknown) > 0 {
		s.written = written
	}
	return s.words(words, at, int(c.Pos().Line()), background, unknown)
}

// plainly is a word as it stands in the script.
func (s *shell) plainly(w *syntax.Word) string {
	var b strings.Builder
	if err := syntax.NewPrinter().Print(&b, w); err != nil {
		return "?"
	}
	if text := b.String(); len(text) > 1 && text[0] == '"' && strings.IndexByte(text[1:], '"') == len(text)-2 {
		return text[1 : len(text)-1]
	}
	return b.String()
}

// globbed are words that a shell holds against the names of files.
var globbed = regexp.MustCompile(`[*?]|\[[^\]]+\]`)

// quotedWord tells whether quotes are around all of a word: its signs are no pattern then.
func quotedWord(w *syntax.Word) bool {
	return !slices.ContainsFunc(w.Parts, func(p syntax.WordPart) bool {
		switch p.(type) {
		case *syntax.SglQuoted, *syntax.DblQuoted:
			return false
		}
		return true
	})
}

// builtin follows what the shell does itself.
func (s *shell) builtin(words, unknown []string) (is answer, done bool) {
	known := func(a answer) answer {
		if len(unknown) > 0 {
			s.touched = append(s.touched, unknown...)
			return perhaps
		}
		return a
	}
	switch words[0] {
	case "true", ":":
		return yes, true
	case "false":
		return no, true
	case "[", "test":
		rest := words[1:]
		if n := len(rest); words[0] == "[" && n > 0 && rest[n-1] == "]" {
			rest = rest[:n-1]
		}
		return known(s.test(rest)), true
	case "command", "which", "type", "hash":
		if len(words) > 2 && words[0] == "command" && words[1] == "-v" || len(words) == 2 && words[0] != "command" {
			return known(answerOf(s.lookup(words[len(words)-1]) != "")), true
		}
	case "set":
		if i := slices.Index(words, "--"); i > 0 {
			s.state.args, s.given = slices.Clone(words[i+1:]), unknown
		}
		return yes, true
	case "shift":
		if len(s.state.args) > 0 {
			s.state.args = s.state.args[1:]
		}
		return yes, true
	case "read", "readarray", "mapfile": // from whoever sits there
		for _, name := range words[1:] {
			s.hears(name)
		}
		return perhaps, true
	case "unset":
		for _, name := range words[1:] {
			delete(s.vars, name)
			delete(s.arrays, name)
			delete(s.unknown, name)
		}
		return yes, true
	case "exit":
		s.over = true
		return yes, true
	case "return":
		s.left = true
		return perhaps, true
	case "eval":
		s.evaluated(strings.Join(words[1:], " "), unknown)
		return perhaps, true
	}
	if body, is := s.funcs[words[0]]; is && s.depth < maxDepth {
		args := s.state.args
		s.state.args, s.depth = words[1:], s.depth+1
		is := s.stmt(body)
		s.state.args, s.depth, s.left = args, s.depth-1, false
		return is, true
	}
	return perhaps, false
}

// evaluated follows a text that this shell reads as one of its own.
func (s *shell) evaluated(text string, unknown []string) {
	f, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), s.script)
	if err != nil || s.depth >= maxDepth {
		s.opaque = true
		return
	}
	in := *s
	in.depth, in.found = s.depth+1, nil
	in.stmts(f.Stmts)
	for i := range in.found { // no part of it is a word of the script
		c := &in.found[i]
		if c.File == s.script {
			c.start, c.end, c.own, c.ends, c.from = 0, 0, region{}, region{}, nil
			c.words = make([]region, len(c.Args))
		}
		c.Unknown = append(c.Unknown, unknown...)
	}
	s.state, s.dir = in.state, in.dir
	s.found = append(s.found, in.found...)
}

// region is a part of the script as it stands there, by offsets of the text without
// carriage returns.
func (s *shell) region(start, end int) region {
	more := func(at int) int {
		n, _ := slices.BinarySearch(s.returns, at)
		return at + n
	}
	return partOf(s.script, more(start), more(end))
}

// unwrapped are words without the programs in front that only run the rest, as nice does.
// Variables that they set count from here on.
func (s *shell) unwrapped(words []string) []string {
	for len(words) > 0 {
		w, ok := wrappers[words[0]]
		if !ok {
			break
		}
		skip := w.skip
		if words[0] == "taskset" && len(words) > 1 && (words[1] == "-c" || words[1] == "--cpu-list") {
			words, skip = append([]string{words[0]}, words[2:]...), 1 // its list is the word behind
		}
		words = words[1:]
		for len(words) > 0 && (strings.HasPrefix(words[0], "-") || strings.Contains(words[0], "=")) {
			if k, v, ok := strings.Cut(words[0], "="); ok && !strings.HasPrefix(k, "-") {
				s.put(k, v, nil)
			}
			last := words[0] == "--"
			if slices.Contains(w.valued, words[0]) && len(words) > 1 {
				words = words[1:]
			}
			if words = words[1:]; last {
				break
			}
		}
		words = words[min(skip, len(words)):]
	}
	return words
}

// unscreened are the words of the command that a terminal multiplexer is given: as words,
// as one line for its shell, or with a shell in front.
func unscreened(words []string) []string {
	if len(words) == 1 && strings.Contains(words[0], " ") {
		words = strings.Fields(strings.NewReplacer(`"`, "", `'`, "").Replace(words[0]))
	}
	if len(words) > 1 && (words[0] == "sh" || words[0] == "bash") && strings.HasPrefix(words[1], "-") {
		words = strings.Fields(strings.Join(words[2:], " "))
	}
	for len(words) > 0 && words[0] == "exec" {
		words = words[1:]
	}
	return words
}

// words follows a command's words, at holding where each stands.
func (s *shell) words(words []string, at []region, line int, background bool, unknown []string) answer {
	all := len(words)
	if base := filepath.Base(words[0]); base == "su" || base == "runuser" { // as another user
		if i := slices.Index(words, "-c"); i > 0 && i+1 < len(words) {
			s.spoken(words[i+1], line, background)
			return perhaps
		}
	}
	if words = s.unwrapped(words); len(words) == 0 {
		return perhaps
	}
	screen, inner := inScreen(words)
	if screen != "" {
		words, at = s.unwrapped(unscreened(inner)), nil
		if all = len(words); all == 0 {
			return perhaps
		}
	}
	if words[0] == "cd" || words[0] == "pushd" {
		return s.goes(words)
	}
	if words[0] == "popd" {
		if n := len(s.dirs); n > 0 {
			s.dir, s.dirs = s.dirs[n-1], s.dirs[:n-1]
		}
		return perhaps
	}
	if base := filepath.Base(words[0]); (base == "sh" || base == "bash" || base == "dash") && len(words) > 2 &&
		commandFlag.MatchString(words[1]) {
		s.spoken(words[2], line, background)
		return perhaps
	}
	if (words[0] == "." || words[0] == "source") && len(words) > 1 {
		if len(unknown) > 0 {
			s.opaque = true
			return perhaps
		}
		return s.sourced(words[1:])
	}
	given := false // to a shell, which runs it whatever its mode
	if base := filepath.Base(words[0]); (base == "sh" || base == "bash") &&
		len(words) > 1 && !strings.HasPrefix(words[1], "-") {
		words, given = append([]string{s.abs(words[1])}, words[2:]...), true
	}
	cmd := Command{File: s.script, Line: line, Program: words[0], Args: words[1:], Dir: s.dir, Background: background,
		Given: given, Path: s.lookup(words[0]), Unknown: unknown}
	for _, dir := range filepath.SplitList(s.vars["LD_LIBRARY_PATH"]) {
		cmd.Libraries = append(cmd.Libraries, s.abs(dir))
	}
	cmd.own, cmd.ends, cmd.from = s.own, s.ends, slices.Clone(s.from)
	cmd.words = make([]region, len(cmd.Args))
	if n := all - len(words); n < len(at) {
		cmd.start, cmd.end = at[n].Start, at[n].End
		if !given {
			copy(cmd.words, at[n+1:])
		}
	}
	if n := len(s.written) - len(cmd.Args); n > 0 && all == len(s.written) {
		cmd.Written = slices.DeleteFunc(slices.Clone(s.written[n:]), func(w string) bool { return w == "" })
	}
	if line >= 1 && line <= len(s.lines) {
		cmd.Text = strings.TrimSpace(s.lines[line-1])
	}
	s.comesTo(cmd, screen)
	return perhaps
}

// comesTo takes a command in: what it runs, or, of a script, what that runs.
func (s *shell) comesTo(cmd Command, screen string) {
	inside := cmd.Path != "" && tree.Inside(s.install, cmd.Path)
	for i, a := range cmd.Args {
		if a == "-jar" && i+1 < len(cmd.Args) {
			cmd.Jar = s.rel(s.abs(cmd.Args[i+1]))
			break
		}
	}
	if given := cmd.given(); given != "" {
		cmd.Script = s.rel(s.abs(given))
	}
	if inside && s.depth < maxDepth {
		in := s.source
		in.depth++
		in.args = cmd.Args
		if more, err := in.read(s.rel(cmd.Path), s.environ()); err == nil && len(more) > 0 {
			for i := range more {
				if more[i].By == nil && !cmd.Given {
					more[i].By = &cmd
				}
				for _, what := range cmd.Unknown {
					if !slices.Contains(more[i].Unknown, what) {
						more[i].Unknown = append(more[i].Unknown, what)
					}
				}
			}
			s.took(more, screen)
			return
		}
	}
	// A path that points into the install and finds nothing matters as much as
	// one that does: it is what the build has to bring.
	missing := cmd.Path == "" && len(cmd.Unknown) == 0 && strings.Contains(cmd.Program, "/") && tree.Inside(s.install, s.abs(cmd.Program))
	if cmd.Java() || cmd.Jar != "" || cmd.Script != "" || inside || missing {
		cmd.readFlags(s.source, s.vars["JAVA_TOOL_OPTIONS"], s.vars["JDK_JAVA_OPTIONS"])
		s.took([]Command{cmd}, screen)
	}
}

// goes follows a change of the folder. One outside of the install that is not there is none: the script goes on where it is.
func (s *shell) goes(words []string) answer {
	to := s.vars["HOME"]
	if len(words) > 1 {
		to = words[len(words)-1]
	}
	if to == "-" { // where it was before
		to = s.vars["OLDPWD"]
	}
	at := s.abs(to)
	fi, err := os.Stat(at)
	if (err != nil || !fi.IsDir()) && !tree.Inside(s.install, at) {
		return no
	}
	if words[0] == "pushd" {
		s.dirs = append(s.dirs, s.dir)
	}
	s.vars["OLDPWD"] = s.dir
	s.dir = at
	s.vars["PWD"] = at
	if err != nil {
		return perhaps // a build may bring it
	}
	return yes
}

// commandFlag has a shell run a text that it is given: -c, with other flags before it.
var commandFlag = regexp.MustCompile(`^-[a-z]*c$`)

// spoken follows a text that a shell is given as a word. What it runs is known; no part of it is
// a word of the script, so nothing in it is edited.
func (s *shell) spoken(text string, line int, background bool) {
	if s.depth >= maxDepth {
		return
	}
	f, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), s.script)
	if err != nil {
		return
	}
	in := &shell{source: s.source, script: s.script, dir: s.dir, state: s.state.copied(), funcs: map[string]*syntax.Stmt{}}
	in.depth++
	in.stmts(f.Stmts)
	for i := range in.found {
		c := &in.found[i]
		if c.File != s.script { // of another script that it runs, where all of it has its place
			continue
		}
		c.Line, c.Text, c.start, c.end, c.own, c.ends, c.from = line, s.lineAt(line).Text, 0, 0, region{}, region{}, nil
		c.words = make([]region, len(c.Args))
		c.Background = c.Background || background
	}
	s.took(in.found, "")
}

func (s *shell) environ() (out []string) {
	for k, v := range s.vars {
		out = append(out, k+"="+v)
	}
	return out
}

func (s *shell) abs(p string) string {
	if filepath.IsAbs(p) {
		return filepath.Clean(p)
	}
	return filepath.Join(s.dir, p)
}

func (s *shell) rel(p string) string {
	if r, err := filepath.Rel(s.install, p); err == nil && tree.Inside(s.install, p) {
		return filepath.ToSlash(r)
	}
	return p
}

// lookup finds the file that a command word runs, by the PATH known so far.
func (s *shell) lookup(word string) string {
	if strings.Contains(word, "/") {
		if runs(s.abs(word)) {
			return s.abs(word)
		}
		return ""
	}
	for _, dir := range filepath.SplitList(s.vars["PATH"]) {
		if p := filepath.Join(s.abs(dir), word); runs(p) {
			return p
		}
	}
	return ""
}

func runs(p string) bool {
	fi, err := os.Stat(p)
	return err == nil && fi.Mode().IsRegular()
}
