package check

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/feed"
	"freshkeel/internal/host"
	"freshkeel/internal/launch"
	"freshkeel/internal/needs"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/words"
)

// checkRuntime holds what the jar that the launch script names needs, and what
// the feed says that it needs, against the runtime that the script would really
// run.
func checkRuntime(ctx context.Context, s *situation) (out []Finding) {
	for _, why := range s.plan.Unchosen {
		out = append(out, Finding{Level: Stop, What: why, Where: s.k.Profile.Launch.Script,
			Why: "the server would not start with it, or with another one than you want",
			Do:  "freshkeel runtimes lists those that are here; --runtime RELEASE, or [runtime] use, takes another one"})
	}
	for _, c := range s.lines.commands {
		if !c.Java() || !c.Serves() { // or it only says its version
			continue
		}
		where := fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text)
		at, jar, err := s.programs.Java(c)
		if len(c.Unknown) > 0 && err != nil {
			err = &runtimes.Untold{Why: "what it runs depends on " + strings.Join(c.Unknown, " and ") + ", which can't be known before it runs"}
		}
		if errors.Is(err, fs.ErrNotExist) {
			continue // checkNames tells
		}
		if unseen := (*runtimes.Untold)(nil); errors.As(err, &unseen) {
			out = append(out, Finding{Level: Warn, What: "which Java the new build needs can't be told: " + unseen.Why,
				Where: where,
				Why:   "a runtime that is too old would be found out only at the start, with the old server gone",
				Do:    "ask its makers which Java it needs; freshkeel runtimes tells which one the script runs"})
			continue
		}
		if err == nil && jar.Lacks != "" {
			err = fmt.Errorf("its manifest names the agent %s, and it does not hold it", jar.Lacks)
		}
		if err != nil {
			out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s can't be run: %v", at, err), Where: where,
				Why: "the runtime would refuse it, too, after the old server is gone",
				Do:  "ask the makers, or take another file of this build"})
			continue
		}
		need := s.programs.NeedOf(jar)
		if c.Path == "" {
			out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s is not found", c.Program), Where: where,
				Why: fmt.Sprintf("%s needs a Java runtime of %s", at, need.Words()), Do: s.fitting(ctx, need, c)})
			continue
		}
		if e := s.runtimeEdit(c); e != nil {
			out = append(out, Finding{Level: Warn,
				What:  fmt.Sprintf("line %d of %s is changed: it will run Java %s", e.Line, e.Path, e.Runtime.Version),
				Where: fmt.Sprintf("%s:%d\n- %s\n+ %s", e.Path, e.Line, e.Old, e.New), Why: e.Why,
				Do: "nothing, if that is right; going back puts the old line back"})
			out = append(out, s.runtimeFits(c, at, jar, &e.Runtime, where)...)
			continue
		}
		rt, err := needs.ReadRuntime(ctx, c.Path)
		if err != nil {
			out = append(out, Finding{Level: Warn, What: "the runtime's version can't be told: " + err.Error(),
				Where: where,
				Why:   fmt.Sprintf("%s needs a Java runtime of %s", at, need.Words()),
				Do:    "run it with -version by hand"})
			continue
		}
		if need.Fits(rt) {
			out = append(out, s.runtimeFits(c, at, jar, rt, where)...)
			continue
		}
		out = append(out, Finding{Level: Stop,
			What:  fmt.Sprintf("%s needs %s, %s runs Java %d", at, need, s.starter(c), rt.Release),
			Where: fmt.Sprintf("%s\nruns %s, version %s", where, rt.Path, rt.Version),
			Why:   need.Why(rt), Do: s.fitting(ctx, need, c)})
	}
	return out
}

// starter names what has a command run: a service, or the launch script.
func (s *situation) starter(c launch.Command) string {
	if s.ofUnit(c.File) {
		return c.File
	}
	return "the launch script"
}

// runtimeEdit is the edit by which a command runs another runtime; nil for none.
func (s *situation) runtimeEdit(c launch.Command) *plan.Edit {
	for i := range s.plan.Edits {
		if e := &s.plan.Edits[i]; e.Path == c.File && e.Runtime.Path != "" && e.Runtime.Path == c.Path {
			return e
		}
	}
	return nil
}

