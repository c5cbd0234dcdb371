package adopt

import (
	"cmp"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/launch"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// scripting finds out how an install's server is started.
type scripting struct{ *lookout }

// candidate is a script that may be the one to start the server with.
type candidate struct {
	at    string
	score int
	from  string
	cmds  []launch.Command
	args  []string // that it is given
}

var (
	startName = regexp.MustCompile(`(?i)^(start|run|launch|server|open|serve|boot|play)|[-_](start|server|run)\b`)
	otherName = regexp.MustCompile(
		`(?i)(^|[-_. ])(stop|shutdown|update|updater|upgrade|backup|install|installer|setup|restart|` +
			`watchdog|debug|client|uninstall|status|console|attach|kill|restore|migrate|tests?|check|crash|error)([-_. ]|\d|$)`,
	)
)

// lookForScripts chooses the launch script: of those that run something of the
// install, the one that runs a jar or program; named scripts at the top first.
func (l scripting) lookForScripts() {
	if l.byUnit() {
		return
	}
	var best *candidate
	var all []*candidate
	for _, e := range l.list {
		if c := l.scriptCandidate(e); c != nil {
			if all = append(all, c); best == nil || c.score > best.score {
				best = c
			}
		}
	}
	l.tellOthers(best, all)
	for _, c := range l.unitScripts() {
		if best == nil || c.score > best.score {
			best = c
		}
	}
	switch {
	case best == nil:
		l.programAlone()
	default:
		l.script, l.args, l.others = best.at, best.args, append(l.others, best.cmds...)
		l.guess("launch.script", best.at, best.from)
		l.outOfScreen(best)
	}
	l.tellWays()
}

// inTools are folders of a server that have scripts, and are no servers.
var inTools = regexp.MustCompile(`(?i)^(s?bin|tools?|scripts?|lib|util(itie)?s?|contrib|examples?|\.?git|docs?)$`)

// tellOthers says which scripts start something too, besides the one that was chosen: several servers below this
// folder, parts of this one, or another way to the same.
func (l scripting) tellOthers(best *candidate, all []*candidate) {
	var same []string
	runs := func(c *candidate) (what string) {
		for _, cmd := range c.cmds {
			what = cmp.Or(what, l.whatRuns(cmd))
		}
		return what
	}
	for _, c := range all {
		base, what := path.Base(c.at), runs(c)
		if what == "" || !startName.MatchString(base) || otherName.MatchString(base) {
			continue
		}
		dir, _, below := strings.Cut(c.at, "/")
		switch {
		case below && !inTools.MatchString(dir) && lies(l.files, dir, what):
			if !slices.Contains(l.below, dir) {
				l.below = append(l.below, dir)
			}
		case below || c == best:
		case what == runs(best):
			same = append(same, c.at)
		case what != best.at && runs(best) != c.at && !strings.HasSuffix(c.at,
			".bat") == !strings.HasSuffix(best.at, ".bat"):
			l.parts = append(l.parts, [2]string{c.at, what})
		}
	}
	if best != nil && strings.Contains(best.at, "/") {
		return
	}
	l.below = nil // a server of its own stands at the top
	if len(same) > 0 {
		l.note("%s is taken for what starts the server; %s too: freshkeel profile set launch.script NAME takes "+
			"another", best.at,
			words.Some(same, 3)+map[bool]string{true: " does", false: " do"}[len(same) == 1])
	}
	if len(l.parts) > 0 {
		var list []string
		for _, p := range l.parts {
			list = append(list, p[0]+" (runs "+p[1]+")")
		}
		l.note("%s is taken for what starts the server; other scripts start something else: %s. If those are parts "+
			"of the server, the profile has them as [[part]], ready to be taken in", best.at, words.Some(list, 4))
	}
}

// lies tells whether what a script runs lies in its own folder; where it goes there first by a way that can't be read,
// the name alone tells.
func lies(files tree.List, dir, what string) bool {
	if strings.HasPrefix(what, dir+"/") {
		return true
	}
	_, there := files.Get(dir + "/" + what)
	_, top := files.Get(what)
	return there && !top
}

// isAServer refuses a folder of several servers, and one in which nothing could be run.
func (l *lookout) isAServer() error {
	if len(l.below) > 1 && l.unit == nil {
		var at []string
		for _, dir := range l.below {
			at = append(at, "freshkeel adopt "+words.Shell(filepath.Join(l.dir, dir)))
		}
		return tell.Misuse(fmt.Sprintf("%s holds %s, each with a script of its own: %s", l.dir,
			words.Plural(len(l.below), "server"), words.Some(l.below, 6)), strings.Join(at, "; "))
	}
	if l.script != "" || l.artifact != "" || l.written != "" || l.unit != nil || len(l.outside) > 0 ||
		slices.ContainsFunc(l.list, func(e tree.Entry) bool {
			return e.Kind == tree.File &&
				programKind.MatchString(e.Path)
		}) {
		return nil
	}
	return tell.Misuse(fmt.Sprintf("no script, jar or program is in %s that could be a server", l.dir),
		"name the folder that the server runs from; one that commands of yours start elsewhere needs a "+
			"freshkeel.toml by hand first (docs/hosts.md)")
}

// byUnit takes what the service runs under which the server was found: the script of the install
// that its line leads to, or none where it runs the server itself. That line is what starts the
// server, whatever scripts lie beside it.
func (l scripting) byUnit() bool {
	if l.unit == nil {
		return false
	}
	u := l.unit
	cmds := launch.Lines(l.dir, u.Name, u.Lines, u.Dir, slices.Concat(l.k.Env, u.Env, u.EnvOfFiles()), nil)
	if len(cmds) == 0 {
		return false
	}
	l.others = append(l.others, cmds...)
	from := u.Name + " runs the server by its own line, which is read"
	for _, c := range cmds {
		if c.File != u.Name && !filepath.IsAbs(c.File) {
			l.script, from = c.File, u.Name+" runs it"
			break
		}
	}
	l.guess("launch.script", l.script, from)
	l.tellWays()
	return true
}

func (l scripting) scriptCandidate(e tree.Entry) *candidate {
	deep := strings.Count(e.Path, "/")
	if e.Kind != tree.File || deep > 1 || e.Size > 1<<20 || tree.Ours(e.Path) {
		return nil
	}
	ext := strings.ToLower(path.Ext(e.Path))
	shell := ext == ".sh" || (ext == "" && launch.LooksShell(e.Path, tree.Head(l.full(e.Path))))
	if !shell && ext != ".bat" && ext != ".cmd" {
		return nil
	}
	cmds, err := launch.Read(l.dir, e.Path, l.k.Env)
	if err != nil {
		return nil
	}
	c := &candidate{at: e.Path, from: "it is a script at the top of the install", cmds: cmds}
	if deep > 0 {
		c.from, c.score = "it is a script of the install", -3
	}
	if shell == (runtime.GOOS != "windows") {
		c.score += 6
	}
	base := path.Base(e.Path)
	if startName.MatchString(base) {
		c.score += 2
	}
	if otherName.MatchString(base) {
		c.score -= 5
	}
	if e.Mode&0o111 != 0 {
		c.score++
	}
	runs := false
	for _, cmd := range cmds {
		what := l.whatRuns(cmd)
		if what == "" {
			continue
		}
		if !runs {
			runs = true
			c.score += 4
			c.from = fmt.Sprintf("its line %d runs %s", cmd.Line, what)
			if cmd.File != e.Path {
				c.from = fmt.Sprintf("it runs %s by %s:%d", what, cmd.File, cmd.Line)
			}
		}
		if cmd.Screen != "" {
			c.score -= 3
			break
		}
	}
	if !runs && deep > 0 {
		return nil
	}
	if runs {
		l.others = append(l.others, cmds[0])
	}
	return c
}

// lookForUnit finds the service that runs the server: the one in which a process of it was found,
// else the only one of the machine that runs something of the install.
func (l *lookout) lookForUnit() {
	look := func(name string, own bool, from string) {
		if u, err := host.OpenService(name, own, "", nil, nil, l.dir).Unit(); err == nil && u.Known {
			l.unit, l.unitFrom = u, from
		}
	}
	if len(l.outside) > 0 {
		if p := l.outside[0]; p.Unit != "" {
			look(p.Unit, p.OwnUnit, fmt.Sprintf("process %d of it runs in that service", p.PID))
		}
		return // what runs it is no service
	}
	units := slices.DeleteFunc(host.Units(l.dir), func(u *host.Unit) bool { return strings.HasPrefix(u.Name, "freshkeel-") })
	runs := slices.DeleteFunc(slices.Clone(units), func(u *host.Unit) bool { return !l.runsProgram(u) })
	if len(runs) == 1 {
		units = runs
	}
	if len(units) == 1 {
		u := units[0]
		l.unit, l.unitFrom = u, fmt.Sprintf("%s runs it: ExecStart=%s", cmp.Or(u.File, u.Name), host.UnitLine(u.Lines[0]))
		return
	}
	if len(units) > 1 {
		var names []string
		for _, u := range units {
			names = append(names, u.Name)
		}
		l.note("several services name this folder: %s; if one of them runs the server: freshkeel profile set host.unit NAME",
			strings.Join(names, ", "))
	}
}

// runsProgram tells whether what a unit runs is itself a file of the install.
func (l *lookout) runsProgram(u *host.Unit) bool {
	for _, line := range u.Lines {
		own, err := launch.Own(line, u.Dir)
		if err == nil && slices.ContainsFunc(own, func(at string) bool { return tree.Inside(l.dir, at) }) {
			return true
		}
	}
	return false
}

// unit is what a file of the system's service manager says of a server.
type unit struct {
	file, exec, dir, stop, signal string
	own                           bool // of the user's own manager
}

// units are those whose command lies in the install: in it, and among the system's own.
func (l *lookout) units() (out []unit) {
	var files []string
	for _, e := range l.list {
		if strings.HasSuffix(e.Path, ".service") && strings.Count(e.Path, "/") < 2 {
			files = append(files, l.full(e.Path))
		}
	}
	dirs := []string{"/etc/systemd/system", "/run/systemd/system", "/usr/lib/systemd/system"}
	own := len(dirs)
	if config, err := os.UserConfigDir(); err == nil {
		dirs = append(dirs, filepath.Join(config, "systemd/user"))
	}
	users := map[string]bool{}
	for i, dir := range dirs {
		system, _ := filepath.Glob(dir + "/*.service")
		for _, f := range system {
			files, users[f] = append(files, f), i >= own
		}
	}
	for _, f := range files {
		b, err := tree.ReadUpTo(f, 64<<10)
		if err != nil {
			continue
		}
		u := unit{file: f, own: users[f]}
		for _, line := range strings.Split(string(b), "\n") {
			key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
			switch key {
			case "ExecStart":
				u.exec = strings.TrimLeft(value, "-@:+!")
			case "WorkingDirectory":
				u.dir = strings.TrimPrefix(value, "-")
			case "ExecStop":
				u.stop = value
			case "KillSignal":
				u.signal = value
			}
		}
		if u.exec != "" && (strings.Contains(u.exec, l.dir+"/") || strings.HasPrefix(f, l.dir+"/") ||
			tree.Inside(l.dir, u.dir)) {
			out = append(out, u)
		}
	}
	return out
}

// unitScripts are scripts and programs of the install that a unit runs.
func (l scripting) unitScripts() (out []*candidate) {
	for _, u := range l.units() {
		words := strings.Fields(u.exec)
		at := tree.Rel(l.dir, words[0])
		if at == "" {
			continue
		}
		if e, ok := l.files.Get(at); !ok || e.Kind != tree.File {
			continue
		}
		cmds, _ := launch.Read(l.dir, at, l.k.Env)
		c := &candidate{
			at:    at,
			score: 9,
			cmds:  cmds,
			from:  fmt.Sprintf("%s runs it: ExecStart=%s", l.shown(u.file), u.exec),
		}
		if len(words) > 1 {
			c.args = words[1:]
		}
		out = append(out, c)
	}
	return out
}

// shown is a path as it is told: within the install without that.
func (l *lookout) shown(full string) string {
	if at := tree.Rel(l.dir, full); at != "" {
		return at
	}
	return full
}

// programAlone takes the program itself where there is no script.
func (l scripting) programAlone() {
	var best tree.Entry
	for _, e := range l.list {
		if e.Kind != tree.File || strings.Count(e.Path, "/") > 1 || !isProgram(tree.Head(l.full(e.Path))) ||
			strings.Contains(path.Base(e.Path), ".so") {
			continue
		}
		named := strings.Contains(strings.ToLower(path.Base(e.Path)), "server") || strings.HasSuffix(e.Path, "d")
		bestNamed := strings.Contains(strings.ToLower(path.Base(best.Path)), "server")
		if best.Path == "" || named && !bestNamed || named == bestNamed && e.Size > best.Size {
			best = e
		}
	}
	if best.Path != "" {
		l.script = best.Path
		l.guess("launch.script", best.Path, "there is no script, and it is the program of the install")
		return
	}
	jar := l.largestProgram()
	if strings.HasSuffix(jar, ".jar") {
		l.writeScript([]string{"java", "-jar", jar}, "there is no script, and "+jar+" is the only thing to run")
		return
	}
	l.guess("launch.script", "", "no *.sh or *.bat stands at the top of the install")
}

// OwnScript is the name of a launch script that adopt writes.
const OwnScript = "start-under-freshkeel.sh"

// writeScript has a launch script written that runs one command in the install.
func (l scripting) writeScript(command []string, why string) {
	if l.unit != nil || l.kept.By != "" { // something starts it already
		return
	}
	text, err := launch.Compose(OwnScript, launch.Composed{By: "freshkeel adopt", Why: why, Program: command[0],
		Args: command[1:]})
	if err != nil {
		return
	}
	l.written = string(text)
	l.script, l.args = OwnScript, nil
	l.guess("launch.script", OwnScript, why)
}

// outOfScreen gets the server out of a terminal multiplexer, which would keep its console:
// by the script or program that is run there.
func (l scripting) outOfScreen(c *candidate) {
	i := slices.IndexFunc(c.cmds, func(cmd launch.Command) bool { return cmd.Screen != "" })
	if i < 0 {
		return
	}
	cmd := c.cmds[i]
	why := fmt.Sprintf("%s:%d hands the server to %s, which would keep its console", cmd.File, cmd.Line, cmd.Screen)
	if cmd.File != c.at { // a script of the install runs there
		l.script, l.args = cmd.File, nil
		l.others = append(l.others, cmd)
		l.guess("launch.script", cmd.File, "it is what runs in it: "+why)
		l.note("%s; Fresh Keel runs %s itself, and has its console", why, cmd.File)
		return
	}
	if cmd.Dir != l.dir || strings.ContainsAny(strings.Join(cmd.Args, ""), "$`") {
		l.note("%s: write a script that runs the server itself, and name it in [launch] script", why)
		return
	}
	if cmd.Path != "" && tree.Inside(l.dir, cmd.Path) {
		l.script, l.args = tree.Rel(l.dir, cmd.Path), cmd.Args
		l.guess("launch.script", l.script, "it is what runs in it: "+why)
	} else {
		l.writeScript(append([]string{cmd.Program}, cmd.Args...), why)
	}
	l.note("%s; Fresh Keel runs the server itself by %s, and has its console", why, l.script)
}

var handsToService = regexp.MustCompile(`\b(systemctl|service|rc-service|initctl)\s+(--user\s+)?(start|restart)\b`)

// tellWays tells what the launch script does besides running the server.
func (l scripting) tellWays() {
	if l.script == "" {
		return
	}
	if ext := strings.ToLower(path.Ext(l.script)); runtime.GOOS != "windows" && (ext == ".bat" || ext == ".cmd") {
		l.note(
			"%s is a script for Windows, and this is another system: the server can't be started here with it; name a "+
				"shell script under [launch] script",
			l.script,
		)
	}
	if l.written != "" {
		return
	}
	cmds, err := launch.Read(l.dir, l.script, l.k.Env)
	if err != nil {
		return
	}
	text := l.text(l.script, 1<<20)
	if m := handsToService.FindString(text); m != "" && len(cmds) == 0 {
		l.note(
			"%s hands the server to the service manager (%s): name the script or program that the service runs under "+
				"[launch] script",
			l.script,
			m,
		)
	}
	for _, c := range cmds {
		if c.Loop != nil {
			l.note("%s starts the server again whenever it ends: that is held still while Fresh Keel stops it", c.Loop)
			break
		}
	}
	for _, c := range cmds {
		if c.Stays != nil {
			l.note("%s waits for a key once the server has ended: Fresh Keel presses it", c.Stays)
			break
		}
		if c.Waits != nil {
			l.note(
				"%s waits for a key before it starts the server: nobody is there to press it; take that line out",
				c.Waits,
			)
			break
		}
	}
}

// writeOwnScript writes the launch script that was made, and never over a file that is there.
func (l *lookout) writeOwnScript() error {
	if l.written == "" {
		return nil
	}
	full := l.full(OwnScript)
	if b, err := os.ReadFile(full); err == nil {
		if string(b) == l.written {
			return nil
		}
		by := "somebody"
		if strings.Contains(string(b), "# Written by freshkeel adopt: ") {
			by = "an earlier freshkeel adopt, and changed since"
		}
		return fmt.Errorf("%s is there already, written by %s, and is not what is needed now: remove it, or name it in [launch] script",
			full, by)
	}
	return tree.WriteFile(full, []byte(l.written), 0o755)
}
