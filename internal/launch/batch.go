package launch

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/tree"
)

var (
	batchSet   = regexp.MustCompile(`(?i)^set\s+(?:"([A-Za-z_][\w()]*)=(.*)"|([A-Za-z_][\w()]*)=(.*?))\s*$`)
	batchAsk   = regexp.MustCompile(`(?i)^set\s+/[pa]\s+"?([A-Za-z_]\w*)\s*[-+*/]?=`)
	batchVar   = regexp.MustCompile(`%~dp0|%\*|%~?[0-9]|%([A-Za-z_][\w()]*)(:[^%]*)?%|%%~?[a-zA-Z]+|![A-Za-z_][\w()]*(:[^!]*)?!`)
	batchCd    = regexp.MustCompile(`(?i)^(?:cd|chdir|pushd)\s+(?:/d\s+)?"?([^"&|]+?)"?\s*$`)
	batchHead  = regexp.MustCompile(`(?i)^@?(?:start\s+(?:"[^"]*"\s+)?(?:/\w+(?:\s+\d+)?\s+)*|call\s+)?(?:cmd(?:\.exe)?\s+/[ck]\s+)?`)
	batchWord  = regexp.MustCompile(`^("[^"]*"|[^\s"]+)+`)
	batchGoto  = regexp.MustCompile(`(?i)^goto\s+:?([\w.-]+)\s*$`)
	batchLabel = regexp.MustCompile(`^:([\w.-]+)\s*$`)
	batchBack  = regexp.MustCompile(`(?i)^popd\s*$`)
	batchCall  = regexp.MustCompile(`(?i)^call\s+:([\w.-]+)\s*(.*)$`)
	batchGiven = regexp.MustCompile(`(?i)^(?:start\s+(?:"[^"]*"\s+)?(?:/\w+\s+)*)?cmd(?:\.exe)?\s+/[ck]\s+"(\w+(?:\.exe)?\s[^"]+)"\s*$`)
	batchPause = regexp.MustCompile(`(?i)^pause\b`)
	batchExit  = regexp.MustCompile(`(?i)^exit\b`)
	batchIf    = regexp.MustCompile(`(?i)^if\s+((?:/i\s+)?(?:not\s+)?(?:exist\s+(?:"[^"]*"|\S+)|defined\s+\S+|errorlevel\s+\S+|(?:"[^"]*"|[^\s="]+)\s*(?:==|\s(?:equ|neq|lss|leq|gtr|geq)\s)\s*(?:"[^"]*"|\S+)))\s*(.*)$`)
	batchFor   = regexp.MustCompile(`(?i)^(for\s+.*?\bdo)\s*(.*)$`)
	batchElse  = regexp.MustCompile(`(?i)^\)\s*else\s*(.*)$`)
	batchSkip  = regexp.MustCompile(
		`(?i)^(?:rem\b|::|:|echo\b|title\b|setlocal\b|endlocal\b|timeout\b|popd\b|color\b|mode\b|chcp\b|cls\b|ping\b|\()`,
	)
)

// batch walks the lines of a Windows batch script, with the variables that are known so far.
type batch struct {
	source
	script, dir string
	vars        map[string]string // names in upper case
	many        bool              // its words are other ones from call to call
	unknown     map[string]bool   // of these not what they hold is known
	touched     []string          // what was met of those, and of the rest that can't be known
	blocks      []block           // the parentheses that are open
	labels      map[string]int    // how many commands came before each
	goal        string            // a label that is gone to: what comes before it does not run
	waits       *Place
	dirs        []string            // that pushd has left
	calls       map[string][]string // what each label is called with; nil: by several, with other words
	out         []Command
}

// block is what stands in parentheses, or behind a condition.
type block struct {
	runs answer
	why  string // the condition
}

// batchLine is one line of a script, or several that a sign at their ends joins.
type batchLine struct {
	text   string // without blanks around it
	begin  int    // where it stands
	n      int    // counted from 1
	joined bool   // of several: no place in it is known
	whole  string // all of the line, of which this is a part; "": this is
}

