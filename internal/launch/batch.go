package launch

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/tree"
)

var (
	batchSet   = regexp.MustCompile(`(?i)^@?set\s+"?([A-Za-z_][\w()]*)=([^"]*)"?\s*$`)
	batchVar   = regexp.MustCompile(`%~dp0|%([A-Za-z_][\w()]*)%`)
	batchCd    = regexp.MustCompile(`(?i)^@?(?:cd|chdir|pushd)\s+(?:/d\s+)?"?([^"&|]+?)"?\s*$`)
	batchHead  = regexp.MustCompile(`(?i)^@?(?:start\s+(?:"[^"]*"\s+)?(?:/\w+(?:\s+\d+)?\s+)*|call\s+)?`)
	batchWord  = regexp.MustCompile(`^("[^"]*"|[^\s"]+)+`)
	batchGoto  = regexp.MustCompile(`(?i)^@?goto\s+:?([\w.-]+)\s*$`)
	batchLabel = regexp.MustCompile(`^:([\w.-]+)\s*$`)
	batchPause = regexp.MustCompile(`(?i)^@?pause\b`)
	batchSkip  = regexp.MustCompile(
		`(?i)^@?(?:rem\b|::|:|echo\b|if\b|for\b|goto\b|pause\b|title\b|exit\b|setlocal\b|endlocal\b|timeout\b|popd\b|\(|\))`,
	)
)

// batch walks the lines of a Windows batch script, with the variables that are known so far.
type batch struct {
	source
	script, dir string
	vars        map[string]string // names in upper case
}

// readBatch reads a batch script line by line: what it sets, where it goes, and
// the lines that run a runtime or a program of the install. Lines behind an if
// or a for are passed over: whether they run is not known.
func readBatch(so source, script string, env []string, text []byte) (out []Command) {
	b := &batch{source: so, script: script, dir: so.install, vars: map[string]string{}}
	for _, kv := range env {
		if k, v, ok := strings.Cut(kv, "="); ok {
			b.vars[strings.ToUpper(k)] = v
		}
	}
	at := 0
	labels := map[string]int{} // how many commands came before each
	var waits *Place
	for n, raw := range strings.SplitAfter(string(text), "\n") {
		begin := at
		at += len(raw)
		line := strings.TrimRight(raw, "\r\n")
		begin += len(line) - len(strings.TrimLeft(line, " \t"))
		line = strings.TrimSpace(line)
		if m := batchSet.FindStringSubmatch(line); m != nil {
			b.vars[strings.ToUpper(m[1])] = b.expand(m[2])
			value := begin + strings.Index(line, m[1]+"=") + len(m[1]) + 1
			b.from = append([]region{partOf(script, value, value+len(m[2]))}, b.from...)
			continue
		}
		if m := batchCd.FindStringSubmatch(line); m != nil {
			b.dir = b.abs(b.expand(m[1]))
			continue
		}
		if m := batchGoto.FindStringSubmatch(line); m != nil {
			if from, seen := labels[strings.ToLower(m[1])]; seen { // back: what came since is started again
				for i := range out[min(from, len(out)):] {
					out[from+i].Loop = &Place{script, n + 1, line}
				}
			}
			continue
		}
		if m := batchLabel.FindStringSubmatch(line); m != nil {
			labels[strings.ToLower(m[1])] = len(out)
			continue
		}
		if batchPause.MatchString(line) {
			here := &Place{script, n + 1, line}
			if len(out) > 0 {
				out[len(out)-1].Stays = here
			} else {
				waits = here
			}
			continue
		}
		if line == "" || batchSkip.MatchString(line) {
			continue
		}
		c, ok := b.command(line, begin)
		if !ok {
			continue
		}
		c.Line, c.Waits = n+1, waits
		ext := strings.ToLower(filepath.Ext(c.Program))
		inside := tree.Inside(b.install, b.abs(c.Program)) && (ext == ".exe" || ext == ".bat" || ext == ".cmd")
		if inside && ext != ".exe" && c.Path != "" && b.depth < maxDepth {
			in := b.source
			in.depth++
			if more, err := in.read(b.rel(c.Program), b.environ()); err == nil {
				out = append(out, more...)
			}
			continue
		}
		if c.Java() || c.Jar != "" || c.Script != "" || inside {
			c.readFlags(b.source, b.vars["JAVA_TOOL_OPTIONS"], b.vars["JDK_JAVA_OPTIONS"])
			out = append(out, c)
		}
	}
	return out
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
	if i := strings.IndexAny(line[head+len(word):], "&|<>"); i >= 0 {
		own.End = begin + head + len(word) + len(strings.TrimRight(line[head+len(word):][:i], " \t"))
	}
	rest := b.expand(line[head+len(word):])
	first, more, several := strings.Cut(program, " ")
	if several = several && !strings.HasPrefix(word, `"`); several { // of one variable
		program, rest = first, more+" "+rest
	}
	if i := strings.IndexAny(rest, "&|<>"); i >= 0 { // what comes after is another command, or where its output goes
		rest = rest[:i]
	}
	c = Command{File: b.script, Text: line, Program: program, Args: batchFields(rest), Dir: b.dir,
		Path: b.lookup(program), batch: true,
		start: begin + head, end: begin + head + len(word), own: own, from: slices.Clone(b.from)}
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

func (b *batch) expand(s string) string {
	return batchVar.ReplaceAllStringFunc(s, func(v string) string {
		if strings.EqualFold(v, "%~dp0") {
			return filepath.Dir(filepath.Join(b.install, filepath.FromSlash(b.script))) + string(filepath.Separator)
		}
		return b.vars[strings.ToUpper(strings.Trim(v, "%"))]
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
