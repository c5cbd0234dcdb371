//go:build unix

package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"flag"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"freshkeel"
	"freshkeel/demo"

	"github.com/stretchr/testify/require"
)

// binary is the program under test, built once.
var binary string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "freshkeel-test-")
	if err != nil {
		panic(err)
	}
	os.Chmod(dir, 0o755) // root's tests become other users, who run it too
	binary = filepath.Join(dir, "freshkeel")
	build := exec.Command("go", "build", "-o", binary, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	// Other ways to build the program under test: "-race", say, or "-cover"
	// with GOCOVERDIR set.
	if how := os.Getenv("FRESHKEEL_TEST_BUILD"); how != "" {
		build = exec.Command("go", "build", how, "-coverpkg=freshkeel/...", "-o", binary, ".")
		if how == "-race" {
			build = exec.Command("go", "build", how, "-o", binary, ".")
		}
	}
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build the program: %v\n%s", err, out)
		os.Exit(1)
	}
	// These tests wait for servers far more than they work.
	flag.Parse()
	if f := flag.Lookup("test.parallel"); f.Value.String() == f.DefValue {
		f.Value.Set("8")
	}
	if f := flag.Lookup("test.run"); f.Value.String() == "" {
		go s3Program() // it takes long: meanwhile the others run
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// place is one install under test with all that it needs.
type place struct {
	t       *testing.T
	dir     string
	install string
	home    string
	port    int
	harbour *demo.Harbour
	env     []string
	shell   string // what a shell does first, with "&&" behind it
}

var nextPort atomic.Int32

// freePort gives every test a port of its own, below those that the system
// hands out by itself.
func freePort(t *testing.T) int {
	for range 2000 {
		port := 20000 + int(nextPort.Add(1))
		if c, err := net.ListenPacket("udp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			c.Close()
			return port
		}
	}
	t.Fatal("no free port")
	return 0
}

// quick makes a profile's waits fit for a test.
var quick = strings.NewReplacer("steady = '5s'", "steady = '60ms'", "within = '2m'", "within = '15s'", "wait = '60s'", "wait = '5s'", "terminate = '20s'", "terminate = '2s'")

// bare is a folder with an empty install, for tests that fill it themselves.
func bare(t *testing.T) *place {
	t.Helper()
	dir := t.TempDir()
	p := &place{t: t, dir: dir, install: filepath.Join(dir, "srv"), home: filepath.Join(dir, "home")}
	p.env = append(os.Environ(), "FRESHKEEL_HOME="+p.home, "FRESHKEEL_DEMO_PACE=10", "NO_COLOR=1")
	require.NoError(t, os.MkdirAll(p.install, 0o755))
	t.Cleanup(p.leaveNothing)
	return p
}

// mossgate is the demo harbour, adopted, with the releases given or its own.
func mossgate(t *testing.T, releases ...demo.Release) *place {
	t.Helper()
	if len(releases) == 0 {
		releases = demo.Releases
	}
	p := bare(t)
	require.NoError(t, os.Remove(p.install))
	p.port = freePort(t)
	h, err := demo.Make(p.dir, binary, p.port, releases)
	require.NoError(t, err)
	p.harbour, p.install, p.home = h, h.Install, h.Home
	p.env = append(p.env, "FRESHKEEL_HOME="+h.Home)
	p.ok("adopt", p.install, "--source", "../builds/feed.json", "--build", filepath.Join(h.Builds, "mossgate-"+releases[0].Version+".zip"))
	p.editProfile(func(s string) string { return quick.Replace(s) })
	return p
}

func (p *place) editProfile(edit func(string) string) {
	p.t.Helper()
	path := filepath.Join(p.install, "freshkeel.toml")
	b, err := os.ReadFile(path)
	require.NoError(p.t, err)
	require.NoError(p.t, os.WriteFile(path, []byte(edit(string(b))), 0o644))
}

// giveTo makes another user the owner of everything, as where root looks after a
// game user's server. Only root can.
func (p *place) giveTo(uid int) {
	p.t.Helper()
	if os.Geteuid() != 0 {
		p.t.Skip("only root can give files away")
	}
	for d := p.dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(p.t, os.Chmod(d, 0o755))
	}
	require.NoError(p.t, os.MkdirAll(p.home, 0o700))
	require.NoError(p.t, exec.Command("chown", "-R", fmt.Sprintf("%d:%d", uid, uid), p.dir).Run())
}

// put writes a file of the install; a name that ends in .sh becomes a script.
func (p *place) put(name, body string) {
	p.t.Helper()
	put(p.t, filepath.Join(p.install, name), body)
}

func put(t *testing.T, full, body string) {
	t.Helper()
	mode := os.FileMode(0o644)
	if strings.HasSuffix(full, ".sh") {
		mode = 0o755
	}
	require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(t, os.WriteFile(full, []byte(body), mode))
}

func (p *place) read(name string) string {
	p.t.Helper()
	b, err := os.ReadFile(filepath.Join(p.install, name))
	require.NoError(p.t, err)
	return string(b)
}