func batchLines(text []byte) (out []batchLine) {
	at := 0
	for n, raw := range strings.SplitAfter(string(text), "\n") {
		line := strings.TrimRight(raw, "\r\n")
		trimmed := strings.TrimSpace(line)
		l := batchLine{text: trimmed, begin: at + len(line) - len(strings.TrimLeft(line, " \t")), n: n + 1}
		if k := len(out) - 1; k >= 0 && strings.HasSuffix(out[k].text, "^") && !strings.HasSuffix(out[k].text, "^^") {
			out[k].text, out[k].joined = strings.TrimSuffix(out[k].text, "^")+trimmed, true
		} else {
			if rest, is := strings.CutPrefix(l.text, "@"); is {
				l.text, l.begin = strings.TrimSpace(rest), l.begin+1+len(rest)-len(strings.TrimLeft(rest, " \t"))
			}
			out = append(out, l)
		}
		at += len(raw)
	}
	return out
}

// readBatch reads a batch script line by line: what it sets, where it goes, and the lines that run a runtime or a program of
// the install. What depends on a condition that can't be decided here, on what is asked or made as it runs, is unknown.
func readBatch(so source, script string, env []string, text []byte) []Command {
	b := &batch{source: so, script: script, dir: so.install, vars: map[string]string{}, unknown: map[string]bool{},
		labels: map[string]int{}, calls: map[string][]string{}}
	for _, kv := range env {
		if k, v, ok := strings.Cut(kv, "="); ok {
			b.vars[strings.ToUpper(k)] = v
		}
	}
	lines := batchLines(text)
	for _, l := range lines {
		if m := batchLabel.FindStringSubmatch(l.text); m != nil {
			b.labels[strings.ToLower(m[1])] = -1 // it is there, and was not come to
		}
	}
	for _, l := range lines {
		b.line(l)
	}
	return b.out
}

// runs tells whether what stands here runs, and why that is not known.
func (b *batch) runs() (answer, []string) {
	all, why := yes, []string(nil)
	for _, k := range b.blocks {
		switch k.runs {
		case no:
			return no, nil
		case perhaps:
			all = perhaps
			why = append(why, k.why)
		}
	}
	return all, why
}

// line follows one line.
func (b *batch) line(l batchLine) {
	if m := batchLabel.FindStringSubmatch(l.text); m != nil {
		b.labels[strings.ToLower(m[1])] = len(b.out)
		if args, called := b.calls[strings.ToLower(m[1])]; called {
			b.args, b.many = args, args == nil
		}
		if b.goal == "" || strings.EqualFold(m[1], b.goal) || b.goal == anyLabel {
			b.goal = ""
		}
		return
	}
	if b.goal != "" || l.text == "" {
		return
	}
	for strings.HasPrefix(l.text, ")") {
		last := block{}
		if n := len(b.blocks) - 1; n >= 0 {
			last, b.blocks = b.blocks[n], b.blocks[:n]
		}
		m := batchElse.FindStringSubmatch(l.text)
		if m == nil {
			l = l.from(1)
			continue
		}
		l = l.from(len(l.text) - len(m[1]))
		b.under(block{last.runs.not(), "not: " + last.why}, l)
		return
	}
	b.statement(l)
}

// from is a line without its first bytes.
func (l batchLine) from(n int) batchLine {
	rest := l.text[n:]
	l.text = strings.TrimLeft(rest, " \t")
	l.begin += n + len(rest) - len(l.text)
	return l
}

