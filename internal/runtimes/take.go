package runtimes

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/launch"
	"freshkeel/internal/needs"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/words"
)

// startLimit bounds how long a runtime that is taken in may need to start.
const startLimit = 30 * time.Second

// TakeFrom is the archive at a path or URL; digest, "sha256:HEX" say, may be "".
func (rk *Rack) TakeFrom(ctx context.Context, where, digest string) (rt *needs.Runtime, there bool, err error) {
	w := fetch.Wanted{URL: where, Archive: true}
	if digest != "" {
		name, value, _ := strings.Cut(digest, ":")
		if !strings.Contains(digest, ":") {
			name, _, _ = strings.Cut(digest, "-")
			value = digest
		}
		value, err := fetch.Digest(name, value)
		if err != nil {
			return nil, false, tell.Misuse(err.Error(), "write it as sha256:HEX")
		}
		w.Digests = map[string]string{name: value}
	}
	if !fetch.IsURL(where) {
		if w.URL, err = filepath.Abs(where); err != nil {
			return nil, false, err
		}
	}
	return rk.Take(ctx, w, profile.Source{})
}

// Take takes a Java runtime in from an archive that is wanted: downloaded by the rules of
// a source, opened, started once, and moved into place.
func (rk *Rack) Take(ctx context.Context, w fetch.Wanted, from profile.Source) (rt *needs.Runtime, there bool,
	err error) {
	where := w.URL
	dir, unlock, err := rk.ownRuntimes()
	if err != nil {
		return nil, false, err
	}
	defer unlock()
	work, err := os.MkdirTemp(dir, ".taking-")
	if err != nil {
		return nil, false, err
	}
	defer os.RemoveAll(work)
	if _, err = rk.Step("fetch", func() (string, error) {
		v, err := rk.res.Client(from).Download(ctx, w, filepath.Join(work, "archive.part"), rk.Moves("fetch"))
		if err != nil {
			return "", resolve.Denied(err)
		}
		if len(v.By) == 0 && fetch.IsURL(where) {
			rk.Warn("nothing vouches for %s: give its digest with --digest sha256:HEX", fetch.NameOf(where))
		}
		return words.Bytes(v.Size), layOut(ctx, v, work)
	}); err != nil {
		return nil, false, err
	}
	if _, err = rk.Step("try", func() (string, error) {
		if rt, err = tryRuntime(ctx, filepath.Join(work, "tree")); err != nil {
			return "", err
		}
		return "Java " + rt.Version + " starts here", nil
	}); err != nil {
		return nil, false, err
	}
	name := "java-" + strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\: `, r) {
			return '-'
		}
		return r
	}, rt.Version)
	to := filepath.Join(dir, name)
	if _, err := os.Stat(to); err == nil {
		there = true
	} else if err := tree.Rename(rt.Home, to); err != nil {
		return nil, false, err
	} else if err := tree.SyncDir(dir); err != nil {
		return nil, false, err
	}
	rt, err = needs.ReadRuntime(ctx, filepath.Join(to, "bin", filepath.Base(rt.Path)))
	return rt, there, err
}

// ownRuntimes is the folder of the runtimes that were taken in, held against
// other commands that change it.
func (rk *Rack) ownRuntimes() (dir string, unlock func(), err error) {
	dir = filepath.Join(rk.Home, "runtimes")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", nil, err
	}
	// Servers run as the owner of their install, who has to reach it; what else
	// stands in this home is closed by itself.
	if fi, err := os.Stat(rk.Home); err == nil {
		os.Chmod(rk.Home, fi.Mode()|0o011)
	}
	lock := tree.NewLock(filepath.Join(dir, ".lock"))
	if ok, err := lock.TryLock(); err != nil || !ok {
		return "", nil, tell.Advise(errors.New("another command is changing the runtimes"), "wait for it to end")
	}
	// Files that a killed command left are of no use to anybody.
	left, _ := filepath.Glob(filepath.Join(dir, ".taking-*"))
	for _, l := range left {
		os.RemoveAll(l)
	}
	return dir, func() { lock.Unlock() }, nil
}

// layOut opens a runtime's archive into work/tree. Its names have been checked,
// and none lies behind a link, so that each can be written where it says.
func layOut(ctx context.Context, v *fetch.Verified, work string) error {
	at := func(p string) string { return filepath.Join(work, "tree", filepath.FromSlash(p)) }
	_, err := unpack.Unpacked(ctx, v, unpack.Rule{}, work, func(it unpack.Item) error {
		full := at(it.Path)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return err
		}
		switch {
		case it.Mode.IsDir():
			return os.MkdirAll(full, 0o755)
		case it.Mode&fs.ModeSymlink != 0:
			return os.Symlink(it.Target, full)
		}
		f, err := os.OpenFile(full, os.O_CREATE|os.O_EXCL|os.O_WRONLY, it.Mode.Perm()|0o600)
		if err != nil {
			return err
		}
		_, err = io.Copy(f, it.Body)
		return errors.Join(err, f.Sync(), f.Close())
	})
	return err
}

// tryRuntime finds the Java program of an opened archive, at its top or in its
// only folder, and starts it.
func tryRuntime(ctx context.Context, at string) (*needs.Runtime, error) {
	for _, pat := range []string{"bin/java", "*/bin/java", "*/Contents/Home/bin/java", "bin/java.exe",
		"*/bin/java.exe"} {
		found, _ := filepath.Glob(filepath.Join(at, filepath.FromSlash(pat)))
		if len(found) == 0 {
			continue
		}
		if err := within(at, found[0]); err != nil {
			return nil, err
		}
		ctx, cancel := context.WithTimeout(ctx, startLimit)
		defer cancel()
		out, err := exec.CommandContext(ctx, found[0], "-version").CombinedOutput()
		if err != nil {
			said, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n")
			if p, ok := programOf(found[0]); ok && (p.OS != runtime.GOOS || p.Arch != runtime.GOARCH) {
				return nil, tell.Advise(fmt.Errorf("it is a runtime for %s, and this machine is %s/%s", p, runtime.GOOS,
					runtime.GOARCH), "take the archive for this system and processor")
			}
			return nil, tell.Advise(fmt.Errorf("it does not start on this machine: %w: %s", err, said),
				"take the archive for this system and processor")
		}
		rt, err := needs.ReadRuntime(ctx, found[0])
		if err == nil {
			err = within(at, rt.Home)
		}
		return rt, err
	}
	return nil, tell.Advise(errors.New("it holds no bin/java: it is no Java runtime"),
		"take an archive of a runtime (JRE or JDK) for this system")
}

// within refuses what stands, all links followed, outside the folder that the
// archive was opened in: what is taken in is moved, and must be the archive's own.
func within(folder, what string) error {
	real, err := filepath.EvalSymlinks(what)
	if err != nil {
		return err
	}
	if folder, err = filepath.EvalSymlinks(folder); err != nil {
		return err
	}
	if !tree.Inside(folder, real) {
		return tell.Advise(fmt.Errorf("its %s is a link to %s, outside the archive: it is refused", filepath.Base(what),
			real), "take an archive that holds the runtime itself")
	}
	return nil
}

// programOf is what system and processor a program is for.
func programOf(at string) (needs.Program, bool) {
	f, err := tree.OpenRegular(at)
	if err != nil {
		return needs.Program{}, false
	}
	defer f.Close()
	return needs.ReadProgram(f)
}

// Drop removes a runtime that was taken in, unless a server's launch
// script runs it, or that of a backup does, which is needed to go back: anyway drops it
// all the same. name is that of its folder, or its version; needed lists the backups of an
// install whose launch script runs something in a folder.
func (rk *Rack) Drop(name string, anyway bool, needed func(dir, folder string) (backups []string)) (path string,
	err error) {
	dir, unlock, err := rk.ownRuntimes()
	if err != nil {
		return "", err
	}
	defer unlock()
	list, err := os.ReadDir(dir)
	if err != nil {
		return "", err
	}
	var have []string
	for _, d := range list {
		if !d.IsDir() || strings.HasPrefix(d.Name(), ".") {
			continue
		}
		if d.Name() == name || d.Name() == "java-"+name {
			path = filepath.Join(dir, d.Name())
		}
		have = append(have, d.Name())
	}
	if path == "" {
		return "", tell.Misuse(fmt.Sprintf("no runtime %q was taken in; these were: %s", name,
			cmp.Or(strings.Join(have, ", "), "none")), "freshkeel runtimes")
	}
	for _, at := range rk.Servers() {
		if line := UsedBy(at, path, rk.Env); line != "" {
			return "", tell.Advise(fmt.Errorf("%s is in use: %s runs it", filepath.Base(path), line),
				"let that server run another one first")
		}
		if by := needed(at, path); len(by) > 0 && !anyway {
			return "", tell.Advise(
				fmt.Errorf("%s is needed to go back: the launch script of %s runs it in %s: %s",
					filepath.Base(path), at, words.Plural(len(by), "backup"), words.Some(by, 4)),
				fmt.Sprintf(
					"keep it for as long as those are kept; or, where they are not wanted back: freshkeel runtimes "+
						"drop %s --anyway",
					filepath.Base(path),
				),
			)
		}
	}
	gone := filepath.Join(dir, ".taking-dropped")
	if err := tree.Rename(path, gone); err != nil { // at once, and swept if this is killed
		return "", err
	}
	return path, os.RemoveAll(gone)
}

// UsedBy names the line of an install's launch script that runs something
// in a folder; "" for none.
func UsedBy(dir, folder string, env []string) string {
	p, err := profile.Read(dir)
	if err != nil || p.Launch.Script == "" {
		return ""
	}
	lines, _ := launch.Read(dir, p.Launch.Script, env)
	for _, c := range lines {
		if real, err := filepath.EvalSymlinks(c.Path); err == nil && c.Path != "" &&
			(tree.Inside(folder, real) || tree.Inside(folder, c.Path)) {
			return fmt.Sprintf("%s, line %d", filepath.Join(dir, filepath.FromSlash(c.File)), c.Line)
		}
	}
	return ""
}
