package server

import (
	"context"
	"encoding/json"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/learn"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// lastLines is how much of a console is read for what it bears out.
const lastLines = 5000

// proveByLast lets the console of the run before bear out rules, where no start was noted
// yet: a run that ended because it was told to had come up.
func (sv *Server) proveByLast(seen *learn.Seen) {
	if !sv.Minded() {
		return
	}
	before := strings.TrimSuffix(sv.RunDir().Console(), ".log") + ".1.log"
	if lines, err := host.Tail(before, lastLines); err == nil && len(lines) > 3 {
		seen.ProveBy(sv.Profile.Ready, printable(lines))
	}
}

// ProveRunning lets the server that runs bear out rules before it is stopped: its console has
// them, and its processes hold its ports.
func (sv *Server) ProveRunning() {
	if len(sv.Profile.Parts) > 0 {
		for _, part := range sv.each() {
			part.ProveRunning()
		}
		return
	}
	st := sv.Host().Status()
	if !st.Running {
		return
	}
	seen := sv.Seen()
	if lines, err := sv.Host().Tail(lastLines); err == nil && len(lines) > 0 {
		seen.ProveBy(sv.Profile.Ready, printable(lines))
	}
	if held := portsOf(st.Processes); len(held) > 0 {
		seen.Held(sv.Profile.Ready, held)
	}
	if err := seen.Write(sv.seenFile()); err != nil {
		sv.Note("%v", err)
	}
}

// Heard notes that what is installed is known by the server's own words alone.
func (sv *Server) Heard(version string) error {
	seen := sv.Seen()
	seen.Heard = version
	return seen.Write(sv.seenFile())
}

func printable(lines []string) []string {
	for i := range lines {
		lines[i] = words.Printable(lines[i])
	}
	return lines
}

// followLog calls each with the lines that the profile's log gets from a start on, over
// rotation and over files that come anew, until ctx ends.
func (sv *Server) followLog(ctx context.Context, each func(string)) {
	pattern := sv.Profile.Ready.Log
	root, err := tree.OpenRoot(sv.Dir)
	if err != nil {
		return
	}
	defer root.Close()
	read, before := map[string]*logTail{}, learn.ReadMarks(sv.marksFile())
	for {
		for _, name := range logFiles(root, pattern) {
			t := read[name]
			if t == nil {
				t = &logTail{name: name, at: before[name]}
				read[name] = t
			}
			t.more(root, each)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(portPause):
		}
	}
}

func (sv *Server) marksFile() string { return filepath.Join(string(sv.RunDir()), learn.MarksFile) }

// markLog notes how long the log is before the server starts: what stands in it is of
// another run. Where no good start was seen yet, it notes that of every log: one of them may
// turn out to be what the server speaks in.
func (sv *Server) markLog() error {
	marks := map[string]int64{}
	if sv.Profile.Ready.Log == "" {
		if sv.Seen().Starts > 0 {
			return nil
		}
		list, err := tree.Walk(sv.Dir, nil)
		if err != nil {
			return err
		}
		for _, e := range list {
			if e.Kind == tree.File && learn.IsLog(e.Path) {
				marks[e.Path] = e.Size
			}
		}
	} else {
		root, err := tree.OpenRoot(sv.Dir)
		if err != nil {
			return err
		}
		defer root.Close()
		for _, name := range logFiles(root, sv.Profile.Ready.Log) {
			if e, ok, err := root.Describe(name); err == nil && ok {
				marks[name] = e.Size
			}
		}
	}
	b, err := json.Marshal(marks)
	if err != nil {
		return err
	}
	if err := tree.MakeDirs(string(sv.RunDir()), 0o700); err != nil {
		return err
	}
	return tree.WriteFile(sv.marksFile(), b, 0o600)
}

// MarkLogs is markLog for a server that is down and that somebody else may start, at a boot say.
func (sv *Server) MarkLogs() error {
	for _, part := range sv.each() {
		if part.Outside() || part.Host().Status().Running {
			continue
		}
		if err := part.markLog(); err != nil {
			return err
		}
	}
	return nil
}

// logFiles are the files of the install that a log's pattern names: in one folder.
func logFiles(root *tree.Root, pattern string) (out []string) {
	if !strings.ContainsAny(pattern, "*?[{") {
		return []string{pattern}
	}
	dir := path.Dir(pattern)
	names, err := root.Names(strings.TrimSuffix(dir+"/", "./"))
	if err != nil {
		return nil
	}
	for _, n := range names {
		if at := path.Join(dir, n); (tree.Patterns{pattern}).Match(at) {
			out = append(out, at)
		}
	}
	return out
}

// logTail is how far a log was read.
type logTail struct {
	name string
	f    *os.File
	at   int64
	text words.Lines
}

// more reads what a log got since, and begins anew where it was cut short or another took
// its place.
func (t *logTail) more(root *tree.Root, each func(string)) {
	if t.f != nil {
		t.read(each)
	}
	f, err := root.Open(t.name)
	if err != nil {
		return
	}
	fi, err := f.Stat()
	if err != nil || !fi.Mode().IsRegular() {
		f.Close()
		return
	}
	if t.f == nil {
		t.f = f
	} else if old, err := t.f.Stat(); err != nil || !os.SameFile(old, fi) {
		t.f.Close()
		t.f, t.at = f, 0
		t.text.Drop()
	} else {
		f.Close()
	}
	if fi.Size() < t.at {
		t.at = 0
		t.text.Drop()
	}
	t.read(each)
}

// mostAtOnce bounds what is read of a log in one look, in bytes.
const mostAtOnce = 4 << 20

func (t *logTail) read(each func(string)) {
	if _, err := t.f.Seek(t.at, io.SeekStart); err != nil {
		return
	}
	b := make([]byte, 64<<10)
	for in := io.LimitReader(t.f, mostAtOnce); ; {
		n, err := in.Read(b)
		t.at += int64(n)
		t.text.Add(b[:n], each)
		if err != nil {
			return
		}
	}
}