// under follows what stands behind a condition: parentheses that open, or a statement.
func (b *batch) under(k block, l batchLine) {
	b.blocks = append(b.blocks, k)
	if l.text == "(" {
		return // up to where they close
	}
	open := len(b.blocks)
	if inner, is := strings.CutPrefix(l.text, "("); is { // on one line
		inner, rest, closed := strings.Cut(inner, ")")
		in := l.from(1)
		in.text = strings.TrimSpace(inner)
		b.statement(in)
		if !closed {
			return
		}
		b.blocks = b.blocks[:open-1]
		if rest = strings.TrimSpace(rest); strings.HasPrefix(strings.ToLower(rest), "else") {
			b.under(block{k.runs.not(), "not: " + k.why}, l.from(len(l.text)-len(rest)+len("else")))
		}
		return
	}
	b.statement(l)
	if len(b.blocks) == open { // what it opened is open still
		b.blocks = b.blocks[:open-1]
	}
}

// anyLabel is where a script goes on that ended: at the next label, which something may go to.
const anyLabel = ":"

// statement follows what a line says, where it runs.
func (b *batch) statement(l batchLine) {
	is, why := b.runs()
	if m := batchIf.FindStringSubmatch(l.text); m != nil {
		b.under(block{b.holds(m[1]), "if " + m[1]}, l.from(len(l.text)-len(m[2])))
		return
	}
	if m := batchFor.FindStringSubmatch(l.text); m != nil {
		b.under(block{perhaps, m[1]}, l.from(len(l.text)-len(m[2])))
		return
	}
	if strings.HasSuffix(l.text, "(") && (batchSkip.MatchString(l.text) || strings.HasPrefix(strings.ToLower(l.text), "if ")) {
		b.blocks = append(b.blocks, block{perhaps, strings.TrimSpace(strings.TrimSuffix(l.text, "("))})
		return
	}
	if is == no || l.text == "" {
		return
	}
	if rest := batchMore(l.text); rest > 0 {
		b.several(l, rest)
		return
	}
	if m := batchAsk.FindStringSubmatch(l.text); m != nil {
		b.unknown[strings.ToUpper(m[1])] = true
		return
	}
	if m := batchSet.FindStringSubmatch(l.text); m != nil {
		b.set(m, l, is)
		return
	}
	if inner, is := strings.CutPrefix(l.text, "("); is && strings.HasSuffix(inner, ")") {
		in := l.from(1)
		in.text = strings.TrimRight(strings.TrimSuffix(in.text, ")"), " \t")
		b.statement(in)
		return
	}
	if m := batchCall.FindStringSubmatch(l.text); m != nil {
		b.call(strings.ToLower(m[1]), batchFields(b.expand(m[2])))
		return
	}
	if batchBack.MatchString(l.text) {
		if n := len(b.dirs); n > 0 {
			b.dir, b.dirs = b.dirs[n-1], b.dirs[:n-1]
		}
		return
	}
	if m := batchCd.FindStringSubmatch(l.text); m != nil {
		if strings.EqualFold(l.text[:min(5, len(l.text))], "pushd") {
			b.dirs = append(b.dirs, b.dir)
		}
		b.dir = b.abs(b.expand(m[1]))
		return
	}
	if m := batchGoto.FindStringSubmatch(l.text); m != nil {
		b.goes(m[1], l, is)
		return
	}
	if batchExit.MatchString(l.text) {
		if is == yes {
			b.goal = anyLabel
		}
		return
	}
	if batchPause.MatchString(l.text[len(batchHead.FindString(l.text)):]) {
		here := &Place{b.script, l.n, l.text}
		if len(b.out) > 0 {
			b.out[len(b.out)-1].Stays = here
		} else {
			b.waits = here
		}
		return
	}
	if !batchSkip.MatchString(l.text) {
		b.run(l, why)
	}
}

// several follows commands that stand on one line; rest is where the sign behind the first of them stands.
func (b *batch) several(l batchLine, rest int) {
	first := l
	first.text, first.whole = strings.TrimRight(l.text[:rest], " \t"), cmp.Or(l.whole, l.text)
	b.statement(first)
	n := rest
	for n < len(l.text) && (l.text[n] == '&' || l.text[n] == '|') {
		n++
	}
	next := l.from(n)
	next.whole = first.whole
	if l.text[rest] == '|' { // where the first fails
		b.under(block{perhaps, "|| " + next.text}, next)
		return
	}
	b.statement(next)
}

