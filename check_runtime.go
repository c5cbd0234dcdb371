package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/feed"
	"freshkeel/internal/launch"
	"freshkeel/internal/needs"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
)

// checkRuntime holds what the jar that the launch script names needs, and what
// the feed says that it needs, against the runtime that the script would really
// run.
func checkRuntime(ctx context.Context, s *situation) (out []Finding) {
	for _, c := range s.lines.commands {
		if !c.Java() || c.Jar == "" {
			continue
		}
		where := fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text)
		jar, err := s.scanJar(c.Jar)
		if errors.Is(err, fs.ErrNotExist) {
			continue // checkNames tells
		}
		if err == nil && jar.Lacks != "" {
			err = fmt.Errorf("its manifest names the agent %s, and it does not hold it", jar.Lacks)
		}
		if err != nil {
			out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s can't be run: %v", c.Jar, err), Where: where,
				Why: "the runtime would refuse it, too, after the old server is gone", Do: "ask the makers, or take another file of this build"})
			continue
		}
		need := s.javaNeed(jar)
		if c.Path == "" {
			out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s is not found", c.Program), Where: where,
				Why: fmt.Sprintf("%s needs a Java runtime of %s", c.Jar, need.words()), Do: s.fitting(ctx, need)})
			continue
		}
		if e := s.plan.edit(c.File); e != nil && e.Line == c.Line {
			out = append(out, Finding{Level: Warn, What: fmt.Sprintf("line %d of %s is changed: it will run Java %s", e.Line, e.Path, e.runtime.Version),
				Where: fmt.Sprintf("%s:%d\n- %s\n+ %s", e.Path, e.Line, e.Old, e.New), Why: e.Why,
				Do: "nothing, if that is right; going back puts the old line back"})
			out = append(out, s.runtimeFits(c, jar, &e.runtime, where)...)
			continue
		}
		rt, err := needs.ReadRuntime(ctx, c.Path)
		if err != nil {
			out = append(out, Finding{Level: Warn, What: "the runtime's version can't be told: " + err.Error(), Where: where,
				Why: fmt.Sprintf("%s needs a Java runtime of %s", c.Jar, need.words()), Do: "run it with -version by hand"})
			continue
		}
		if need.fits(rt) {
			out = append(out, s.runtimeFits(c, jar, rt, where)...)
			continue
		}
		out = append(out, Finding{Level: Stop,
			What:  fmt.Sprintf("%s needs %s, the launch script runs Java %d", c.Jar, need, rt.Release),
			Where: fmt.Sprintf("%s\nruns %s, version %s", where, rt.Path, rt.Version),
			Why:   need.why(rt), Do: s.fitting(ctx, need)})
	}
	return out
}

// runtimeFits is what else there is to say of a jar whose runtime will do.
func (s *situation) runtimeFits(c launch.Command, jar *needs.Jar, rt *needs.Runtime, where string) (out []Finding) {
	if jar.Preview && !slices.Contains(c.Args, "--enable-preview") {
		out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s uses what Java %d has for trial only, and the launch script does not allow that", c.Jar, jar.Release), Where: where,
			Why: jar.Entry + " is a preview class file: without the flag the runtime ends with an error", Do: "add --enable-preview in front of -jar"})
	}
	var gone []string
	for _, name := range jar.ClassPath {
		if at := path.Join(path.Dir(c.Jar), name); !strings.Contains(name, ":") && !filepath.IsAbs(at) && !s.willBe(strings.TrimSuffix(at, "/")) && !s.willBeFolder(at) {
			gone = append(gone, at)
		}
	}
	if len(gone) > 0 {
		out = append(out, Finding{Level: Warn, What: fmt.Sprintf("%s names %s beside it that will not exist: %s", c.Jar, plural(len(gone), "file"), some(gone, 3)),
			Where: c.Jar + ", Class-Path of META-INF/MANIFEST.MF", Why: "the runtime passes over what is missing, and the server ends when it first needs it",
			Do: "look whether they lie elsewhere in the build ([place], [source] moved), or ask the makers"})
	}
	for _, o := range jar.Optional {
		if o.Major > rt.Release+44 {
			out = append(out, Finding{Level: Warn, What: fmt.Sprintf("a few classes of %s need Java %d, %s runs it", c.Jar, needs.Release(o.Major), rt.Version), Where: o.Entry,
				Why: "they seem to be for those who have it; the rest does not need them", Do: "nothing, unless the server says UnsupportedClassVersionError"})
			break
		}
	}
	if len(out) == 0 {
		out = ok("Java %s runs class files of version %d (it needs %d or newer)", rt.Version, jar.Major, jar.Release)
	}
	return out
}

