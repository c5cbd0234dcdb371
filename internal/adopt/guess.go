package adopt

import (
	"bytes"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"freshkeel/internal/feed"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// lookout looks at an install that nothing is known about, and says of each
// conclusion what led to it.
type lookout struct {
	a       Order
	k       *Adopter
	dir     string
	list    []tree.Entry
	files   tree.List
	content *inventory.Sums // of the installed files, each read once

	set   *locker.Set // the build it was made from
	known bool

	version, versionFrom string
	channel              string
	source               *feed.Proposal
	script               string
	others               []launch.Command
	artifact             string
	shipped              time.Time // when the shipped files were put there
	running              time.Time // since when a server of this install runs; zero: none does
	keep, settings, skip []found
	place                [][3]string // pattern, name, from
	stop, ready, said    [2]string   // value, from
	port                 [2]string

	guesses                   []Guess
	recorded, same            int // files
	changed, missing, foreign []string
}

type found struct{ pattern, from string }

func (l *lookout) look() error {
	for _, p := range host.Outside(l.dir, nil) {
		if l.running.IsZero() || p.Since.Before(l.running) {
			l.running = p.Since
		}
	}
	if err := l.lookForScripts(); err != nil {
		return err
	}
	l.lookForArtifact()
	l.lookForPlace()
	l.lookForOwnFiles()
	l.lookAtLog()
	if l.a.Version != "" {
		l.version, l.versionFrom = l.a.Version, "your word"
	}
	if l.version != "" {
		l.guess("version", l.version, l.versionFrom)
	}
	return nil
}

// lookForScripts chooses the launch script: of those that run something of the
// install, the one that runs a jar or program; named scripts at the top first.
func (l *lookout) lookForScripts() error {
	best := -1
	for _, e := range l.list {
		ext := strings.ToLower(path.Ext(e.Path))
		if e.Kind != tree.File || strings.Contains(e.Path, "/") || e.Size > 1<<20 {
			continue
		}
		isShell := ext == ".sh"
		if !isShell && ext == "" {
			isShell = launch.LooksShell(e.Path, tree.Head(filepath.Join(l.dir, e.Path)))
		}
		if !isShell && ext != ".bat" && ext != ".cmd" {
			continue
		}
		cmds, err := launch.Read(l.dir, e.Path, l.k.Env)
		if err != nil {
			continue
		}
		score := 1
		if isShell {
			score += 2
		}
		from := "it is a script at the top of the install"
		for _, c := range cmds {
			what := c.Jar
			if what == "" {
				what = tree.Rel(l.dir, c.Path)
			}
			if what == "" {
				continue
			}
			score += 4
			from = fmt.Sprintf("its line %d runs %s", c.Line, what)
			l.others = append(l.others, c)
			break
		}
		if e.Mode&0o111 != 0 {
			score++
		}
		if score > best {
			best = score
			l.script = e.Path
			l.guess("launch.script", e.Path, from)
		}
	}
	if l.script == "" {
		l.guess("launch.script", "", "no *.sh or *.bat stands at the top of the install")
	}
	return nil
}

// writtenNow tells whether the server that is running now has written to e.
func (l *lookout) writtenNow(e tree.Entry) bool {
	return !l.running.IsZero() && time.Unix(0, e.Mtime).After(l.running.Add(time.Second))
}

// guess records a conclusion; a later one for the same key replaces it.
func (l *lookout) guess(key, value, from string) {
	g := Guess{key, value, from}
	for i := range l.guesses {
		if l.guesses[i].Key == key {
			l.guesses[i] = g
			return
		}
	}
	l.guesses = append(l.guesses, g)
}

func (l *lookout) from(key string) string {
	for _, g := range l.guesses {
		if g.Key == key {
			return g.From
		}
	}
	return ""
}

func (l *lookout) lookForArtifact() {
	for _, c := range l.others {
		at := c.Jar
		if at == "" {
			at = tree.Rel(l.dir, c.Path)
		}
		if c.File == l.script && at != "" {
			l.artifact = at
			l.guess("artifact", at, fmt.Sprintf("%s:%d runs it", c.File, c.Line))
		}
	}
	if l.artifact == "" {
		var biggest tree.Entry
		for _, e := range l.list {
			full := filepath.Join(l.dir, filepath.FromSlash(e.Path))
			if e.Kind == tree.File && !strings.Contains(e.Path, "/") && e.Size > biggest.Size &&
				(strings.HasSuffix(e.Path, ".jar") || bytes.HasPrefix(tree.Head(full), []byte("\x7fELF"))) {
				biggest = e
			}
		}
		if l.artifact = biggest.Path; l.artifact != "" {
			l.guess("artifact", l.artifact, "it is the largest jar or program at the top")
		}
	}
	if l.artifact == "" {
		l.artifact = l.script
	}
	if e, ok := l.files.Get(l.artifact); ok {
		l.shipped = time.Unix(0, e.Mtime)
		if l.version == "" && strings.HasSuffix(e.Path, ".jar") {
			if f, err := tree.OpenRegular(filepath.Join(l.dir, filepath.FromSlash(e.Path))); err == nil {
				defer f.Close()
				if j, _ := needs.ReadJar(f, e.Size); j != nil && j.Version != "" {
					l.version, l.versionFrom = j.Version, "the manifest of "+e.Path
				}
			}
		}
	}
}

// ofBuild is the build's file of a path; nil where it has none, or is not known.
func (l *lookout) ofBuild(path string) *locker.File {
	if l.set == nil {
		return nil
	}
	return l.set.Find(path)
}

// lookForPlace finds build files that the install has under another name, by
// content; without the build, a version in the artifact's name tells that the
// name changes with each build.
func (l *lookout) lookForPlace() {
	if !l.known {
		return
	}
	here := map[int64][]tree.Entry{}
	for _, e := range l.list {
		if e.Kind == tree.File && l.ofBuild(e.Path) == nil {
			here[e.Size] = append(here[e.Size], e)
		}
	}
	for i := range l.set.Entries {
		b := &l.set.Entries[i]
		at := b.Path
		if _, same := l.files.Get(at); same || b.Kind != tree.File || b.Size == 0 {
			continue
		}
		for _, e := range here[b.Size] {
			if ok, err := l.content.SameAs(e, nil, b); err == nil && ok {
				l.place = append(l.place, [3]string{resolve.PatternFor(at), e.Path,
					fmt.Sprintf("%s of the build has the content of %s", at, e.Path)})
				break
			}
		}
	}
	if len(l.place) > 0 || l.artifact == "" {
		return
	}
	// The installed artifact may be of another build of the same kind of file.
	if l.ofBuild(l.artifact) == nil {
		if pat := plan.AlikeIn(l.set, l.artifact); pat != "" {
			l.place = append(l.place, [3]string{pat, l.artifact, "it is the build's only " + path.Ext(l.artifact) +
				" file, and the script runs " + l.artifact})
		}
	}
}

var (
	worldName    = regexp.MustCompile(`(?i)^(worlds?|saves?|saved|maps?|gardens|universe|data|database|db|players?|userdata|backups?)$`)
	listName     = regexp.MustCompile(`(?i)(members|admins?|operators?|stewards|bans?|banned|allow|deny|permissions|users|roles)[\w-]*\.(txt|json|ya?ml|csv)$`)
	settingsKind = regexp.MustCompile(`(?i)\.(conf|cfg|ini|toml|properties|ya?ml|json|xml)$`)
	dataKind     = regexp.MustCompile(`(?i)\.(db|sqlite3?|dat|sav|save|world)$`)
	skipName     = regexp.MustCompile(`(?i)^(logs?|cache|caches|tmp|temp|crash-?reports|dumps)$`)
)

// lookForOwnFiles sorts what is the operator's: what the build does not ship,
// by kind, by name, and by having been written after the shipped files.
func (l *lookout) lookForOwnFiles() {
	used := map[string]bool{}
	for _, c := range l.others {
		used[c.File], used[c.Jar] = true, true
	}
	for _, p := range l.place {
		used[p[1]] = true
	}
	l.lookAtScript()
	for _, e := range l.list {
		if strings.Contains(e.Path, "/") || e.Path == profile.FileName || used[e.Path] || e.Path == l.artifact ||
			e.Path == l.script {
			continue
		}
		if e.Kind == tree.Dir {
			l.sortFolder(e.Path, l.files.Below(e.Path))
			continue
		}
		if e.Kind != tree.File {
			continue
		}
		b := l.ofBuild(e.Path)
		newer := !l.shipped.IsZero() && time.Unix(0, e.Mtime).After(l.shipped.Add(time.Minute))
		from := ""
		switch {
		case l.writtenNow(e):
			from = "it was written while the server ran"
		case b != nil:
			if same, err := l.content.SameAs(e, nil, b); err == nil && same && !settingsKind.MatchString(e.Path) {
				continue
			}
			from = "the build ships it; settings are yours to change"
			if same, _ := l.content.SameAs(e, nil, b); !same {
				from = "it is not as the build ships it"
			}
		case l.known:
			from = "the build does not ship it"
		case newer:
			from = "it was written after " + l.artifact
		}
		switch {
		case strings.HasSuffix(e.Path, ".log"):
			l.skip = append(l.skip, found{e.Path, "a log"})
		case listName.MatchString(e.Path):
			l.keep = append(l.keep, found{e.Path, "a list, by its name" + and(from)})
		case dataKind.MatchString(e.Path):
			l.keep = append(l.keep, found{e.Path, "data, by its kind" + and(from)})
		case settingsKind.MatchString(e.Path):
			l.settings = append(l.settings, found{e.Path, "settings, by its kind" + and(from)})
		case strings.HasSuffix(e.Path, ".txt") && from != "" && b == nil:
			l.keep = append(l.keep, found{e.Path, from})
		}
	}
}

// lookAtScript tells whether the launch script is the operator's: one that
// runs something else holds memory flags and the like. One that is the server
// itself, or is as the build ships it, is the build's.
func (l *lookout) lookAtScript() {
	if l.script == "" || l.artifact == l.script {
		return
	}
	from := "the launch script: its flags are yours"
	if b := l.ofBuild(l.script); b != nil {
		if same, err := l.content.SameAs(l.files.At(l.script), nil, b); err == nil && same {
			return
		}
		from += "; it is not as the build ships it"
	}
	l.settings = append(l.settings, found{l.script, from})
}

// sortFolder decides about one folder at the top of the install.
func (l *lookout) sortFolder(dir string, below tree.List) {
	if skipName.MatchString(dir) {
		l.skip = append(l.skip, found{dir + "/**", "logs or cache, by its name"})
		return
	}
	ships, files, newer, settings, live := false, 0, 0, 0, 0
	for _, e := range below {
		if e.Kind != tree.File {
			continue
		}
		files++
		if l.ofBuild(e.Path) != nil {
			ships = true
		}
		if l.writtenNow(e) {
			live++
		}
		if !l.shipped.IsZero() && time.Unix(0, e.Mtime).After(l.shipped.Add(time.Minute)) {
			newer++
		}
		if settingsKind.MatchString(e.Path) {
			settings++
		}
	}
	switch {
	case files == 0 && !worldName.MatchString(dir):
	case worldName.MatchString(dir):
		from := "a world, by its name"
		if live > 0 {
			from += fmt.Sprintf("; %s in it written while the server ran", words.Plural(live, "file"))
		} else if newer > 0 {
			from += fmt.Sprintf("; %s in it written after %s", words.Plural(newer, "file"), l.artifact)
		}
		l.keep = append(l.keep, found{dir + "/**", from})
	case l.known && !ships && settings*2 > files:
		l.settings = append(l.settings, found{dir + "/**", "settings, by their kind; the build ships none of them"})
	case l.known && !ships:
		l.keep = append(l.keep, found{dir + "/**", "the build ships nothing of it"})
	case live > 0:
		l.keep = append(l.keep, found{dir + "/**",
			fmt.Sprintf("%s in it written while the server ran", words.Plural(live, "file"))})
	case l.known:
	case settings*2 > files && regexp.MustCompile(`(?i)conf|settings`).MatchString(dir):
		l.settings = append(l.settings, found{dir + "/**", "settings, by name and kind"})
	case newer*2 > files && newer > 0:
		l.keep = append(l.keep, found{dir + "/**",
			fmt.Sprintf("%d of its %s written after %s", newer, words.Plural(files, "file"), l.artifact)})
	}
}

func and(from string) string {
	if from == "" {
		return ""
	}
	return "; " + from
}

var (
	versionLine = regexp.MustCompile(`(?i)^(.*?\b(?:version|server|build|v)\b[^0-9\n]{0,24}?)v?(\d+(?:\.\d+)+(?:-[\w.]+)?)`)
	// A line that a script echoes may be no more than a name and a number.
	nameAndVersion = regexp.MustCompile(`^((?:[A-Za-z][\w-]* ){0,3})v?(\d+(?:\.\d+)+(?:-[\w.]+)?)$`)
	readyLine      = regexp.MustCompile(`(?i)\b(ready|done|open|opened|listening|started|online|accepting)\b`)
	portInLine     = regexp.MustCompile(`(?i)\b(udp|tcp)\b\D{0,12}(\d{2,5})`)
	stopWord       = regexp.MustCompile(`(?i)(?:^|[>\]:] ?|console: ?)(stop|quit|exit|close|shutdown|end)\s*$`)
)

// lookAtLog reads the install's last log for the lines that tell readiness,
// version and the end. Time stamps before a line are matched by anything.
func (l *lookout) lookAtLog() {
	name, lines, numbered := l.lastLog()
	for i, line := range lines {
		at := fmt.Sprintf("%s, near its end: %s", name, clip(line))
		if n := numbered(i); n > 0 {
			at = fmt.Sprintf("%s:%d: %s", name, n, clip(line))
		}
		bare := stripStamp(line)
		if m := versionLine.FindStringSubmatch(bare); m != nil && l.said[0] == "" {
			l.said = [2]string{loose(line, bare) + saying(bare, m), at}
			if l.version == "" {
				l.version, l.versionFrom = m[2], at
			}
		} else if readyLine.MatchString(bare) && l.ready[0] == "" {
			l.ready = [2]string{loose(line, bare) + generalize(bare), at}
		}
		if m := portInLine.FindStringSubmatch(bare); m != nil && l.port[0] == "" {
			l.port = [2]string{strings.ToLower(m[1]) + "/" + m[2], at}
		}
		if m := stopWord.FindStringSubmatch(bare); m != nil && l.stop[0] == "" {
			l.stop = [2]string{m[1], at}
		}
	}
	if l.stop[0] == "" {
		l.lookForStopInScript()
	}
}

var echoed = regexp.MustCompile(`\becho\s+["']?([^"';]+?)["']?\s*(?:;|$|&&)`)

var readLoop = regexp.MustCompile(`(?i)\b(quit|stop|exit|close|shutdown|end)\b\s*\)`)

// lookForStopInScript reads a script that is itself the server: the word that
// ends its reading loop.
func (l *lookout) lookForStopInScript() {
	b, err := tree.ReadUpTo(filepath.Join(l.dir, l.script), install.MaxScript)
	if l.script == "" || err != nil {
		return
	}
	quoted := regexp.MustCompile(`(?i)=\s*["']?(quit|stop|exit|close|shutdown|end)["']?\s*\]`)
	for i, line := range strings.Split(string(b), "\n") {
		for _, re := range []*regexp.Regexp{readLoop, quoted} {
			if m := re.FindStringSubmatch(line); m != nil && l.stop[0] == "" {
				l.stop = [2]string{m[1], fmt.Sprintf("%s:%d: %s", l.script, i+1, clip(strings.TrimSpace(line)))}
			}
		}
		if l.artifact != l.script {
			continue
		}
		// The lines that it echoes are its log.
		at := fmt.Sprintf("%s:%d: %s", l.script, i+1, clip(strings.TrimSpace(line)))
		for _, m := range echoed.FindAllStringSubmatch(line, -1) {
			v := versionLine.FindStringSubmatch(m[1])
			if v == nil {
				v = nameAndVersion.FindStringSubmatch(m[1])
			}
			if v != nil && l.said[0] == "" {
				l.said = [2]string{"^" + saying(m[1], v), at}
				if l.version == "" {
					l.version, l.versionFrom = v[2], at
				}
			} else if readyLine.MatchString(m[1]) && l.ready[0] == "" && !strings.Contains(m[1], "$") {
				l.ready = [2]string{"^" + generalize(m[1]), at}
			}
		}
	}
}

// saying makes the pattern of a line that says the version; m is the line's
// match of what leads to it and the version itself.
func saying(line string, m []string) string {
	v := ""
	if at := strings.Index(line, m[2]); at > 0 && (line[at-1] == 'v' || line[at-1] == 'V') &&
		!strings.HasSuffix(m[1], line[at-1:at]) {
		v = line[at-1:at] + "?"
	}
	return regexp.QuoteMeta(m[1]) + v + `(\S+)`
}

// These parts of a long log are looked at: its beginning, where a server says who it is, and its
// end, where it was told to stop. In lines.
const logHead, logTail = 400, 100

// lastLog finds the newest log and returns its first logHead lines and its last logTail;
// numbered tells which line of the file one is, 0 where that is not known.
func (l *lookout) lastLog() (name string, lines []string, numbered func(i int) int) {
	numbered = func(i int) int { return i + 1 }
	var best tree.Entry
	for _, e := range l.list {
		top, _, _ := strings.Cut(e.Path, "/")
		isLog := strings.HasSuffix(e.Path, ".log") || (skipName.MatchString(top) && strings.HasSuffix(e.Path, ".txt"))
		if e.Kind == tree.File && isLog && e.Size > 0 && e.Mtime > best.Mtime {
			best = e
		}
	}
	if best.Path == "" {
		return "", nil, numbered
	}
	f, err := tree.OpenRegular(filepath.Join(l.dir, filepath.FromSlash(best.Path)))
	if err != nil {
		return "", nil, numbered
	}
	defer f.Close()
	const most = 256 << 10 // of each end, in bytes
	read := func(from int64) []string {
		b, _ := io.ReadAll(io.NewSectionReader(f, from, most))
		// Colours are no part of a line's text.
		return strings.Split(words.Printable(strings.ReplaceAll(string(b), "\r\n", "\n")), "\n")
	}
	lines = read(0)
	if best.Size <= most && len(lines) <= logHead+logTail {
		return best.Path, lines, numbered
	}
	end, whole := lines, len(lines)
	if best.Size > most {
		end, whole = read(max(best.Size-most, int64(most))), 0
	}
	head, tail := lines[:min(len(lines), logHead)], end[max(0, len(end)-logTail):]
	return best.Path, slices.Concat(head, tail), func(i int) int {
		switch {
		case i < len(head):
			return i + 1
		case whole > 0:
			return whole - len(tail) + i - len(head) + 1
		}
		return 0
	}
}

var stamp = regexp.MustCompile(`^(\[[^\]]*\]\s*|\d{4}-\d\d-\d\d[T ]\S+\s+|\d\d:\d\d:\d\d\S*\s+|(?:INFO|WARN|DEBUG)\b:?\s*)+:?\s*`)

func stripStamp(line string) string { return stamp.ReplaceAllString(line, "") }

// loose is how a pattern begins: at the line's start, or anywhere behind a stamp.
func loose(line, bare string) string {
	if line == bare {
		return "^"
	}
	return ""
}

var number = regexp.MustCompile(`\d+(?:[.,]\d+)*`)

// generalize makes a pattern of a line: numbers may be others next time.
func generalize(line string) string {
	parts := number.Split(line, -1)
	for i := range parts {
		parts[i] = regexp.QuoteMeta(parts[i])
	}
	return strings.Join(parts, `[\d.,]+`)
}

func clip(s string) string {
	const n = 60
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

// profileText writes the profile: each guess with what it was guessed from.
func (l *lookout) profileText() string {
	var b strings.Builder
	w := func(format string, a ...any) { fmt.Fprintf(&b, format+"\n", a...) }
	name := l.a.Name
	if name == "" {
		name = filepath.Base(l.dir)
	}
	w("# What Fresh Keel knows about this server. Written by adopt; yours to correct.")
	w("# A comment behind «guessed from» says what led to the line below it.")
	w("")
	w("[server]")
	w("name = %s", words.Quote(name))
	l.listKey(&b, "keep", "Your own files: worlds, lists. No build replaces them, no rollback takes them back in time.",
		l.keep)
	l.listKey(&b, "settings", "Yours too, but tied to the build: a rollback by hand puts them back with it.",
		l.settings)
	l.listKey(&b, "skip", "Neither replaced nor backed up.", l.skip)
	w("")
	w("[source]")
	switch {
	case l.source != nil:
		w("# guessed from: %s (docs/sources.md tells of every kind)", l.source.From)
		for _, line := range l.source.Text(words.Quote) {
			w("%s", line)
		}
	case l.a.Source != "":
		w("# It could not be read, so this is a guess: docs/sources.md tells of every kind.")
		w("feed = %s", words.Quote(l.a.Source))
	default:
		w("# Where builds come from: docs/sources.md tells of every kind. Without it, use --from.")
		w("feed = ''")
	}
	w("channel = %s   # only builds of this channel; '' takes any", words.Quote(l.channel))
	w("")
	w("[place]   # file in the build = name that the install uses")
	for _, p := range l.place {
		w("# guessed from: %s", p[2])
		w("%s = %s", words.Quote(p[0]), words.Quote(p[1]))
		l.guess("place", p[0]+" = "+p[1], p[2])
	}
	w("")
	w("[launch]")
	w("# guessed from: %s", l.from("launch.script"))
	w("script = %s", words.Quote(l.script))
	if len(l.others) > 0 {
		var all []string
		for _, c := range l.others {
			if c.File != l.script {
				all = append(all, c.File)
			}
		}
		if len(all) > 0 {
			slices.Sort(all)
			w("# others that run something of the install: %s", strings.Join(slices.Compact(all), ", "))
		}
	}
	w("")
	w("[stop]")
	l.valueKey(&b, "send", "stop.send", l.stop, "the line you type at the console to stop the server")
	w("wait = '60s'        # for the stop line to work")
	w("terminate = '20s'   # then, for a terminate signal to this server's processes")
	w("kill = true         # then kill them; false: leave them and say so")
	w("")
	w("[ready]")
	l.valueKey(&b, "line", "ready.line", l.ready, "a pattern of the console line that says players can join")
	l.valueKey(&b, "version", "ready.version", l.said, "a pattern of the line that says the version, with it in (…)")
	w("fail = ['^FATAL', '(?i)could not bind', 'OutOfMemoryError']   # any of these lines means that it did not come up")
	w("within = '2m'       # for the ready line to come")
	w("steady = '5s'       # that it must then run on")
	l.valueKey(&b, "port", "ready.port", l.port, "'udp/27750': a port that the server must hold")
	return b.String()
}

func (l *lookout) listKey(b *strings.Builder, key, what string, list []found) {
	fmt.Fprintf(b, "# %s\n", what)
	sort.SliceStable(list, func(i, j int) bool { return list[i].pattern < list[j].pattern })
	if len(list) == 0 {
		fmt.Fprintf(b, "%s = []\n", key)
		return
	}
	fmt.Fprintf(b, "%s = [\n", key)
	for _, f := range list {
		fmt.Fprintf(b, "  %s,   # guessed from: %s\n", words.Quote(f.pattern), f.from)
		l.guesses = append(l.guesses, Guess{"server." + key, f.pattern, f.from})
	}
	b.WriteString("]\n")
}

func (l *lookout) valueKey(b *strings.Builder, key, full string, v [2]string, what string) {
	if v[0] == "" {
		fmt.Fprintf(b, "# not found; set it: %s\n%s = ''\n", what, key)
		l.guess(full, "", "not found")
		return
	}
	fmt.Fprintf(b, "# guessed from: %s\n%s = %s\n", v[1], key, words.Quote(v[0]))
	l.guess(full, v[0], v[1])
}