// goes follows a goto: back, so that what came since is started again, or forth, past what does not run then.
func (b *batch) goes(label string, l batchLine, is answer) {
	from, there := b.labels[strings.ToLower(label)]
	switch {
	case is != yes: // a server that ended well goes on
	case there && from >= 0:
		for i := range b.out[min(from, len(b.out)):] {
			b.out[from+i].Loop = &Place{b.script, l.n, l.text}
		}
		b.goal = anyLabel
	case there:
		b.goal = label
	default: // the end of the file, or no label: it ends
		b.goal = anyLabel
	}
}

// call notes what a part of the script is called with.
func (b *batch) call(label string, args []string) {
	if before, is := b.calls[label]; is && !slices.Equal(before, args) {
		args = nil
	} else if args == nil {
		args = []string{}
	}
	b.calls[label] = args
}

// batchEnd is where the words of a command end: at a sign for another one, or for where its output goes; -1 for none.
func batchEnd(line string) int {
	quoted := false
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case c == '"':
			quoted = !quoted
		case c == '^' && !quoted:
			i++
		case !quoted && strings.IndexByte("&|<>", c) >= 0:
			return i
		}
	}
	return -1
}

// batchMore is where on a line a sign stands behind which another command comes, outside of quotes and parentheses; 0 for none.
func batchMore(line string) int {
	quoted, deep := false, 0
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '^':
			i++
		case c == '(':
			deep++
		case c == ')':
			deep--
		case deep > 0 || i == 0:
		case c == '&' && line[i-1] != '>':
			return i
		case c == '|' && i+1 < len(line) && line[i+1] == '|':
			return i
		}
	}
	return 0
}

// set follows an assignment.
func (b *batch) set(m []string, l batchLine, is answer) {
	name, value := m[1]+m[3], m[2]+m[4]
	key := strings.ToUpper(name)
	before := b.touched
	b.touched = nil
	now := b.expand(value)
	known := len(b.touched) == 0
	b.touched = before
	if old, had := b.vars[key]; is == perhaps && (!had || old != now) {
		known = false
	}
	b.vars[key] = now
	if b.unknown[key] = !known; !l.joined {
		at := l.begin + strings.Index(l.text, name+"=") + len(name) + 1
		b.from = append([]region{partOf(b.script, at, at+len(value))}, b.from...)
	}
}

// holds decides a condition, as far as it can be.
func (b *batch) holds(cond string) answer {
	fold := false
	not := func(a answer) answer { return a }
	for {
		lower := strings.ToLower(cond)
		if strings.HasPrefix(lower, "/i ") {
			cond, fold = strings.TrimSpace(cond[3:]), true
		} else if strings.HasPrefix(lower, "not ") {
			cond = strings.TrimSpace(cond[4:])
			not = answer.not
		} else {
			break
		}
	}
	before := b.touched
	b.touched = nil
	word, rest, _ := strings.Cut(cond, " ")
	rest = strings.TrimSpace(rest)
	is := perhaps
	switch strings.ToLower(word) {
	case "exist":
		if at := b.abs(b.expand(rest)); len(b.touched) == 0 && !strings.ContainsAny(rest, "*?") {
			_, err := os.Stat(at)
			is = answerOf(err == nil)
		}
	case "defined":
		if name := strings.ToUpper(rest); !b.unknown[name] && b.vars[name] != "" {
			is = yes
		}
	case "errorlevel":
	default:
		a, c, two := strings.Cut(cond, "==")
		if a, c = b.expand(strings.TrimSpace(a)), b.expand(strings.TrimSpace(c)); two && len(b.touched) == 0 {
			is = answerOf(a == c || fold && strings.EqualFold(a, c))
		}
	}
	b.touched = before
	return not(is)
}

