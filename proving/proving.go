//go:build unix

// Package proving runs the built program on a made-up install in a temporary folder, for
// tests: the Mossgate harbour of package demo, or an empty folder that a test fills.
package proving

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"flag"
	"fmt"
	"hash/fnv"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"freshkeel"
	"freshkeel/demo"

	"github.com/gofrs/flock"
	"github.com/stretchr/testify/require"
)

// Main builds the program and runs the tests of a package. first, which may be nil,
// is called before them.
func Main(m *testing.M, first func()) int {
	dir, err := os.MkdirTemp("", "freshkeel-test-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	os.Chmod(dir, 0o755) // root's tests become other users, who run it too
	Binary = filepath.Join(dir, "freshkeel")
	args := []string{"build", "-o", Binary}
	// Other ways to build the program under test: "-race", say, or "-cover"
	// with GOCOVERDIR set.
	switch how := os.Getenv("FRESHKEEL_TEST_BUILD"); how {
	case "":
	case "-race":
		args = append(args, how)
	default:
		args = append(args, how, "-coverpkg=freshkeel/...")
	}
	build := exec.Command("go", append(args, "freshkeel/cmd/freshkeel")...)
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if other := os.Getenv("FRESHKEEL_TEST_PROGRAM"); other != "" { // an earlier one, to see a test fail on it
		build = exec.Command("cp", other, Binary)
	}
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build the program: %v\n%s", err, out)
		return 1
	}
	// These tests wait for servers far more than they work.
	flag.Parse()
	if f := flag.Lookup("test.parallel"); f.Value.String() == f.DefValue {
		f.Value.Set("12")
	}
	if first != nil {
		first()
	}
	return m.Run()
}

// Binary is the program under test, built once.
var Binary string

// Place is one install under test with all that it needs.
type Place struct {
	T       *testing.T
	Dir     string
	Install string
	Home    string
	Port    int
	Harbour *demo.Harbour
	Env     []string
	Shell   string // what a shell does first, with "&&" behind it

	away []string // folders of the install that stand elsewhere
}

// Elsewhere moves a folder of the install out of it, leaves a link, and says so in the
// profile.
func (p *Place) Elsewhere(at string) {
	p.T.Helper()
	to := filepath.Join(p.Dir, "elsewhere", at)
	require.NoError(p.T, os.MkdirAll(filepath.Dir(to), 0o755))
	require.NoError(p.T, os.Rename(filepath.Join(p.Install, at), to))
	require.NoError(p.T, os.Symlink(to, filepath.Join(p.Install, at)))
	p.OK("profile", "set", "elsewhere."+at, to)
	p.away = append(p.away, at)
}

// Bare is a folder with an empty install, for tests that fill it themselves.
func Bare(t *testing.T) *Place {
	t.Helper()
	return bareIn(t, t.TempDir())
}

func bareIn(t *testing.T, dir string) *Place {
	t.Helper()
	p := &Place{T: t, Dir: dir, Install: filepath.Join(dir, "srv"), Home: filepath.Join(dir, "home")}
	p.Env = append(os.Environ(), "FRESHKEEL_HOME="+p.Home, "FRESHKEEL_DEMO_PACE=10", "NO_COLOR=1")
	require.NoError(t, os.MkdirAll(p.Install, 0o755))
	t.Cleanup(p.leaveNothing)
	return p
}

// Mossgate is the demo harbour, adopted, with the releases given or its own.
func Mossgate(t *testing.T, releases ...demo.Release) *Place {
	t.Helper()
	if len(releases) == 0 {
		releases = demo.Releases
	}
	return MossgateIn(t, t.TempDir(), releases...)
}

// MossgateIn is Mossgate in a folder.
func MossgateIn(t *testing.T, dir string, releases ...demo.Release) *Place {
	t.Helper()
	p := bareIn(t, dir)
	require.NoError(t, os.Remove(p.Install))
	p.Port = FreePort(t)
	h, err := demo.Make(p.Dir, Binary, p.Port, releases)
	require.NoError(t, err)
	p.Harbour, p.Install, p.Home = h, h.Install, h.Home
	p.Env = append(p.Env, "FRESHKEEL_HOME="+h.Home)
	p.OK("adopt", p.Install, "--source", "../builds/feed.json", "--no-try", "--build",
		filepath.Join(h.Builds, "mossgate-"+releases[0].Version+".zip"))
	p.EditProfile(func(s string) string { return Quick.Replace(s) })
	return p
}

