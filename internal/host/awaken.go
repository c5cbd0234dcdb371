package host

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/tree"
)

// answerAgain makes the run folder anew where somebody took it away, each time that a command asks for it by a
// hangup: the server runs on, and is to be found.
func (m *minder) answerAgain() {
	for range hangups() {
		if _, err := os.Stat(m.dir.file("minder.lock")); err == nil {
			continue // all is there
		}
		if err := m.anew(); err != nil {
			fmt.Fprintf(m.log, "freshkeel: the folder %s could not be made anew: %v\n", m.dir, err)
		}
	}
}

func (m *minder) anew() error {
	if err := tree.MakeDirs(string(m.dir), 0o700); err != nil {
		return err
	}
	m.log.anew.Store(true)
	if _, err := m.lock(); err != nil { // held until this process ends
		return err
	}
	if err := m.dir.noteStart(m.mark); err != nil {
		return err
	}
	l, _, err := m.dir.listen()
	if err != nil {
		return err
	}
	go m.serve(l)
	go func() {
		<-m.gone
		m.talks.Wait()
		l.Close()
	}()
	return nil
}

// awakenLimit is how long a minder may take to make its folder anew.
const awakenLimit = 3 * time.Second

// Awaken finds the server that runs from this install although its run folder is gone, by the mark on its processes:
// its minder, which has the word in its command line, makes the folder anew, and where that is gone too the mark is
// written down again. It tells whether there is such a server.
func (d Dir) Awaken(word string) bool {
	all, err := everyProcess()
	if err != nil {
		return false
	}
	install := tree.Real(d.install())
	var minders []int32
	var s started
	for _, p := range all {
		env, err := p.Environ()
		if err != nil {
			continue
		}
		i := slices.IndexFunc(env, func(kv string) bool { return strings.HasPrefix(kv, markName+"=") })
		cwd, err := p.Cwd()
		if i < 0 || err != nil || !tree.Inside(install, cwd) {
			continue
		}
		if made, err := p.CreateTime(); err == nil && (s.Since.IsZero() || time.UnixMilli(made).Before(s.Since)) {
			s = started{Mark: strings.TrimPrefix(env[i], markName+"="), PID: sessionOf(int(p.Pid)),
				Since: time.UnixMilli(made)}
		}
		for up, err := p.Parent(); err == nil && up != nil && up.Pid > 1; up, err = up.Parent() {
			if args, err := up.CmdlineSlice(); err == nil && len(args) > 1 && args[1] == word &&
				!slices.Contains(minders, up.Pid) {
				minders = append(minders, up.Pid)
			}
		}
	}
	if s.Mark == "" {
		return false
	}
	for _, pid := range minders {
		hangUp(int(pid))
	}
	for end := time.Now().Add(awakenLimit); len(minders) > 0 &&
		time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if d.Status().Running {
			return true
		}
	}
	if len(minders) > 0 || tree.MakeDirs(string(d), 0o700) != nil {
		return false
	}
	return d.noteStart(s) == nil
}