// run follows a line that may run something.
func (b *batch) run(l batchLine, why []string) {
	b.touched = nil
	if m := batchGiven.FindStringSubmatch(l.text); m != nil { // a line that is given to another shell as a word
		l.whole, l.text, l.joined = cmp.Or(l.whole, l.text), m[1], true
	}
	c, ok := b.command(l.text, l.begin)
	if !ok {
		return
	}
	c.Text = cmp.Or(l.whole, c.Text)
	c.Line, c.Waits, c.Unknown = l.n, b.waits, append(slices.Clone(why), b.touched...)
	if len(c.Unknown) == 0 {
		c.Written = nil
	}
	if l.joined { // no word of it has a place that is known
		c.start, c.end, c.own, c.words = 0, 0, region{}, make([]region, len(c.Args))
	}
	ext := strings.ToLower(filepath.Ext(c.Program))
	inside := tree.Inside(b.install, b.abs(c.Program)) && (ext == ".exe" || ext == ".bat" || ext == ".cmd")
	if inside && ext != ".exe" && c.Path != "" && b.depth < maxDepth {
		in := b.source
		in.depth++
		in.args = c.Args
		if more, err := in.read(b.rel(c.Program), b.environ()); err == nil {
			for i := range more {
				more[i].Unknown = append(more[i].Unknown, c.Unknown...)
			}
			b.out = append(b.out, more...)
		}
		return
	}
	if c.Java() || c.Jar != "" || c.Script != "" || inside {
		c.readFlags(b.source, b.vars["JAVA_TOOL_OPTIONS"], b.vars["JDK_JAVA_OPTIONS"])
		b.out = append(b.out, c)
	}
}

// command reads a line that may run something; begin is where it begins in the script.
func (b *batch) command(line string, begin int) (c Command, ok bool) {
	head := len(batchHead.FindString(line))
	word := batchWord.FindString(line[head:])
	program := strings.ReplaceAll(b.expand(word), `"`, "")
	if program == "" {
		return c, false
	}
	own := partOf(b.script, begin+head, begin+len(line))
	if i := batchEnd(line[head+len(word):]); i >= 0 {
		own.End = begin + head + len(word) + len(strings.TrimRight(line[head+len(word):][:i], " \t"))
	}
	rest := b.expand(line[head+len(word):])
	first, more, several := strings.Cut(program, " ")
	if several = several && !strings.HasPrefix(word, `"`); several { // of one variable
		program, rest = first, more+" "+rest
	}
	if i := batchEnd(rest); i >= 0 { // what comes after is another command, or where its output goes
		rest = rest[:i]
	}
	c = Command{File: b.script, Text: line, Program: program, Args: batchFields(rest), Dir: b.dir,
		Path: b.lookup(program), batch: true,
		start: begin + head, end: begin + head + len(word), own: own, from: slices.Clone(b.from)}
	c.Written = batchFields(line[head+len(word):][:own.End-own.Start-len(word)])
	c.words = make([]region, len(c.Args))
	if at := batchWords(line[head+len(word):][:own.End-own.Start-len(word)], own.Start+len(word), b.script); !several &&
		len(at) == len(c.Args) { // else a variable is several words
		c.words = at
	}
	if several {
		c.start, c.end = 0, 0 // the word is not one of its own
	}
	for i, a := range c.Args {
		if strings.EqualFold(a, "-jar") && i+1 < len(c.Args) {
			c.Jar = b.rel(c.Args[i+1])
			break
		}
	}
	if given := c.given(); given != "" {
		c.Script = b.rel(given)
	}
	return c, true
}

// touch notes something that can't be known before the script runs.
func (b *batch) touch(what string) {
	if !slices.Contains(b.touched, what) {
		b.touched = append(b.touched, what)
	}
}

