package lessons

import (
	"cmp"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/tree"
)

// Away is a folder outside of the install in which the server writes.
type Away struct {
	Folder string `json:"folder"`
	Name   string `json:"name"` // that the folder could have under [elsewhere]
	File   string `json:"file"` // one of those that it writes there
}

// mostAway bounds how many folders are told, and homeEntries how much of a home is looked at.
const mostAway, homeEntries = 4, 5000

// notData are places in which nothing of a server's own data lies.
var notData = regexp.MustCompile(`^/(dev|proc|sys|run|tmp|var/(tmp|log|run|lib/systemd)|usr|etc|opt/java)(/|$)`)

// inHome are folders of a home in which each program has one of its own.
var inHome = regexp.MustCompile(`^(\.local/share|\.local/state|\.config|Library/Application Support|AppData/(Roaming|Local)|Documents|Games|My Games)$`)

// passingHome are folders of a home that hold nothing worth keeping, or that many programs write to.
var passingHome = regexp.MustCompile(`^\.?(cache|java|npm|m2|gradle|cargo|ssh|gnupg|pki|dbus|mozilla|thumbnails|nv|lesshst|config|local)$`)

// Away finds folders outside of the install in which the running server writes: what its processes have open for
// writing, and what was written since its start in a folder of a program's in the home that it was given.
func (b *Book) Away() (out []Away) {
	st := b.Host().Status()
	if !st.Running || st.Silent {
		return nil
	}
	home := ""
	for _, kv := range b.ServerEnv() {
		if value, is := strings.CutPrefix(kv, "HOME="); is {
			home = tree.Real(value)
		}
	}
	dir := tree.Real(b.Dir)
	add := func(at string) {
		folder := filepath.Dir(at)
		if own := ownFolder(home, at); own != "" {
			folder = own
		}
		if tree.Inside(dir, at) || tree.Inside(b.Home, at) || tree.Inside(folder, dir) || folder == home ||
			strings.Count(filepath.ToSlash(folder), "/") < 2 || len(out) == mostAway {
			return
		}
		for _, known := range b.Profile.Elsewhere {
			if tree.Inside(tree.Real(known), at) {
				return
			}
		}
		if slices.ContainsFunc(out, func(a Away) bool { return tree.Inside(a.Folder, folder) }) {
			return
		}
		name := strings.Trim(regexp.MustCompile(`[^A-Za-z0-9_-]+`).ReplaceAllString(filepath.Base(folder), "-"), "-")
		out = append(out, Away{Folder: folder, Name: cmp.Or(name, "outside"), File: at})
	}
	used := host.Used(st.Processes)
	for _, at := range sorted(used) {
		fi, err := os.Stat(at)
		if u := used[at]; u.Writes && !u.Says && err == nil && fi.Mode().IsRegular() && !notData.MatchString(filepath.ToSlash(at)) {
			add(at)
		}
	}
	if home != "" && home != "/" && !tree.Inside(home, dir) { // a home that the install lies in has much else in it
		for _, at := range writtenIn(home, st.Since) {
			add(at)
		}
	} else if home != "" {
		for _, at := range writtenIn(home, st.Since) {
			if ownFolder(home, at) != "" {
				add(at)
			}
		}
	}
	return out
}

func sorted(used map[string]host.Use) (out []string) {
	for at := range used {
		out = append(out, at)
	}
	slices.Sort(out)
	return out
}

// ownFolder is a program's own folder in a home, of which a file is; "" for none.
func ownFolder(home, at string) string {
	if home == "" || !tree.Inside(home, at) || at == home {
		return ""
	}
	parts := strings.Split(filepath.ToSlash(tree.Rel(home, at)), "/")
	for n := 2; n > 0; n-- {
		if len(parts) > n+1 && inHome.MatchString(strings.Join(parts[:n], "/")) {
			return filepath.Join(home, filepath.Join(parts[:n+1]...))
		}
	}
	if len(parts) > 1 && strings.HasPrefix(parts[0], ".") && !passingHome.MatchString(parts[0]) {
		return filepath.Join(home, parts[0])
	}
	return ""
}

// writtenIn finds files in programs' own folders of a home that were written since then.
func writtenIn(home string, since time.Time) (out []string) {
	n := 0
	filepath.WalkDir(home, func(at string, d fs.DirEntry, err error) error {
		if n++; err != nil || n > homeEntries {
			if n > homeEntries {
				return filepath.SkipAll
			}
			return nil
		}
		rel := filepath.ToSlash(tree.Rel(home, at))
		deep := strings.Count(rel, "/")
		if d.IsDir() {
			if at != home && (deep > 5 || deep == 0 && !strings.HasPrefix(rel, ".") && !inHome.MatchString(rel) || rel == ".cache") {
				return filepath.SkipDir
			}
			return nil
		}
		if ownFolder(home, at) == "" {
			return nil
		}
		if fi, err := d.Info(); err == nil && fi.Mode().IsRegular() && !fi.ModTime().Before(since) {
			out = append(out, at)
		}
		return nil
	})
	return out
}