// EditProfile changes the text of the profile.
func (p *Place) EditProfile(edit func(string) string) {
	p.T.Helper()
	path := filepath.Join(p.Install, "freshkeel.toml")
	b, err := os.ReadFile(path)
	require.NoError(p.T, err)
	require.NoError(p.T, os.WriteFile(path, []byte(edit(string(b))), 0o644))
}

// EditSeen edits what was seen of the server.
func (p *Place) EditSeen(edit func(map[string]any)) {
	p.T.Helper()
	seen := map[string]any{}
	require.NoError(p.T, json.Unmarshal([]byte(p.Read(".freshkeel/seen.json")), &seen))
	edit(seen)
	b, err := json.Marshal(seen)
	require.NoError(p.T, err)
	require.NoError(p.T, os.WriteFile(filepath.Join(p.Install, ".freshkeel/seen.json"), b, 0o600))
}

// GiveTo makes another user the owner of everything, as where root looks after a
// game user's server. Only root can.
func (p *Place) GiveTo(uid int) {
	p.T.Helper()
	if os.Geteuid() != 0 {
		p.T.Skip("only root can give files away")
	}
	for d := p.Dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(p.T, os.Chmod(d, 0o755))
	}
	require.NoError(p.T, os.MkdirAll(p.Home, 0o700))
	require.NoError(p.T, exec.Command("chown", "-R", fmt.Sprintf("%d:%d", uid, uid), p.Dir).Run())
}

// Put writes a file of the install; a name that ends in .sh becomes a script.
func (p *Place) Put(name, body string) {
	p.T.Helper()
	Put(p.T, filepath.Join(p.Install, name), body)
}

// Put writes a file, with its folders; a name that ends in .sh becomes a script.
func Put(t *testing.T, full, body string) {
	t.Helper()
	mode := os.FileMode(0o644)
	if strings.HasSuffix(full, ".sh") {
		mode = 0o755
	}
	require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(t, os.WriteFile(full, []byte(body), mode))
}

// Read is what a file of the install holds.
func (p *Place) Read(name string) string {
	p.T.Helper()
	b, err := os.ReadFile(filepath.Join(p.Install, name))
	require.NoError(p.T, err)
	return string(b)
}

// Ran is what came of one command.
type Ran struct {
	Out, Err string
	Code     int
}

// GoWithProgram reads what the program is built from. go test keeps a result for as long as
// the files that a test read are the same, and knows nothing of what another command
// builds: a result must not outlive the program that it was of.
func GoWithProgram(t *testing.T) {
	t.Helper()
	n := 0
	require.NoError(t, filepath.WalkDir("..", func(at string, d os.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && strings.HasPrefix(d.Name(), ".") && d.Name() != "..":
			return filepath.SkipDir
		case strings.HasSuffix(at, ".go") && !strings.HasSuffix(at, "_test.go"):
			n++
			_, err = os.ReadFile(at)
		}
		return err
	}))
	require.Greater(t, n, 100)
}

// shares is in how many parts a plain run takes what there is much of: a part each day, so
// that the tests are run often. FRESHKEEL_TEST_ALL=1 takes it all.
const shares = 5

// All tells whether this run takes all.
func All() bool { return os.Getenv("FRESHKEEL_TEST_ALL") != "" }

// Today tells whether the i-th of many belongs to this run.
func Today(i int) bool { return All() || i%shares == time.Now().YearDay()%shares }

// TodayNamed is Today for cases that have names.
func TodayNamed(name string) bool {
	h := fnv.New32a()
	h.Write([]byte(name))
	return Today(int(h.Sum32() % 9973))
}

// Said is an output as a reader takes it: its lines joined, however they were broken.
func (r Ran) Said() string { return strings.Join(strings.Fields(r.Out+" "+r.Err), " ") }

// limit bounds every command of a test: none may hang.
const limit = 60 * time.Second

// Command is a command of the program, to be run in the install.
func (p *Place) Command(args ...string) *exec.Cmd {
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	p.T.Cleanup(cancel)
	if args[0] != "adopt" && args[0] != "feed" {
		args = append([]string{"-d", p.Install}, args...)
	}
	cmd := exec.CommandContext(ctx, Binary, args...)
	if p.Shell != "" {
		cmd = exec.CommandContext(ctx, "/bin/sh",
			append([]string{"-c", p.Shell + `exec "$0" "$@"`, Binary}, args...)...)
	}
	cmd.Env = p.Env
	cmd.Dir = p.Dir
	return cmd
}

