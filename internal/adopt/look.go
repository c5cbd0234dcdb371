package adopt

import (
	"archive/zip"
	"bytes"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/feed"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/launch"
	"freshkeel/internal/learn"
	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
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
	heard                bool // the version, from the server's own words
	channel              string
	source               *feed.Proposal
	script               string
	args                 []string // that the script is given
	written              string   // the text of a launch script that has to be written; "": none
	others               []launch.Command
	below                []string    // folders right below that have a server of their own, by their scripts
	parts                [][2]string // scripts beside the launch script that start something else, and what
	artifact             string
	shipped              time.Time      // when the last of the shipped files were made
	youngest             string         // the youngest program
	outside              []host.Process // that run from this install
	unit                 *host.Unit     // that runs the server; nil: none does
	unitFrom             string
	kept                 host.Kept // what keeps a running server's console, or starts it again
	running              time.Time // since when a server of this install runs; zero: none does
	keep, settings, skip []found
	place                [][3]string // pattern, name, from
	log                  [2]string   // value, from
	stop, ready, said    [2]string
	words                []learn.Word // that may end it
	ports                []profile.Port
	logged               []learn.NamedPort // that the last log names: it tells of what kind one is
	portsFrom            []string
	addons               *addons
	loads                map[string]bool     // what launch lines load by their own paths, once it is asked for
	shipping             map[string]bool     // folders at the top in which something lies that only builds ship, once asked for
	asData               map[string]string   // folders that settings name as the place of data, once asked for
	folders              map[string][]string // the names of files, by their folders, once it is asked for
	doubts               []Doubt
	notes                []string

	guesses                   []Guess
	recorded, same            int // files
	changed, missing, foreign []string
}

type found struct{ pattern, from string }

