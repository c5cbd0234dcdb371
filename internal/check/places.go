package check

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"

	"github.com/shirou/gopsutil/v4/disk"
)

// checkOpen finds programs that have files of the install open: a copy under
// way, an editor, a viewer of its database.
func checkOpen(_ context.Context, s *situation) (out []Finding) {
	level, why := Warn, "it goes on with the file that was there, and may write into what is no longer used"
	if !host.OpenIsFree {
		level, why = Stop, "Windows lets nobody rename a file that another program has open"
	}
	touched := map[string]bool{}
	for _, st := range s.plan.Steps {
		touched[st.Path] = true
	}
	open, folders := host.OpenElsewhere(s.k.Dir, s.status), map[string]string{"": s.realDir()}
	for name, folder := range s.k.Profile.Elsewhere {
		open = append(open, host.OpenElsewhere(folder, s.status)...)
		folders[name] = tree.Real(folder)
	}
	rel := func(full string) (at string) {
		for name, folder := range folders {
			if tree.Inside(folder, full) {
				at = path.Join(name, tree.Rel(folder, full))
			}
		}
		return at
	}
	for _, h := range open {
		var files []string
		for _, full := range h.Files {
			if at := rel(full); !s.k.Profile.Server.Skip.Match(at) &&
				(touched[at] || s.k.Profile.Server.Own(at)) {
				files = append(files, at)
			}
		}
		if len(files) > 0 {
			out = append(out, Finding{Level: level,
				What: fmt.Sprintf("process %d has %s open: %s", h.PID, words.Plural(len(files), "file"),
					words.Some(files, 3)),
				Where: fmt.Sprintf("%s, user %s, since %s", h.Command, h.User, h.Since.Format("2006-01-02 15:04:05")),
				Why:   why, Do: "let it end first, or end it"})
		}
	}
	if out == nil {
		return ok("no other program has a file open that matters")
	}
	return out
}

// realDir is the install's folder without links on the way, as the system names
// it.
func (s *situation) realDir() string {
	if real, err := filepath.EvalSymlinks(s.k.Dir); err == nil {
		return real
	}
	return s.k.Dir
}

// checkFrozen finds files and folders that their file system lets nobody touch.
func checkFrozen(_ context.Context, s *situation) (out []Finding) {
	looked := 0
	look := func(at string) {
		looked++
		if how := tree.Frozen(s.k.Path(at)); how != "" {
			out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s is %s", cmp.Or(at, s.k.Dir), how),
				Where: s.k.Path(at),
				Why:   "its file system lets nobody exchange it, whoever asks",
				Do:    fmt.Sprintf("chattr -ia %s, if whoever set that agrees", s.k.Path(at))})
		}
	}
	seen := map[string]bool{} // folders
	for _, st := range s.plan.Steps {
		if st.Do == swap.Replace || st.Do == swap.Remove {
			look(st.Path)
		}
		for dir := filepath.ToSlash(filepath.Dir(st.Path)); ; dir = filepath.ToSlash(filepath.Dir(dir)) {
			if seen[dir] { // and all above it
				break
			}
			seen[dir] = true
			if dir == "." {
				look("")
				break
			}
			if s.ahead.Before.At(dir).Kind == tree.Dir {
				look(dir)
			}
		}
	}
	if out == nil && looked > 0 && host.HasFrozen {
		return ok("none of %d paths that are touched is immutable", looked)
	}
	return out
}

// checkStrangers finds files that can't be backed up or that the server can't
// write to, because they are another user's.
func checkStrangers(_ context.Context, s *situation) (out []Finding) {
	top, _, err := tree.Describe(s.k.Dir, "")
	if err != nil {
		return nil
	}
	var closed, others []string
	for _, e := range s.ahead.Before {
		at := e.Path
		switch {
		case e.Kind == tree.Link:
		case os.Geteuid() != 0 && tree.Readable(s.k.Path(at)) != nil:
			closed = append(closed, at)
		case e.UID != top.UID:
			others = append(others, at)
		}
	}
	if len(closed) > 0 {
		out = append(out, Finding{Level: Stop,
			What:  fmt.Sprintf("%s can't be read: %s", words.Plural(len(closed), "path"), words.Some(closed, 3)),
			Where: s.k.Dir,
			Why:   "what can't be read can't be backed up, and so not be put back",
			Do:    fmt.Sprintf("run as the install's owner; or: sudo chown -R %s", chownWord(top, s.k.Dir))})
	}
	if len(others) > 0 {
		out = append(out, Finding{Level: Warn,
			What: fmt.Sprintf("%s not the install's owner's: %s", words.Is(len(others), "path"),
				words.Some(others, 3)),
			Where: s.k.Dir,
			Why:   "the server can't write to them, should it want to", Do: "chown -R " + chownWord(top, s.k.Dir)})
	}
	if out == nil {
		return ok("all of the install is its owner's, and can be read")
	}
	return out
}