// Run runs a command.
func (p *Place) Run(args ...string) Ran { return p.RunWith(nil, args...) }

// RunWith runs a command with more of an environment.
func (p *Place) RunWith(env []string, args ...string) Ran {
	p.T.Helper()
	cmd := p.Command(args...)
	cmd.Env = append(cmd.Env, env...)
	var out, errb bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errb
	cmd.Run()
	// What is advised names the folder that was named; tests tell the rest of it.
	return Ran{p.Short(out.String()), p.Short(errb.String()), cmd.ProcessState.ExitCode()}
}

// Short is an output without the folder in the commands that are advised.
func (p *Place) Short(text string) string {
	return regexp.MustCompile(`(^|[^/])\bfreshkeel -d `+regexp.QuoteMeta(p.Install)+` `).ReplaceAllString(text,
		"${1}freshkeel ")
}

// Hold starts a command that stays at a step, and returns once it is there; goOn lets it go on.
func (p *Place) Hold(at string, cmd *exec.Cmd) (goOn func()) {
	p.T.Helper()
	trace := filepath.Join(p.T.TempDir(), "trace")
	cmd.Env = append(cmd.Env, "FRESHKEEL_TEST_STAY_AT="+at, "FRESHKEEL_TEST_TRACE="+trace)
	require.NoError(p.T, cmd.Start())
	Until(p.T, strings.Join(cmd.Args, " ")+" to get to "+at, func() bool {
		b, _ := os.ReadFile(trace)
		return strings.Contains(string(b), at+"\n")
	})
	return func() { os.Remove(trace) }
}

// OK runs a command that must succeed.
func (p *Place) OK(args ...string) Ran {
	p.T.Helper()
	return p.Exits(0, args...)
}

// Exits runs a command that must end with a given exit code.
func (p *Place) Exits(code int, args ...string) Ran {
	p.T.Helper()
	r := p.Run(args...)
	require.Equal(p.T, code, r.Code, "freshkeel %s\n%s%s", strings.Join(args, " "), r.Out, r.Err)
	return r
}

// Status asks for the status as JSON.
func (p *Place) Status() (s freshkeel.Status) {
	p.T.Helper()
	require.NoError(p.T, json.Unmarshal([]byte(p.Run("--json", "status").Out), &s))
	return s
}

// Entries are those of the logbook.
func (p *Place) Entries() []*freshkeel.Entry {
	p.T.Helper()
	var l struct{ Entries []*freshkeel.Entry }
	require.NoError(p.T, json.Unmarshal([]byte(p.OK("--json", "logbook").Out), &l))
	return l.Entries
}

// LastEntry is the newest entry of the logbook.
func (p *Place) LastEntry() *freshkeel.Entry {
	p.T.Helper()
	all := p.Entries()
	require.NotEmpty(p.T, all)
	return all[len(all)-1]
}

// Backups lists them, oldest first.
func (p *Place) Backups() (ids []string) {
	p.T.Helper()
	var list struct{ Backups []freshkeel.Backup }
	require.NoError(p.T, json.Unmarshal([]byte(p.OK("--json", "backup", "list").Out), &list))
	for _, b := range list.Backups {
		ids = append(ids, b.ID)
	}
	return ids
}

// Tree is every file of the install but .freshkeel and logs, by path: mode and
// content. The port, which differs between tests, is evened out.
func (p *Place) Tree() map[string]string {
	p.T.Helper()
	out := map[string]string{}
	p.walk(out, p.Install, "")
	for _, at := range p.away {
		p.walk(out, filepath.Join(p.Dir, "elsewhere", at), at)
	}
	return out
}

// walk adds to a tree what a folder holds that is called so there.
func (p *Place) walk(out map[string]string, folder, name string) {
	require.NoError(p.T, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(folder, path)
		if name != "" {
			rel = filepath.Join(name, "in", rel)
		}
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
			if p.Port != 0 && strings.HasSuffix(rel, ".conf") || strings.HasSuffix(rel, ".toml") {
				if p.away != nil {
					b = bytes.ReplaceAll(b, []byte(p.Dir), []byte("DIR"))
				}
				b = bytes.ReplaceAll(b, fmt.Append(nil, p.Port), []byte("PORT"))
			}
			sum := sha256.Sum256(b)
			what += " " + hex.EncodeToString(sum[:8])
		}
		if p.away != nil {
			what = strings.ReplaceAll(what, p.Dir, "DIR")
		}
		out[rel] = what
		return nil
	}))
}

