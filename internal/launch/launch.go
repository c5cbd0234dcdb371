// Package launch reads launch scripts: which program would really run, from
// which line, with which jar. It runs nothing. A shell script is read by its
// syntax tree, with the assignments, cd and export that come before; what it
// would only know by running (a command's output, a read) stays unknown.
package launch

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

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
	return source{install: install, texts: texts}.read(script, env)
}

// source is where scripts are read from.
type source struct {
	install string
	texts   Texts
	depth   int
	from    []region // of the scripts that led here: values of variables
}

// region is a part of a file of the install, in bytes.
type region struct {
	file       string
	start, end int
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
	s := &shell{source: so, script: script, dir: so.install, vars: map[string]string{},
		lines: strings.Split(string(b), "\n")}
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
	script, dir string
	vars        map[string]string
	lines       []string
	found       []Command
	returns     []int // carriage returns of the text, which the parser does not get

	loop  *Place // the endless loop around what is walked
	ends  region // the & behind the command that is walked
	own   region // that command's words
	asked int    // of a condition: what is read there is no wait for a key
	waits *Place // a wait for a key that no command came after yet
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
		s.stmt(st)
	}
}

func (s *shell) stmt(st *syntax.Stmt) {
	switch c := st.Cmd.(type) {
	case *syntax.CallExpr:
		if s.waitsForKey(c, st) {
			s.wait(int(c.Pos().Line()))
			return
		}
		s.ends = region{}
		if st.Background {
			s.ends = s.region(int(st.Semicolon.Offset()), int(st.Semicolon.Offset())+1)
		}
		s.call(c, st.Background)
	case *syntax.DeclClause:
		for _, a := range c.Args {
			s.assign(a)
		}
	case *syntax.BinaryCmd:
		piped := c.Op == syntax.Pipe || c.Op == syntax.PipeAll
		s.stmt(c.X)
		if piped {
			s.asked++
		}
		s.stmt(c.Y)
		if piped {
			s.asked--
		}
	case *syntax.Block:
		s.stmts(c.Stmts)
	case *syntax.Subshell:
		dir := s.dir
		s.stmts(c.Stmts)
		s.dir = dir
	case *syntax.IfClause:
		for ; c != nil; c = c.Else {
			s.condition(c.Cond)
			s.stmts(c.Then)
		}
	case *syntax.WhileClause:
		s.condition(c.Cond)
		s.body(c.Do, int(c.Pos().Line()), endless(c))
	case *syntax.ForClause:
		l, counts := c.Loop.(*syntax.CStyleLoop)
		s.body(c.Do, int(c.Pos().Line()), counts && l.Cond == nil)
	case *syntax.CaseClause:
		for _, it := range c.Items {
			s.stmts(it.Stmts)
		}
	case *syntax.TimeClause:
		if c.Stmt != nil {
			s.stmt(c.Stmt)
		}
	}
}

func (s *shell) condition(list []*syntax.Stmt) {
	s.asked++
	s.stmts(list)
	s.asked--
}

func (s *shell) body(list []*syntax.Stmt, line int, endless bool) {
	around := s.loop
	if endless {
		s.loop = s.lineAt(line)
	}
	s.stmts(list)
	s.loop = around
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
	v := ""
	if a.Value != nil {
		v, _ = expand.Literal(s.config(), a.Value)
		s.from = append([]region{s.region(int(a.Value.Pos().Offset()), int(a.Value.End().Offset()))}, s.from...)
	}
	if a.Append {
		v = s.vars[a.Name.Value] + v
	}
	s.vars[a.Name.Value] = v
}

func (s *shell) config() *expand.Config {
	return &expand.Config{
		Env:       expand.FuncEnviron(func(name string) string { return s.vars[name] }),
		CmdSubst:  s.substitute,
		ProcSubst: func(*syntax.ProcSubst) (string, error) { return os.DevNull, nil },
	} // "<(a command)": it is not run
}

// substitute knows the few substitutions by which scripts find their own folder.
func (s *shell) substitute(w io.Writer, c *syntax.CmdSubst) error {
	var b strings.Builder
	for _, st := range c.Stmts {
		syntax.NewPrinter().Print(&b, st)
	}
	text := b.String()
	switch {
	case strings.Contains(text, "dirname"), strings.Contains(text, "pwd"):
		io.WriteString(w, s.dir)
	case strings.Contains(text, "readlink"), strings.Contains(text, "realpath"):
		io.WriteString(w, s.vars["0"])
	}
	return nil
}

// wrappers run the rest of their line; a value is how many words of theirs to
// pass over besides flags.
var wrappers = map[string]int{"exec": 0, "nohup": 0, "setsid": 0, "nice": 0, "ionice": 0, "env": 0, "command": 0,
	"time": 0, "taskset": 1}

// flagWithValue are wrappers' flags whose value is the next word.
var flagWithValue = map[string]bool{"-n": true, "-c": true, "-a": true}

