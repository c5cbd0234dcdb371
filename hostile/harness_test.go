//go:build linux

// Package hostile drives the built program against whoever means harm, and against
// machines that fail: the tests of the trade. What they need and do not find (root,
// a loop device, a maker of file systems) they say in the reason of a skip.
package hostile

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	if pair := os.Getenv(exchangeWord); pair != "" {
		exchangeForEver(pair)
	}
	if report := os.Getenv(stiWord); report != "" {
		typeAtTerminals(report)
		os.Exit(0)
	}
	os.Exit(proving.Main(m, nil))
}

func TestResultsGoWithTheProgram(t *testing.T) { proving.GoWithProgram(t) }

// long is how long a race is run: a few seconds, or what the environment says.
func long(t *testing.T) time.Duration {
	if s := os.Getenv("FRESHKEEL_HOSTILE_TIME"); s != "" {
		d, err := time.ParseDuration(s)
		require.NoError(t, err)
		return d
	}
	return 700 * time.Millisecond
}

// user is one who is neither root nor anybody else here.
const user = 54321

func asRoot(t *testing.T) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can become others, mount and give files away")
	}
}

// pond is an install of a small server that a shell runs, and what is beside it.
type pond struct {
	t                  *testing.T
	dir, install, home string
	program            string // which is run
	env                []string
}

const script = `#!/bin/sh
echo "pond server 1.0"; echo ready; date +%N >> world/log.dat
while read line; do [ "$line" = quit ] && exit 0; done
`

const profileText = `[server]
name = "pond"
keep = ["world/**", "members.txt"]
[launch]
script = "run.sh"
[stop]
send = "quit"
wait = "2s"
terminate = "1s"
[ready]
line = '^ready'
within = "10s"
steady = "50ms"
`

func newPond(t *testing.T) *pond { return pondIn(t, t.TempDir()) }

func pondIn(t *testing.T, dir string) *pond {
	t.Helper()
	p := &pond{t: t, program: proving.Binary, dir: dir, install: filepath.Join(dir, "srv"),
		home: filepath.Join(dir, "home")}
	p.env = append(os.Environ(), "FRESHKEEL_HOME="+p.home, "NO_COLOR=1")
	p.put("srv/run.sh", script)
	p.put("srv/freshkeel.toml", profileText)
	p.put("srv/members.txt", "Ada\n")
	for i := range 12 {
		p.put(fmt.Sprintf("srv/world/%d/map.dat", i), strings.Repeat(fmt.Sprint("pond ", i, "\n"), 400*(i+1)))
		p.put(fmt.Sprintf("srv/lib/%d.dat", i), strings.Repeat(fmt.Sprint("lib ", i, "\n"), 100))
	}
	p.put("next-2.0/run.sh", strings.Replace(script, "1.0", "2.0", 1))
	for i := range 12 {
		p.put(fmt.Sprintf("next-2.0/lib/%d.dat", i), strings.Repeat(fmt.Sprint("lib two ", i, "\n"), 120))
	}
	t.Cleanup(func() {
		p.run("stop")
		for end := time.Now().Add(5 * time.Second); len(p.processes()) > 0 && time.Now().Before(end); {
			time.Sleep(20 * time.Millisecond)
		}
		for _, pid := range p.processes() {
			syscall.Kill(pid, syscall.SIGKILL)
		}
	})
	return p
}

// processes lists those that work in the pond's folder.
func (p *pond) processes() (pids []int) {
	links, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, l := range links {
		if cwd, err := os.Readlink(l); err == nil && strings.HasPrefix(cwd, p.dir) {
			var pid int
			fmt.Sscanf(l, "/proc/%d/cwd", &pid)
			pids = append(pids, pid)
		}
	}
	return pids
}

func (p *pond) put(at, body string) {
	p.t.Helper()
	full := filepath.Join(p.dir, at)
	mode := os.FileMode(0o644)
	if strings.HasSuffix(at, ".sh") {
		mode = 0o755
	}
	require.NoError(p.t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(p.t, os.WriteFile(full, []byte(body), mode))
}

func (p *pond) at(elem ...string) string { return filepath.Join(append([]string{p.dir}, elem...)...) }

// ran is what came of one command.
type ran struct {
	out  string // both outputs
	code int
	took time.Duration
	peak int64 // KiB
}

// run runs a command over the install; none may take longer than a minute.
func (p *pond) run(args ...string) ran {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, p.program, append([]string{"-d", p.install}, args...)...)
	cmd.Env, cmd.Dir = p.env, p.dir
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	began := time.Now()
	cmd.Run()
	if ctx.Err() != nil {
		p.t.Errorf("freshkeel %s hangs", strings.Join(args, " "))
	}
	r := ran{out: out.String(), code: cmd.ProcessState.ExitCode(), took: time.Since(began)}
	if u, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		r.peak = u.Maxrss
	}
	return r
}

func (p *pond) ok(args ...string) string {
	p.t.Helper()
	r := p.run(args...)
	require.Zero(p.t, r.code, "freshkeel %s\n%s", strings.Join(args, " "), r.out)
	return r.out
}

// giveTo makes a user the owner of everything of the pond.
func (p *pond) giveTo(uid int) {
	p.t.Helper()
	for d := p.dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(p.t, os.Chmod(d, 0o755))
	}
	require.NoError(p.t, os.MkdirAll(p.home, 0o700))
	require.NoError(p.t, exec.Command("chown", "-R", fmt.Sprintf("%d:%d", uid, uid), p.dir).Run())
}

// tree is every file below a folder, ours aside, by its path: its content.
func tree(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(at string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.Name() == ".freshkeel" || d.Name() == "lost+found" {
			return filepath.SkipDir
		}
		rel, _ := filepath.Rel(dir, at)
		switch {
		case d.Type().IsRegular():
			b, err := os.ReadFile(at)
			out[rel] = string(b)
			return err
		case d.Type()&os.ModeSymlink != 0:
			to, _ := os.Readlink(at)
			out[rel] = "→ " + to
		default:
			out[rel] = d.Type().String()
		}
		return nil
	}))
	return out
}