func chownWord(top tree.Entry, dir string) string {
	return fmt.Sprintf("%d:%d %s", top.UID, top.GID, words.Shell(dir))
}

// manyFiles is below what a server with a large world can do with, from
// experience: each region file that is loaded stays open.
const manyFiles = 1024

// checkLimits holds the number of files that the server may have open against
// what the running one has: by the unit of a service, else by what this command may.
func checkLimits(_ context.Context, s *situation) (out []Finding) {
	own := false
	for _, part := range s.k.Parts() {
		if part.Outside() {
			continue
		}
		sv := part.Service()
		if sv == nil {
			f := limitOf(part, host.OpenFileLimit(), "a server started from here", "limit of open files (ulimit -n)",
				"ulimit -n %d before freshkeel, or raise it for good in /etc/security/limits.d")
			if !own || len(f) > 0 && f[0].Level != OK { // it is one limit for all of them
				out = append(out, f...)
			}
			own = true
		} else if u, err := sv.Unit(); err == nil {
			out = append(out, limitOf(part, u.Files, "its service", u.Name+", LimitNOFILE",
				"LimitNOFILE=%d by: systemctl "+userFlag(u)+"edit "+u.Name)...)
		}
	}
	return out
}

// limitOf holds one part of a server against how many files it may have open. who may have so
// many, and mend is what raises that to a number.
func limitOf(part *install.Install, limit int, who, where, mend string) []Finding {
	if limit == 0 {
		return nil
	}
	most := 0
	if st := part.Host().Status(); st.Running {
		most = host.MostOpen(st.Processes)
	}
	f := Finding{Level: Warn, Where: where, Do: fmt.Sprintf(mend, max(4096, 4*most))}
	switch {
	case most*5 > limit*4:
		f.What = fmt.Sprintf("the server has %d files open, and %s may have %d", most, who, limit)
		f.Why = "a server that can't open one more file loses what it wanted to write"
	case limit < manyFiles:
		f.What = fmt.Sprintf("%s may have %d files open, which is few", who, limit)
		f.Why = "servers keep the files of their world open, and lose what they can't write"
	default:
		return ok("%d files may be open at once", limit)
	}
	return []Finding{f}
}

// fewLeft is when a file system is as good as full for a log, in bytes.
const fewLeft = 16 << 20

// checkLogs looks whether the server can write where it writes all the time: its
// console log, and the folders that are neither replaced nor backed up.
func checkLogs(_ context.Context, s *situation) (out []Finding) {
	dirs := []string{s.k.State("run")}
	for _, pat := range s.k.Profile.Server.Skip {
		fixed, _, _ := strings.Cut(pat, "*")
		dir := s.k.Path(strings.TrimSuffix(fixed, "/"))
		if fi, err := os.Stat(dir); err == nil && fi.IsDir() && dir != s.k.Dir {
			dirs = append(dirs, dir)
		}
	}
	looked := 0
	for _, dir := range dirs {
		if _, err := os.Stat(dir); err != nil {
			continue // made by the first start
		}
		looked++
		err := tree.Writable(dir)
		if err != nil {
			out = append(out, Finding{Level: Warn, What: fmt.Sprintf("the server can't write to %s: %v", dir, err),
				Where: dir,
				Why:   "some servers end when they can't write their log",
				Do: fmt.Sprintf("mount it writable, or: chown the folder to the install's owner (%s)",
					filepath.Base(dir))})
			continue
		}
		if u, err := disk.Usage(dir); err == nil && (u.Free < fewLeft || (u.InodesTotal > 0 && u.InodesFree < 64)) {
			out = append(out, Finding{Level: Warn,
				What: fmt.Sprintf("%s is on a file system with %s and %d inodes free", dir, words.Bytes(int64(u.Free)),
					u.InodesFree), Where: dir,
				Why: "a server that can't write its log may end, or lose what it would have said",
				Do:  "free space there: old logs first"})
		}
	}
	if out == nil && looked > 0 {
		return ok("%s for logs and caches can be written to", words.Plural(looked, "folder"))
	}
	return out
}
