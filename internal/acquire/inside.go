package acquire

import (
	"io"
	"path"
	"strings"

	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
)

// versionOfRun is the version that what the launch script runs says of itself in a build, where the installed one says its
// own rightly: by a manifest that nobody keeps up no build is known.
func versionOfRun(aq *Acquirer, l *locker.Locker, s *locker.Set) string {
	head, err := aq.inv.Head()
	if err != nil || head.Version == "" {
		return ""
	}
	commands, err := aq.Launched()
	if err != nil {
		return ""
	}
	for _, c := range commands {
		for _, at := range c.Runs(aq.Dir) {
			if v := version.In(path.Base(at)); v != "" && version.Alike(v, head.Version) == version.Same {
				if v := versionOfName(s, at, v); v != "" {
					return v
				}
			}
			now := needs.VersionOf(at, func(at string) (io.ReaderAt, int64, func()) {
				f, err := tree.OpenRegular(aq.Path(at))
				if err != nil {
					return nil, 0, nil
				}
				fi, err := f.Stat()
				if err != nil {
					f.Close()
					return nil, 0, nil
				}
				return f, fi.Size(), func() { f.Close() }
			})
			if version.Alike(now, head.Version) != version.Same {
				continue
			}
			return needs.VersionOf(at, func(at string) (io.ReaderAt, int64, func()) {
				if f := s.Find(at); f != nil && f.Kind == tree.File {
					return l.Content(*f), f.Size, func() {}
				}
				return nil, 0, nil
			})
		}
	}
	return ""
}

// versionOfName is the version in the name of the one file of a build that is named like an installed one, but for the
// version in it.
func versionOfName(s *locker.Set, at, has string) (v string) {
	plain := strings.Replace(path.Base(at), has, "", 1)
	n := 0
	for _, f := range s.Entries {
		if f.Kind != tree.File || path.Dir(f.Path) != path.Dir(at) {
			continue
		}
		if is := version.In(path.Base(f.Path)); is != "" && strings.Replace(path.Base(f.Path), is, "", 1) == plain {
			v, n = is, n+1
		}
	}
	if n != 1 {
		return ""
	}
	return v
}

func jarVersion(path string) string {
	f, err := tree.OpenRegular(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	if fi, err := f.Stat(); err == nil {
		if j, _ := needs.ReadJar(f, fi.Size()); j != nil {
			return j.Version
		}
	}
	return ""
}

// versionInside reads a version from what a build holds: how is [source]
// version. Without a word it is the manifest of the only jar at the top.
func versionInside(l *locker.Locker, s *locker.Set, how string) string {
	kind, at, _ := strings.Cut(how, ":")
	ver, jars := "", 0
	for _, f := range s.Entries {
		if f.Kind != tree.File {
			continue
		}
		switch {
		case kind == "file" && f.Path == at && f.Size < 1<<20:
			b := make([]byte, f.Size)
			if _, err := l.Content(f).ReadAt(b, 0); err == nil {
				return version.InText(string(b))
			}
		case (kind == "" || kind == "jar") && strings.HasSuffix(f.Path, ".jar") &&
			(f.Path == at || (at == "" && !strings.Contains(f.Path, "/"))):
			jars++
			if j, _ := needs.ReadJar(l.Content(f), f.Size); j != nil {
				ver = j.Version
			}
		}
	}
	if jars != 1 {
		return ""
	}
	return ver
}