// javaNeed is which Java runtimes will do: by the class files, and by the
// feed's word where that asks for more.
type javaNeed struct {
	release int
	exactly bool   // a preview class file: this release alone
	feed    string // the feed's range, "" for none
	jar     *needs.Jar
}

func (s *situation) javaNeed(jar *needs.Jar) javaNeed {
	n := javaNeed{release: jar.Release, exactly: jar.Preview, jar: jar}
	for runtime, want := range s.cand.build.Needs {
		if strings.EqualFold(runtime, "java") && feed.CheckRange(want) == nil {
			n.feed = want
		}
	}
	return n
}

func (n javaNeed) fitsClasses(rt *needs.Runtime) bool {
	return rt.Release == n.release || (rt.Release > n.release && !n.exactly)
}

func (n javaNeed) fits(rt *needs.Runtime) bool {
	return rt.Broken == "" && n.fitsClasses(rt) && (n.feed == "" || feed.Fits(n.feed, rt.Version))
}

func (n javaNeed) String() string {
	s := fmt.Sprintf("Java %d", n.release)
	if n.exactly {
		s = fmt.Sprintf("exactly Java %d", n.release)
	}
	if n.feed != "" && !feed.Fits(n.feed, fmt.Sprint(n.release)) {
		s = "Java " + n.feed
	}
	return s
}

func (n javaNeed) words() string {
	switch {
	case n.feed != "" && !feed.Fits(n.feed, fmt.Sprint(n.release)):
		return "version " + n.feed
	case n.exactly:
		return fmt.Sprintf("release %d exactly", n.release)
	}
	return fmt.Sprintf("release %d or newer", n.release)
}

// why tells a runtime that does not fit what it lacks, with both numbers.
func (n javaNeed) why(rt *needs.Runtime) string {
	switch {
	case n.fitsClasses(rt):
		return fmt.Sprintf("the feed says so of this build; its class files alone would do with %d", n.release)
	case n.exactly && rt.Release > n.release:
		return fmt.Sprintf("%s is a preview class file of release %d (version %d), which that release alone reads", n.jar.Entry, n.release, n.jar.Major)
	}
	return fmt.Sprintf("%s is class file version %d; this runtime reads up to %d and would end with an error", n.jar.Entry, n.jar.Major, rt.Release+44)
}

// fitting advises a runtime of this machine that would do.
func (s *situation) fitting(ctx context.Context, need javaNeed) string {
	best := need.best(s.k.findRuntimes(ctx))
	if a, named := s.cand.build.RuntimeFor(needs.Java, feed.Machine(profile.Source{})); best == nil && named && s.cand.offer != nil {
		return fmt.Sprintf("freshkeel runtimes take --for %s, which fetches the %s that its makers name (no administrator's rights needed); then preflight again", s.plan.To, strings.TrimSpace("Java "+a.Version))
	}
	if best == nil {
		return fmt.Sprintf("get a Java runtime of %s (none is here): freshkeel runtimes take PATH|URL of its archive, then preflight again", need.words())
	}
	return fmt.Sprintf("let %s run %s (version %s), then preflight again", s.k.Profile.Launch.Script, best.Path, best.Version)
}

// scanJar looks at the jar that will stand at a path of the install.
func (s *situation) scanJar(at string) (*needs.Jar, error) {
	r, size, done, err := s.content(at)
	if err != nil {
		return nil, err
	}
	defer done()
	return needs.ScanJar(r, size)
}

// content opens the file that will stand at a path of the install.
func (s *situation) content(at string) (r io.ReaderAt, size int64, done func(), err error) {
	if f, ok := s.plan.files[at]; ok && s.plan.edit(at) == nil {
		return s.store.Content(f), f.Size, func() {}, nil
	}
	if s.removed(at) {
		return nil, 0, nil, fs.ErrNotExist
	}
	return openFile(s.k.path(at))
}

func openFile(full string) (r io.ReaderAt, size int64, done func(), err error) {
	f, err := tree.OpenRegular(full)
	if err != nil {
		return nil, 0, nil, err
	}
	fi, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, 0, nil, err
	}
	return f, fi.Size(), func() { f.Close() }, nil
}

// willBeFolder tells whether something will stand below a path after the swap.
func (s *situation) willBeFolder(at string) bool {
	at = strings.TrimSuffix(at, "/") + "/"
	for p := range s.plan.files {
		if strings.HasPrefix(p, at) {
			return true
		}
	}
	for _, e := range s.plan.before {
		p := e.Path
		if strings.HasPrefix(p, at) && !s.removed(p) {
			return true
		}
	}
	return false
}
