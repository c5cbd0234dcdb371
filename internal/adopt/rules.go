package adopt

import (
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/learn"
	"freshkeel/internal/logline"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// lookAtLog reads the install's last log for the lines that tell readiness and version. A
// log file is not the console: the rules name it, and are held against both.
func (l *lookout) lookAtLog() {
	name, lines, first := l.lastLog()
	if name == "" {
		return
	}
	at := func(r *learn.Rule) string {
		if first < 0 {
			return fmt.Sprintf("%s: %s", name, learn.Clip(r.From))
		}
		return fmt.Sprintf("%s:%d: %s", name, first+r.Line+1, learn.Clip(r.From))
	}
	lines = logline.Own(lines)
	lines = untilStop(lines)
	if r := learn.Version(lines, l.version, l.artifact, l.script); r != nil {
		l.said = [2]string{r.Pattern, at(r)}
		if l.version == "" {
			l.version, l.versionFrom, l.heard = r.Version, at(r), true
		}
	} else if other := learn.Version(lines, "", l.artifact, l.script); l.version != "" && other != nil && other.Sure != learn.Maybe {
		l.note("a line says version %s, and what is installed is %s (%s): it is not taken for the version's rule (%s)", other.Version,
			l.version, l.versionFrom, at(other))
	}
	if r := learn.Ready(learn.Start{Lines: beforePlay(lines)}); r != nil {
		l.ready = [2]string{r.Pattern, at(r)}
	}
	l.logged = learn.PortsIn(name, strings.Join(beforePlay(lines), "\n"), true)
	if l.said[0] != "" || l.ready[0] != "" {
		l.log = [2]string{learn.Undated(name), "the lines below were found in " + name}
	}
}

// stopping is how a server says that it ends: what comes after is no start's.
var stopping = regexp.MustCompile(`(?i)\b(shutting down|shut ?down|stopping|terminated? (by|with) signal|sig(term|int|quit)|` +
	`caught signal|trapped|received signal|good ?bye)\b`)

// untilStop are the lines of a log before the server was told to end.
func untilStop(lines []string) []string {
	for i, line := range lines {
		if stopping.MatchString(logline.Bare(line)) && i > 0 {
			return lines[:i]
		}
	}
	return lines
}

// bootLines is how far into a log a server says that it is ready: what comes later is of players.
const bootLines = 200

func beforePlay(lines []string) []string { return lines[:min(len(lines), bootLines)] }

// These parts of a long log are looked at: its beginning, where a server says who it is, and its
// end, where it was told to stop. In lines.
const logHead, logTail = 400, 100

// lastLog finds the newest log and returns the lines of the last run in it; first is the number
// of the first of them in the file, from 0, and -1 where that is not known.
func (l *lookout) lastLog() (name string, lines []string, first int) {
	var best tree.Entry
	for _, e := range l.list {
		if e.Kind == tree.File && learn.IsLog(e.Path) && e.Size > 0 && !strings.HasSuffix(e.Path, ".gz") &&
			e.Mtime > best.Mtime &&
			!otherName.MatchString(path.Base(e.Path)) {
			best = e
		}
	}
	if best.Path == "" {
		return "", nil, 0
	}
	f, err := tree.OpenRegular(l.full(best.Path))
	if err != nil {
		return "", nil, 0
	}
	defer f.Close()
	lines = linesFrom(f, 0)
	if best.Size > mostLog {
		return best.Path, lines[:min(len(lines), logHead)], 0
	}
	// Of several runs in one file the last counts: each begins with the same words.
	for i, line := range lines {
		if bare := logline.Bare(line); strings.TrimSpace(bare) != "" {
			re, err := regexp.Compile(learn.PatternOf(bare) + `$`)
			for j := len(lines) - 1; err == nil && j > i+2; j-- {
				if re.MatchString(lines[j]) {
					return best.Path, lines[j:], j
				}
			}
			break
		}
	}
	return best.Path, lines, 0
}

// mostLog is how much of each end of a log is read, in bytes.
const mostLog = 256 << 10

// linesFrom are a log's lines from an offset on. Colours are no part of a line's text.
func linesFrom(f io.ReaderAt, from int64) []string {
	b, _ := io.ReadAll(io.NewSectionReader(f, from, mostLog))
	return strings.Split(strings.TrimRight(words.Printable(strings.ReplaceAll(string(b), "\r\n", "\n")), "\n"), "\n")
}

// logEnd is the end of the newest log; first is the number of its first line in the file, from
// 0, and -1 where that is not known.
func (l *lookout) logEnd() (name string, lines []string, first int) {
	name, lines, first = l.lastLog()
	e, ok := l.files.Get(name)
	if !ok {
		return "", nil, 0
	}
	if e.Size > mostLog {
		f, err := tree.OpenRegular(l.full(name))
		if err != nil {
			return "", nil, 0
		}
		defer f.Close()
		lines, first = linesFrom(f, e.Size-mostLog), -1
	}
	n := max(0, len(lines)-logTail)
	if first >= 0 {
		first += n
	}
	return name, lines[n:], first
}

// ownEnd are the lines of a log's end that are the server's own: who joined stands before them, too.
func (l *lookout) ownEnd(end []string) []string {
	_, before, _ := l.lastLog()
	all := logline.Own(append(slices.Clone(before), end...))
	return all[len(before):]
}

// readmes are texts that may say how the server is stopped.
var readmes = regexp.MustCompile(
	`(?i)^(read-?me|help|manual|usage|commands?|howto|server|admin|hosting|notes)\b.*(\.(txt|md|rst|1))?$`,
)

// docsFolder is what folders of texts for the operator are called: help texts elsewhere are for players.
var docsFolder = regexp.MustCompile(`(?i)^(docs?|documentation|manual)$`)

// lookForStop finds the lines that may end the server, in what scripts, units, texts and logs
// of the install say.
func (l *lookout) lookForStop() {
	var all []learn.Word
	for _, e := range l.list {
		deep := strings.Count(e.Path, "/")
		base := path.Base(e.Path)
		switch {
		case e.Kind != tree.File || deep > 1:
		case isScript(e.Path) || path.Ext(e.Path) == "" && e.Path == l.script || strings.HasSuffix(base, ".service") ||
			deep == 0 && path.Ext(base) == "" && isText(tree.Head(l.full(e.Path))) || readmes.MatchString(base) && (deep == 0 || docsFolder.MatchString(path.Dir(e.Path))):
			all = append(all, learn.WordsIn(e.Path, l.text(e.Path, install.MaxScript))...)
		}
	}
	for _, u := range l.units() {
		all = append(all, learn.WordsIn(l.shown(u.file), u.stop)...)
	}
	if name, lines, first := l.logEnd(); name != "" {
		for _, w := range learn.WordsIn(name, strings.Join(l.ownEnd(lines), "\n")) {
			w.From = shifted(name, w.From, first)
			all = append(all, w)
		}
	}
	l.words = learn.Ranked(all)
	if len(l.words) > 0 && l.words[0].Plain {
		l.stop = [2]string{l.words[0].Line, l.words[0].From}
	}
	l.lookInOwnScript()
}

func isText(head []byte) bool {
	return len(head) > 0 && !slices.Contains(head, 0) && !isProgram(head)
}

// shifted counts a line's number on; -1 is for lines whose number is not known.
func shifted(name, from string, by int) string {
	n, rest := 0, ""
	if _, err := fmt.Sscanf(strings.TrimPrefix(from, name+":"), "%d", &n); err != nil {
		return from
	}
	_, rest, _ = strings.Cut(strings.TrimPrefix(from, name+":"), ":")
	if by < 0 {
		return name + ", near its end:" + rest
	}
	return fmt.Sprintf("%s:%d:%s", name, n+by, rest)
}

var echoed = regexp.MustCompile(`\becho\s+["']?([^"';]+?)["']?\s*(?:;|$|&&)`)

// A line that a script echoes may be no more than a name and a number.
var nameAndVersion = regexp.MustCompile(`^((?:[A-Za-z][\w-]* ){0,3})v?(\d+(?:\.\d+)+(?:-[\w.]+)?)$`)

// lookInOwnScript reads a script that is itself the server: the lines that it echoes are its
// log.
func (l *lookout) lookInOwnScript() {
	if l.artifact != l.script || l.script == "" {
		return
	}
	for i, line := range strings.Split(l.text(l.script, install.MaxScript), "\n") {
		at := fmt.Sprintf("%s:%d: %s", l.script, i+1, learn.Clip(strings.TrimSpace(line)))
		for _, m := range echoed.FindAllStringSubmatch(line, -1) {
			if v := nameAndVersion.FindStringSubmatchIndex(m[1]); v != nil && l.said[0] == "" {
				ver := m[1][v[4]:v[5]]
				l.said = [2]string{learn.VersionPattern(m[1], ver, v[4]), at}
				if l.version == "" {
					l.version, l.versionFrom, l.heard = ver, at, true
				}
				continue
			}
			if r := learn.Version([]string{m[1]}, ""); r != nil && l.said[0] == "" {
				l.said = [2]string{r.Pattern, at}
				if l.version == "" {
					l.version, l.versionFrom, l.heard = r.Version, at, true
				}
			} else if r := learn.Ready(learn.Start{Lines: []string{m[1]}}); r != nil && l.ready[0] == "" && !strings.Contains(m[1], "$") {
				l.ready = [2]string{r.Pattern, at}
			}
		}
	}
}

// lookForPorts finds the ports of the server: those that its script or its settings name, where they say of which kind,
// or a running server holds them. One that is only held, or that a log names, may be another one at the next start.
func (l *lookout) lookForPorts() {
	var pids []int
	for _, p := range l.outside {
		pids = append(pids, p.PID)
	}
	held := host.PortsOf(pids)
	for _, e := range l.list {
		if e.Kind == tree.File && !strings.Contains(e.Path, "/") &&
			(profile.SettingsByName(e.Path) || e.Path == l.script) {
			for _, p := range learn.PortsIn(e.Path, l.text(e.Path, 1<<20), false) {
				for _, said := range l.logged {
					if p.Net == "" && said.Number == p.Number && said.Net != "" {
						p.Net = said.Net
						p.From += "; " + said.From
					}
				}
				for _, h := range held { // which says of what kind it is
					if h.Number == p.Number && (p.Net == "" || p.Net == h.Net) {
						p.Net = h.Net
						p.From += fmt.Sprintf(", and process %d holds it", pids[0])
						break
					}
				}
				l.namePort(p)
			}
		}
	}
}

func (l *lookout) namePort(p learn.NamedPort) {
	port := profile.Port{Net: p.Net, Number: p.Number}
	if p.Net == "" || slices.Contains(l.ports, port) || len(l.ports) >= 4 {
		return
	}
	l.ports, l.portsFrom = append(l.ports, port), append(l.portsFrom, p.From)
}

// versionOfName is what the names of the artifact and of the folder say.
func (l *lookout) versionOfName() (v, from string) {
	for _, at := range []string{path.Base(l.artifact), path.Base(l.dir)} {
		if v := version.In(at); v != "" && !regexp.MustCompile(`^\d{4}-\d\d-\d\d$`).MatchString(v) {
			return v, "the name of " + at
		}
	}
	return "", ""
}