// runtimeFits is what else there is to say of a jar whose runtime will do.
func (s *situation) runtimeFits(c launch.Command, of string, jar *needs.Jar, rt *needs.Runtime,
	where string) (out []Finding) {
	if jar.Preview && !slices.Contains(c.Args, "--enable-preview") {
		out = append(out, Finding{Level: Stop,
			What: fmt.Sprintf("%s uses what Java %d has for trial only, and the launch script does not allow that", of,
				jar.Release), Where: where,
			Why: jar.Entry + " is a preview class file: without the flag the runtime ends with an error",
			Do:  "add --enable-preview in front of -jar"})
	}
	var gone []string
	for _, name := range jar.ClassPath {
		if at := path.Join(path.Dir(of), name); !strings.Contains(name, ":") && !filepath.IsAbs(at) &&
			!s.ahead.Has(strings.TrimSuffix(at, "/")) && !s.ahead.HasBelow(at) {
			gone = append(gone, at)
		}
	}
	if len(gone) > 0 {
		out = append(out, Finding{Level: Warn,
			What: fmt.Sprintf("%s names %s beside it that will not exist: %s", of, words.Plural(len(gone), "file"),
				words.Some(gone, 3)),
			Where: of + ", Class-Path of META-INF/MANIFEST.MF",
			Why:   "the runtime passes over what is missing, and the server ends when it first needs it",
			Do:    "look whether they lie elsewhere in the build ([place], [source] moved), or ask the makers"})
	}
	for _, o := range jar.Optional {
		if o.Major > rt.Release+44 {
			out = append(out, Finding{Level: Warn,
				What: fmt.Sprintf("a few classes of %s need Java %d, %s runs it", of, needs.Release(o.Major),
					rt.Version), Where: o.Entry,
				Why: "they seem to be for those who have it; the rest does not need them",
				Do:  "nothing, unless the server says UnsupportedClassVersionError"})
			break
		}
	}
	if len(out) == 0 {
		out = ok("Java %s runs class files of version %d (it needs %d or newer)", rt.Version, jar.Major, jar.Release)
	}
	return out
}

// fitting advises a runtime of this machine that would do.
func (s *situation) fitting(ctx context.Context, need runtimes.JavaNeed, c launch.Command) string {
	best := need.Best(s.k.rts.Java(ctx))
	if a, named := s.cand.Build.RuntimeFor(needs.Java, feed.Machine(profile.Source{})); best == nil && named &&
		s.cand.Offer != nil {
		return fmt.Sprintf("freshkeel runtimes take --for %s, which fetches the %s that its makers name (no "+
			"administrator's rights needed); then preflight again", s.plan.To, strings.TrimSpace("Java "+a.Version))
	}
	if best == nil {
		return fmt.Sprintf("get a Java runtime of %s (none is here): freshkeel runtimes take PATH|URL of its archive, "+
			"then preflight again", need.Words())
	}
	for _, part := range s.k.Parts() {
		if sv := part.Service(); sv != nil && !part.Outside() {
			if u, err := sv.Unit(); err == nil && u.Name == c.File {
				return s.byUnitLine(u, c, best)
			}
		}
	}
	return fmt.Sprintf("let %s run %s (version %s), then preflight again", cmp.Or(s.k.Profile.Launch.Script, c.File),
		best.Path,
		best.Version)
}

// byUnitLine are the lines by which a service runs another runtime: in the file of its environment, in its
// environment, or its own line.
func (s *situation) byUnitLine(u *host.Unit, c launch.Command, best *needs.Runtime) string {
	of := func(kv string) (name string, is bool) {
		name, value, _ := strings.Cut(kv, "=")
		return name, value != "" && (value == c.Program || value == c.Path)
	}
	edit := editOf(u)
	for _, at := range u.EnvFiles {
		one := host.Unit{EnvFiles: []string{at}}
		for _, kv := range one.EnvOfFiles() {
			if name, is := of(kv); is {
				return fmt.Sprintf("in %s, write %s=%s (Java %s) in place of its line %s; then preflight again", at, name,
					best.Path,
					best.Version, kv)
			}
		}
	}
	for _, kv := range u.Env {
		if name, is := of(kv); is {
			return fmt.Sprintf("%s, with the lines «[Service]», «Environment=%s» (Java %s); then preflight again", edit,
				host.UnitWord(name+"="+best.Path), best.Version)
		}
	}
	for _, l := range s.plan.Unlined {
		if l.Unit == u.Name && l.Line != "" {
			return fmt.Sprintf("%s, with the lines «[Service]», «ExecStart=» and «ExecStart=%s» (Java %s); then preflight again", edit,
				l.Line, best.Version)
		}
	}
	return fmt.Sprintf("%s, with the lines «[Service]», «ExecStart=» and «ExecStart=…», its line as it is but with %s (Java %s) in place "+
		"of %s; then preflight again", edit, best.Path, best.Version, c.Program)
}
