package acquire

import (
	"strings"

	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
)

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