// expand fills variables in. One that is set nowhere here may be set on the machine that runs the script.
func (b *batch) expand(s string) string {
	return batchVar.ReplaceAllStringFunc(s, func(v string) string {
		switch {
		case strings.EqualFold(v, "%~dp0"):
			return filepath.Dir(filepath.Join(b.install, filepath.FromSlash(b.script))) + string(filepath.Separator)
		case v == "%*":
			return strings.Join(b.args, " ")
		case strings.HasPrefix(v, "%%"):
			b.touch(v)
			return ""
		case v[len(v)-1] >= '0' && v[len(v)-1] <= '9':
			if n := int(v[len(v)-1] - '0'); n > 0 && b.many {
				b.touch(v)
			} else if n > 0 && n <= len(b.args) {
				return b.args[n-1]
			} else if n == 0 {
				b.touch(v)
			}
			return ""
		}
		name := strings.ToUpper(strings.Trim(v, "%!"))
		value := b.vars[name] // one that is not set is empty: the server's environment is known
		switch {
		case strings.Contains(name, ":"): // a part of it, or one with something exchanged
			b.touch(v)
			return ""
		case b.unknown[name]:
			b.touch(v)
		}
		return value
	})
}

func (b *batch) environ() (out []string) {
	for k, v := range b.vars {
		out = append(out, k+"="+v)
	}
	return out
}

// abs is a path as it would be found from where the script stands.
func (b *batch) abs(p string) string {
	p = filepath.FromSlash(strings.ReplaceAll(strings.Trim(p, `"`), `\`, "/"))
	if filepath.IsAbs(p) {
		return filepath.Clean(p)
	}
	return filepath.Join(b.dir, p)
}

// rel is a path as the install knows it; one outside stays as it is written.
func (b *batch) rel(p string) string {
	full := b.abs(p)
	if len(p) > 1 && p[1] == ':' && !filepath.IsAbs(p) { // a drive, read on another system
		return p
	}
	if r, err := filepath.Rel(b.install, full); err == nil && tree.Inside(b.install, full) {
		return filepath.ToSlash(r)
	}
	return full
}

// lookup finds the file that a word runs: with the endings that Windows adds,
// here, then along PATH.
func (b *batch) lookup(word string) string {
	dirs := []string{b.dir}
	if strings.ContainsAny(word, `/\`) {
		dirs = []string{""}
	} else {
		for _, d := range strings.Split(b.vars["PATH"], ";") {
			dirs = append(dirs, b.abs(d))
		}
	}
	for _, d := range dirs {
		full := b.abs(word)
		if d != "" {
			full = filepath.Join(d, word)
		}
		for _, ext := range []string{"", ".exe", ".bat", ".cmd"} {
			if runs(full + ext) {
				return full + ext
			}
		}
	}
	return ""
}

// batchFields parts a line into words; double quotes hold one together. What is no UTF-8 stays:
// a batch script is in the code page of its machine.
func batchFields(s string) (out []string) {
	for _, at := range batchWords(s, 0, "") {
		out = append(out, strings.ReplaceAll(s[at.Start:at.End], `"`, ""))
	}
	return out
}

// batchWords tells where the words of a line stand; begin is where that does in the script.
func batchWords(s string, begin int, script string) (out []region) {
	quoted, from := false, -1
	for i := 0; i <= len(s); i++ {
		switch blank := i == len(s) || (!quoted && (s[i] == ' ' || s[i] == '\t')); {
		case blank && from >= 0:
			out = append(out, partOf(script, begin+from, begin+i))
			from = -1
		case blank:
		default:
			if from < 0 {
				from = i
			}
			quoted = quoted != (s[i] == '"')
		}
	}
	return out
}

// batchQuote writes a path as one word of a batch script.
func batchQuote(p string) (string, error) {
	if strings.ContainsAny(p, "\"\r\n") {
		return "", fmt.Errorf("%q can't stand in a batch script", p)
	}
	p = strings.ReplaceAll(p, "%", "%%")
	if strings.ContainsAny(p, " &()[]{}^=;!'+,`~") {
		return `"` + p + `"`, nil
	}
	return p, nil
}