func (s *shell) call(c *syntax.CallExpr, background bool) {
	if len(c.Args) == 0 {
		for _, a := range c.Assigns {
			s.assign(a)
		}
		return
	}
	saved := s.vars
	if len(c.Assigns) > 0 { // these hold for this one command
		s.vars = map[string]string{}
		for k, v := range saved {
			s.vars[k] = v
		}
		for _, a := range c.Assigns {
			s.assign(a)
		}
	}
	var words []string
	var at []region
	for _, a := range c.Args {
		fields, err := expand.Fields(s.config(), a)
		if err != nil {
			s.vars = saved
			return
		}
		where := s.region(int(a.Pos().Offset()), int(a.End().Offset()))
		if len(fields) != 1 {
			where = region{} // several words, or none, of one as written
		}
		for _, f := range fields {
			words, at = append(words, f), append(at, where)
		}
	}
	s.own = s.region(int(c.Args[0].Pos().Offset()), int(c.End().Offset()))
	s.words(words, at, int(c.Pos().Line()), background)
	s.vars = saved
}

// region is a part of the script as it stands there, by offsets of the text without
// carriage returns.
func (s *shell) region(start, end int) region {
	more := func(at int) int {
		n, _ := slices.BinarySearch(s.returns, at)
		return at + n
	}
	return region{s.script, more(start), more(end)}
}

// unwrapped are words without the programs in front that only run the rest, as nice does.
// Variables that they set count from here on.
func (s *shell) unwrapped(words []string) []string {
	for len(words) > 0 {
		skip, ok := wrappers[words[0]]
		if !ok {
			break
		}
		words = words[1:]
		for len(words) > 0 && (strings.HasPrefix(words[0], "-") || strings.Contains(words[0], "=")) {
			if k, v, ok := strings.Cut(words[0], "="); ok && !strings.HasPrefix(k, "-") {
				s.vars[k] = v
			}
			if flagWithValue[words[0]] && len(words) > 1 {
				words = words[1:]
			}
			words = words[1:]
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
	for len(words) > 0 && wrappers[words[0]] == 0 && words[0] == "exec" {
		words = words[1:]
	}
	return words
}

// words follows a command's words, at holding where each stands.
func (s *shell) words(words []string, at []region, line int, background bool) {
	all := len(words)
	if words = s.unwrapped(words); len(words) == 0 {
		return
	}
	screen, inner := inScreen(words)
	if screen != "" {
		words, at = unscreened(inner), nil
		if all = len(words); all == 0 {
			return
		}
	}
	if words[0] == "cd" && len(words) > 1 {
		s.dir = s.abs(words[len(words)-1])
		s.vars["PWD"] = s.dir
		return
	}
	if base := filepath.Base(words[0]); (base == "sh" || base == "bash" || base == "dash") && len(words) > 2 &&
		commandFlag.MatchString(words[1]) {
		s.spoken(words[2], line)
		return
	}
	given := false // to a shell, which runs it whatever its mode
	sourced := words[0] == "." || words[0] == "source"
	if base := filepath.Base(words[0]); (base == "sh" || base == "bash" || words[0] == "." || words[0] == "source") &&
		len(words) > 1 && !strings.HasPrefix(words[1], "-") {
		words, given = append([]string{s.abs(words[1])}, words[2:]...), true
	}
	cmd := Command{File: s.script, Line: line, Program: words[0], Args: words[1:], Dir: s.dir, Background: background,
		Given: given, Path: s.lookup(words[0])}
	for _, dir := range filepath.SplitList(s.vars["LD_LIBRARY_PATH"]) {
		cmd.Libraries = append(cmd.Libraries, s.abs(dir))
	}
	cmd.own, cmd.ends, cmd.from = s.own, s.ends, slices.Clone(s.from)
	cmd.words = make([]region, len(cmd.Args))
	if n := all - len(words); n < len(at) {
		cmd.start, cmd.end = at[n].start, at[n].end
		if !given {
			copy(cmd.words, at[n+1:])
		}
	}
	if line >= 1 && line <= len(s.lines) {
		cmd.Text = strings.TrimSpace(s.lines[line-1])
	}
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
		if more, err := in.read(s.rel(cmd.Path), s.environ()); err == nil && len(more) > 0 {
			for i := range more {
				if more[i].By == nil && !given {
					more[i].By = &cmd
				}
			}
			s.took(more, screen)
			return
		}
		if sourced {
			return // it sets variables, and runs nothing
		}
	}
	// A path that points into the install and finds nothing matters as much as
	// one that does: it is what the build has to bring.
	missing := cmd.Path == "" && strings.Contains(cmd.Program, "/") && tree.Inside(s.install, s.abs(cmd.Program))
	if cmd.Java() || cmd.Jar != "" || cmd.Script != "" || inside || missing {
		cmd.readFlags(s.source, s.vars["JAVA_TOOL_OPTIONS"], s.vars["JDK_JAVA_OPTIONS"])
		s.took([]Command{cmd}, screen)
	}
}

// commandFlag has a shell run a text that it is given: -c, with other flags before it.
var commandFlag = regexp.MustCompile(`^-[a-z]*c$`)

// spoken follows a text that a shell is given as a word. What it runs is known; no part of it is
// a word of the script, so nothing in it is edited.
func (s *shell) spoken(text string, line int) {
	if s.depth >= maxDepth {
		return
	}
	f, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), s.script)
	if err != nil {
		return
	}
	in := &shell{source: s.source, script: s.script, dir: s.dir, vars: maps.Clone(s.vars)}
	in.depth++
	in.stmts(f.Stmts)
	for i := range in.found {
		c := &in.found[i]
		if c.File != s.script { // of another script that it runs, where all of it has its place
			continue
		}
		c.Line, c.Text, c.start, c.end, c.own, c.ends, c.from = line, s.lineAt(line).Text, 0, 0, region{}, region{}, nil
		c.words = make([]region, len(c.Args))
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
