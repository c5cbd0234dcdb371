//go:build linux

package byservice

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"freshkeel"
	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/require"
)

// machine is a service manager with a root of its own.
type machine struct{ dir, pid string }

//go:embed manager.sh
var script []byte

var (
	booted  *machine // that most tests share
	booting sync.Mutex
)

func TestMain(m *testing.M) {
	code := proving.Main(m, nil)
	if booted != nil {
		booted.manage("down")
	}
	os.Exit(code)
}

// manage has the machine's script do something.
func (m *machine) manage(do string) (string, error) {
	out, err := exec.Command("bash", filepath.Join(m.dir, "manager.sh"), do, m.dir).CombinedOutput()
	if pid, perr := os.ReadFile(filepath.Join(m.dir, "pid")); perr == nil {
		m.pid = strings.TrimSpace(string(pid))
	}
	return string(out), err
}

// boot boots the machine that most tests share, once.
func boot(t *testing.T) *machine {
	t.Helper()
	booting.Lock()
	defer booting.Unlock()
	if booted == nil {
		booted = bootOne(t)
	}
	return booted
}

// bootOne boots a machine.
func bootOne(t *testing.T) *machine {
	t.Helper()
	must := os.Getenv("FRESHKEEL_TEST_MUST_SERVICES") != ""
	for _, at := range []string{"/lib/systemd/systemd", "/usr/bin/dbus-daemon", "/usr/bin/nsenter"} {
		if _, err := os.Stat(at); err != nil && !must {
			t.Skipf("%s is not here: install systemd, dbus and util-linux", at)
		}
	}
	if os.Geteuid() != 0 {
		t.Skip("only root can boot a service manager")
	}
	dir, err := os.MkdirTemp("/var/tmp", "freshkeel-services-")
	require.NoError(t, err)
	at := filepath.Join(dir, "manager.sh")
	require.NoError(t, os.WriteFile(at, script, 0o755))
	m := &machine{dir: dir}
	out, err := m.manage("up")
	if err != nil && !must {
		t.Skipf("a service manager can't be booted here: %s", out)
	}
	require.NoError(t, err, out)
	program, err := os.ReadFile(proving.Binary)
	require.NoError(t, err)
	m.put("/usr/local/bin/freshkeel", string(program), 0o755)
	m.ok(t, "sh", "-c", "id pond >/dev/null 2>&1 || useradd -m pond")
	return m
}

// today tells whether the i-th of a long list is made today: one of so many each day, or all of them where the
// environment says so.
func today(i, of int) bool {
	return os.Getenv("FRESHKEEL_TEST_ALL") != "" || i%of == time.Now().YearDay()%of
}

// put writes a file of the machine.
func (m *machine) put(at, text string, mode os.FileMode) {
	cmd := m.command("sh", "-c", "mkdir -p \"$(dirname \"$1\")\" && cat > \"$1\" && chmod \"$2\" \"$1\"", "sh", at,
		fmt.Sprintf("%o", mode))
	cmd.Stdin = strings.NewReader(text)
	if out, err := cmd.CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%s: %v %s", at, err, out))
	}
}

func (m *machine) command(args ...string) *exec.Cmd {
	cmd := exec.Command("nsenter", append([]string{"-t", m.pid, "-m", "-p", "-u", "-i", "-n", "-r", "-w"}, args...)...)
	cmd.Env = []string{"PATH=/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root", "LC_ALL=C", "NO_COLOR=1"}
	return cmd
}

func (m *machine) run(args ...string) (out string, code int) {
	cmd := m.command(args...)
	b, _ := cmd.CombinedOutput()
	return string(b), cmd.ProcessState.ExitCode()
}

func (m *machine) ok(t *testing.T, args ...string) string {
	t.Helper()
	out, code := m.run(args...)
	require.Zero(t, code, "%s: %s", strings.Join(args, " "), out)
	return out
}

// pond is a harbour on the machine, of which a service runs the server as a user of its own.
type pond struct {
	*machine
	t    *testing.T
	dir  string // /srv/NAME
	made string // where it was made, on this machine
	unit string
	as   []string // a command in front of each of ours
	env  []string
}

// ports are those of the servers, one each.
var ports atomic.Int32

func init() { ports.Store(27750) }

// settle lays a harbour out with releases, and a unit of some lines.
func settle(t *testing.T, name, unit string, releases ...demo.Release) *pond {
	t.Helper()
	return settleOn(t, boot(t), name, unit, releases...)
}