// ran is what came of one command.
type ran struct {
	out, err string
	code     int
}

// limit bounds every command of a test: none may hang.
const limit = 60 * time.Second

func (p *place) command(args ...string) *exec.Cmd {
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	p.t.Cleanup(cancel)
	if args[0] != "adopt" && args[0] != "feed" {
		args = append([]string{"-d", p.install}, args...)
	}
	cmd := exec.CommandContext(ctx, binary, args...)
	if p.shell != "" {
		cmd = exec.CommandContext(ctx, "/bin/sh", append([]string{"-c", p.shell + `exec "$0" "$@"`, binary}, args...)...)
	}
	cmd.Env = p.env
	cmd.Dir = p.dir
	return cmd
}

func (p *place) run(args ...string) ran { return p.runWith(nil, args...) }

func (p *place) runWith(env []string, args ...string) ran {
	p.t.Helper()
	cmd := p.command(args...)
	cmd.Env = append(cmd.Env, env...)
	var out, errb bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errb
	cmd.Run()
	return ran{out.String(), errb.String(), cmd.ProcessState.ExitCode()}
}

// ok runs a command that must succeed.
func (p *place) ok(args ...string) ran {
	p.t.Helper()
	return p.exits(exitDone, args...)
}

// exits runs a command that must end with a given exit code.
func (p *place) exits(code int, args ...string) ran {
	p.t.Helper()
	r := p.run(args...)
	require.Equal(p.t, code, r.code, "freshkeel %s\n%s%s", strings.Join(args, " "), r.out, r.err)
	return r
}

// status asks for the status as JSON.
func (p *place) status() (s freshkeel.Status) {
	p.t.Helper()
	require.NoError(p.t, json.Unmarshal([]byte(p.run("--json", "status").out), &s))
	return s
}

func (p *place) entries() []*freshkeel.Entry {
	p.t.Helper()
	var l struct{ Entries []*freshkeel.Entry }
	require.NoError(p.t, json.Unmarshal([]byte(p.ok("--json", "logbook").out), &l))
	return l.Entries
}

func (p *place) lastEntry() *freshkeel.Entry {
	p.t.Helper()
	all := p.entries()
	require.NotEmpty(p.t, all)
	return all[len(all)-1]
}

// tree is every file of the install but .freshkeel and logs, by path: mode and
// content. The port, which differs between tests, is evened out.
func (p *place) tree() map[string]string {
	p.t.Helper()
	out := map[string]string{}
	require.NoError(p.t, filepath.WalkDir(p.install, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(p.install, path)
		if d.Name() == ".freshkeel" || rel == "logs" {
			return filepath.SkipDir
		}
		fi, err := d.Info()
		if err != nil {
			return err
		}
		what := fi.Mode().String()
		if fi.Mode()&fs.ModeSymlink != 0 {
			to, _ := os.Readlink(path)
			what += " → " + to
		}
		if fi.Mode().IsRegular() {
			b, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			if p.port != 0 && strings.HasSuffix(rel, ".conf") || strings.HasSuffix(rel, ".toml") {
				b = bytes.ReplaceAll(b, fmt.Append(nil, p.port), []byte("PORT"))
			}
			sum := sha256.Sum256(b)
			what += " " + hex.EncodeToString(sum[:8])
		}
		out[rel] = what
		return nil
	}))
	return out
}

// leaveNothing ends what the test left running, and fails it when something
// can't be ended.
func (p *place) leaveNothing() {
	if _, err := os.Stat(filepath.Join(p.install, "freshkeel.toml")); err != nil {
		return
	}
	r := p.run("stop")
	if r.code != 0 {
		p.t.Logf("stop at the end: exit %d\n%s%s", r.code, r.out, r.err)
	}
	// A minder may need another moment to end after its server has.
	for end := time.Now().Add(5 * time.Second); len(processesIn(p.dir)) > 0 && time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
	}
	for _, pid := range processesIn(p.dir) {
		p.t.Errorf("process %d is left running", pid)
		syscall.Kill(pid, syscall.SIGKILL)
	}
}

// processesIn lists the processes whose working folder lies in dir.
func processesIn(dir string) (pids []int) {
	links, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, l := range links {
		if cwd, err := os.Readlink(l); err == nil && strings.HasPrefix(cwd, dir) {
			var pid int
			fmt.Sscanf(l, "/proc/%d/cwd", &pid)
			pids = append(pids, pid)
		}
	}
	return pids
}

// outside starts a script of the install as an operator would, without Fresh
// Keel; its whole group ends with the test.
func (p *place) outside(script string) *exec.Cmd {
	p.t.Helper()
	cmd := exec.Command("sh", script)
	cmd.Dir = p.install
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(p.t, cmd.Start())
	p.t.Cleanup(func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		cmd.Wait()
	})
	return cmd
}

// until waits for something to hold.
func until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(15 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		if holds() {
			return
		}
	}
	t.Fatalf("waited in vain: %s", what)
}