// leaveNothing ends what the test left running, and fails it when something
// can't be ended.
func (p *Place) leaveNothing() {
	if _, err := os.Stat(filepath.Join(p.Install, "freshkeel.toml")); err != nil {
		return
	}
	r := p.Run("stop")
	if r.Code != 0 {
		p.T.Logf("stop at the end: exit %d\n%s%s", r.Code, r.Out, r.Err)
	}
	// A minder may need another moment to end after its server has.
	for end := time.Now().Add(5 * time.Second); len(ProcessesIn(p.Dir)) > 0 && time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
	}
	for _, pid := range ProcessesIn(p.Dir) {
		p.T.Errorf("process %d is left running", pid)
		syscall.Kill(pid, syscall.SIGKILL)
	}
}

// ProcessesIn lists the processes whose working folder lies in dir.
func ProcessesIn(dir string) (pids []int) {
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

// Outside starts a script of the install as an operator would, without Fresh
// Keel; its whole group ends with the test.
func (p *Place) Outside(script string) *exec.Cmd {
	p.T.Helper()
	cmd := exec.Command("sh", script)
	cmd.Dir = p.Install
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(p.T, cmd.Start())
	p.T.Cleanup(func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		cmd.Wait()
	})
	return cmd
}

// OntoDisk moves a folder of the install onto a file system of its own.
func (p *Place) OntoDisk(at string) {
	p.T.Helper()
	small, full := filepath.Join(p.Dir, "disk"), filepath.Join(p.Install, at)
	require.NoError(p.T, os.MkdirAll(small, 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=16m,mode=755", "tmpfs",
		small).CombinedOutput(); err != nil {
		p.T.Skipf("this machine lets nobody mount: %s", out)
	}
	p.T.Cleanup(func() {
		p.Run("stop")
		exec.Command("umount", "-l", small).Run()
		exec.Command("umount", "-l", full).Run()
	})
	require.NoError(p.T, exec.Command("cp", "-a", full+"/.", small).Run())
	require.NoError(p.T, os.RemoveAll(full))
	require.NoError(p.T, os.Mkdir(full, 0o755))
	require.NoError(p.T, exec.Command("mount", "--move", small, full).Run())
}

// Until waits for something to hold.
func Until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(15 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		if holds() {
			return
		}
	}
	t.Fatalf("waited in vain: %s", what)
}

// ports is how many ports each run of tests has for itself, below those that the system
// hands out by itself.
const ports = 500

// firstPort is the first of this run's: packages are tested side by side, and a port that
// is looked at and let go again may be another's by then. The lock is held until the process
// ends.
var firstPort = sync.OnceValues(func() (int, *flock.Flock) {
	for n := range 24 {
		held := flock.New(filepath.Join(os.TempDir(), fmt.Sprintf("freshkeel-test-ports-%d", n)),
			flock.SetPermissions(0o666))
		if ok, err := held.TryLock(); err == nil && ok {
			return 20000 + n*ports, held
		}
	}
	return 20000 + 24*ports, nil
})

var nextPort atomic.Int32

// FreePort gives every test a port of its own.
func FreePort(t *testing.T) int {
	first, _ := firstPort()
	for range ports {
		port := first + int(nextPort.Add(1))%ports
		if c, err := net.ListenPacket("udp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			c.Close()
			return port
		}
	}
	t.Fatal("no free port")
	return 0
}

// Quick makes a profile's waits fit for a test.
var Quick = strings.NewReplacer("steady = '5s'", "steady = '60ms'", "within = '2m'", "within = '15s'", "wait = '60s'",
	"wait = '5s'", "terminate = '20s'", "terminate = '2s'")

// Hears waits for a command that goes on for ever to say what is done again and again, and ends it.
func Hears(t *testing.T, cmd *exec.Cmd, what string, do func()) {
	t.Helper()
	r, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	heard := make(chan bool, 1)
	go func() {
		for lines := bufio.NewScanner(r); lines.Scan(); {
			if strings.Contains(lines.Text(), what) {
				heard <- true
				break
			}
		}
		io.Copy(io.Discard, r)
	}()
	Until(t, "it to say: "+what, func() bool {
		do()
		return len(heard) > 0
	})
	cmd.Process.Kill()
	r.Close()
	cmd.Wait()
}