// settleOn is settle on a machine.
func settleOn(t *testing.T, m *machine, name, unit string, releases ...demo.Release) *pond {
	t.Helper()
	file := name
	if before, _, is := strings.Cut(name, "@"); is { // of a template the file, and the instance
		file = before + "@"
	}
	p := &pond{machine: m, t: t, dir: "/srv/" + name, unit: name + ".service"}
	if len(releases) == 0 {
		releases = demo.Releases[:3]
	}
	// It is made here, and goes in whole; the machine has no network, so any port is free there.
	made := t.TempDir()
	p.made = filepath.Join(made, name)
	_, err := demo.Make(p.made, proving.Binary, int(ports.Add(1)), releases)
	require.NoError(t, err)
	packed := p.made + ".tar"
	out, err := exec.Command("tar", "-C", made, "--exclude=bin/freshkeel", "-cf", packed, name).CombinedOutput()
	require.NoError(t, err, string(out))
	in := m.command("tar", "-C", "/srv", "-xf", "-")
	in.Stdin, err = os.Open(packed)
	require.NoError(t, err)
	out, err = in.CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() {
		m.run("systemctl", "stop", p.unit)
		m.run("systemctl", "reset-failed", p.unit)
		m.run("rm", "-rf", p.dir, "/etc/systemd/system/"+file+".service")
		m.run("systemctl", "daemon-reload")
	})
	m.ok(t, "cp", "/usr/local/bin/freshkeel", p.dir+"/bin/freshkeel")
	m.ok(t, "chown", "-R", "pond:pond", p.dir)
	p.ours(exitDone, "adopt", p.dir+"/mossgate-east", "--source", "../builds/feed.json", "--no-try", "--build",
		p.dir+"/builds/mossgate-"+releases[0].Version+".zip")
	text := m.ok(t, "cat", p.dir+"/mossgate-east/freshkeel.toml")
	m.put(p.dir+"/mossgate-east/freshkeel.toml", proving.Quick.Replace(text)+
		"\n[host]\nkind = 'service'\nunit = '"+p.unit+"'\n", 0o644)
	m.put("/etc/systemd/system/"+file+".service", "[Unit]\nDescription="+name+"\n[Service]\nUser=pond\n"+
		"Environment=FRESHKEEL_DEMO_PACE=10\n"+strings.ReplaceAll(unit, "DIR", p.dir+"/mossgate-east"), 0o644)
	m.ok(t, "systemctl", "daemon-reload")
	return p
}

// ours runs a command of the program on the install.
func (p *pond) ours(code int, args ...string) string {
	p.t.Helper()
	out, got := p.try(args...)
	require.Equal(p.t, code, got, "freshkeel %s\n%s", strings.Join(args, " "), out)
	return out
}

func (p *pond) try(args ...string) (string, int) {
	all := append([]string{}, p.as...)
	all = append(all, "env", "FRESHKEEL_HOME="+p.dir+"/home")
	all = append(all, p.env...)
	all = append(all, "freshkeel", "-d", p.dir+"/mossgate-east", "--plain")
	return p.run(append(all, args...)...)
}

func (p *pond) status() (s freshkeel.Status) {
	p.t.Helper()
	cmd := p.command(
		"env",
		"FRESHKEEL_HOME="+p.dir+"/home",
		"freshkeel",
		"-d",
		p.dir+"/mossgate-east",
		"--json",
		"status",
	)
	var out bytes.Buffer
	cmd.Stdout = &out
	cmd.Run()
	require.NoError(p.t, json.NewDecoder(&out).Decode(&s))
	return s
}

// shows is a property of the unit.
func (p *pond) shows(property string) string {
	return strings.TrimSpace(p.ok(p.t, "systemctl", "show", "-P", property, p.unit))
}

func (p *pond) text(at string) string { return p.ok(p.t, "cat", p.dir+"/mossgate-east/"+at) }

// hears waits for log -f to say what is done again and again.
func (p *pond) hears(what string, do func()) {
	p.t.Helper()
	cmd := p.command("env", "FRESHKEEL_HOME="+p.dir+"/home", "freshkeel", "-d", p.dir+"/mossgate-east", "log", "-f")
	proving.Hears(p.t, cmd, what, do)
	p.run("pkill", "-f", "freshkeel -d "+p.dir+"/mossgate-east log -f")
}