func (l *lookout) look() {
	own := l.k.RunDir().Status() // under our own minder, whatever the profile says
	l.outside = host.Outside(l.dir, own)
	if own.Running {
		l.running = own.Since
		l.note("the server runs under Fresh Keel already, %s: freshkeel status", own.How())
	}
	for _, p := range l.outside {
		if l.running.IsZero() || p.Since.Before(l.running) {
			l.running = p.Since
		}
	}
	if len(l.outside) > 0 && l.outside[0].Unit != "" {
		p := l.outside[0]
		l.note(
			"process %d runs from here since %s (%s), in the service %s: [host] says so, and Fresh Keel runs it as that",
			p.PID,
			p.Since.Format("2006-01-02 15:04"),
			p.Command,
			p.Unit,
		)
	}
	if len(l.outside) > 0 {
		l.kept = host.KeptBy(l.outside[0].PID)
	}
	l.lookForUnit()
	l.tellKept()
	scripting{l}.lookForScripts()
	l.lookForArtifact()
	l.lookForPlace()
	tellAway(l)
	files := sorting{l}
	files.lookForShipped()
	files.lookForOwnFiles()
	l.lookForAddons()
	l.lookForVersion()
	l.lookAtLog()
	l.lookForStop()
	l.lookForPorts()
	if l.version != "" {
		l.guess("version", l.version, l.versionFrom)
	}
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

// note says what the operator should know before it matters.
func (l *lookout) note(format string, a ...any) { l.notes = append(l.notes, fmt.Sprintf(format, a...)) }

func (l *lookout) full(at string) string { return filepath.Join(l.dir, filepath.FromSlash(at)) }

// text is a text of the install, as far as most bytes; "" where it can't be read or is none.
func (l *lookout) text(at string, most int64) string {
	e, ok := l.files.Get(at)
	if !ok || e.Kind != tree.File || e.Size > most {
		return ""
	}
	b, err := tree.ReadUpTo(l.full(at), most)
	if err != nil || bytes.IndexByte(b, 0) >= 0 {
		return ""
	}
	return string(b)
}

// lookForArtifact finds the file that is the server: what the script runs, or the largest
// jar or program at the top.
func (l *lookout) lookForArtifact() {
	for _, c := range l.others {
		if at := (scripting{l}).whatRuns(c); at != "" && (l.artifact == "" || c.File == l.script) {
			l.artifact = at
			l.guess("artifact", at, fmt.Sprintf("%s:%d runs it", c.File, c.Line))
		}
	}
	if l.artifact == "" {
		if l.artifact = l.largestProgram(); l.artifact != "" {
			l.guess("artifact", l.artifact, "it is the largest jar or program at the top")
		}
	}
	if l.artifact == "" {
		l.artifact = l.script
	}
}

// whatRuns is the file of the install that a command runs: a jar, what an interpreter is given, the jar of its class path
// that has the class, or the program itself; "" for none.
func (l scripting) whatRuns(c launch.Command) string {
	for _, at := range append([]string{c.Jar, c.Script, l.classJar(c)}, tree.Rel(l.dir, c.Path)) {
		if at != "" && !filepath.IsAbs(at) && tree.Local(at) {
			return at
		}
	}
	return ""
}

// javaLine reads what a Java runtime is told.
func (l scripting) javaLine(c launch.Command) (launch.JavaLine, bool) {
	if !c.Java() {
		return launch.JavaLine{}, false
	}
	line, err := c.JavaLine(func(name string) ([]byte, error) {
		return tree.ReadUpTo(filepath.Join(c.Dir, filepath.FromSlash(name)), install.MaxScript)
	})
	return line, err == nil
}

// classJar is the jar of a Java command's class path that has the class which it runs; else the first one.
func (l scripting) classJar(c launch.Command) (at string) {
	line, ok := l.javaLine(c)
	if !ok || line.Main == "" {
		return ""
	}
	for _, jar := range l.jarsOf(c, line.ClassPath) {
		if at == "" {
			at = jar
		}
		if l.hasClass(jar, line.Main) {
			return jar
		}
	}
	return at
}

// jarsOf are the jars of the install that a class path names, "lib/*" those of a folder.
func (l scripting) jarsOf(c launch.Command, classPath []string) (out []string) {
	for _, entry := range classPath {
		if dir, all := strings.CutSuffix(entry, "*"); all {
			dir = path.Clean(c.At(l.dir, strings.TrimSuffix(dir, "/")))
			for _, e := range l.files {
				if e.Kind == tree.File && path.Dir(e.Path) == dir && strings.EqualFold(path.Ext(e.Path), ".jar") {
					out = append(out, e.Path)
				}
			}
			continue
		}
		if at := path.Clean(c.At(l.dir, entry)); strings.EqualFold(path.Ext(at), ".jar") {
			if e, there := l.files.Get(at); there && e.Kind == tree.File {
				out = append(out, at)
			}
		}
	}
	return out
}

// hasClass tells whether a jar has a class.
func (l scripting) hasClass(jar, class string) bool {
	e, ok := l.files.Get(jar)
	if !ok {
		return false
	}
	f, err := tree.OpenRegular(l.full(jar))
	if err != nil {
		return false
	}
	defer f.Close()
	z, err := zip.NewReader(f, e.Size)
	if err != nil {
		return false
	}
	name := strings.ReplaceAll(class, ".", "/") + ".class"
	return slices.ContainsFunc(z.File, func(f *zip.File) bool { return f.Name == name })
}

func (l *lookout) largestProgram() string {
	var biggest tree.Entry
	for _, e := range l.list {
		if e.Kind == tree.File && !strings.Contains(e.Path, "/") && e.Size > biggest.Size &&
			(strings.HasSuffix(e.Path, ".jar") || isProgram(tree.Head(l.full(e.Path)))) {
			biggest = e
		}
	}
	return biggest.Path
}

func isProgram(head []byte) bool { return bytes.HasPrefix(head, []byte("\x7fELF")) }

// ofBuild is the build's file of a path; nil where it has none, or is not known.
func (l *lookout) ofBuild(path string) *locker.File {
	if l.set == nil {
		return nil
	}
	return l.set.Find(path)
}

// asBuilt tells whether an installed file is byte for byte the build's.
func (l *lookout) asBuilt(e tree.Entry) bool {
	b := l.ofBuild(e.Path)
	if b == nil || e.Kind != tree.File {
		return false
	}
	same, err := l.content.SameAs(e, nil, b)
	return err == nil && same
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

// lookForVersion says which version is installed, by what says it best: the artifact itself, a file of the makers', the
// names that they gave. The server's own lines come last: a number in them may be a protocol's.
func (l *lookout) lookForVersion() {
	if l.version == "" {
		if v, by := described(l); v != "" {
			l.version, l.versionFrom = v, by
		}
	}
	if l.version == "" {
		for _, name := range []string{"VERSION", "version", "version.txt", "VERSION.txt", "Version.txt", "BUILD", "build.txt",
			"RELEASE", "release.txt"} {
			if text := l.text(name, 4<<10); text != "" {
				if v := version.InText(text); v != "" {
					l.version, l.versionFrom = v, name
					break
				}
			}
		}
	}
	if l.version == "" {
		l.version, l.versionFrom = l.versionOfName()
	}
	if l.a.Version != "" {
		l.version, l.versionFrom = l.a.Version, "your word"
	}
}

// described is what the artifact says of its own version: the manifest of a jar, the description of a package beside a
// script, what a compiler or its makers wrote into a program.
func described(l *lookout) (v, by string) {
	e, ok := l.files.Get(l.artifact)
	if !ok || e.Kind != tree.File || l.artifact == l.script && isScript(l.artifact) {
		return "", ""
	}
	f, err := tree.OpenRegular(l.full(e.Path))
	if err != nil {
		return "", ""
	}
	defer f.Close()
	if v, what := needs.Described(f, e.Size); v != "" {
		return v, what + " of " + e.Path
	}
	for dir := path.Dir(e.Path); ; dir = path.Dir(dir) { // of the package that a script lies in
		for _, name := range needs.Descriptions {
			at := path.Join(dir, name)
			if text := l.text(at, 1<<20); text != "" {
				if v := needs.DescribedIn(name, []byte(text)); v != "" {
					return v, at
				}
				return "", "" // the nearest one speaks for it
			}
		}
		if dir == "." {
			return "", ""
		}
	}
}

// isScript tells whether a file is a launch script's kind, for this system or another.
func isScript(at string) bool {
	return slices.Contains([]string{".sh", ".bat", ".cmd", ".ps1"}, strings.ToLower(path.Ext(at)))
}
