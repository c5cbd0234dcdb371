//go:build linux

package hostile

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// exchangeWord has the test's own program be an attacker: it exchanges two names for one another for
// as long as it lives, which is as fast as it goes.
const exchangeWord = "FRESHKEEL_HOSTILE_EXCHANGE"

func exchangeForEver(pair string) {
	a, b, _ := strings.Cut(pair, "|")
	for {
		unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
		time.Sleep(time.Duration(time.Now().UnixNano()%300) * time.Microsecond)
	}
}

// exchanger has a user exchange two names until stop is called.
func exchanger(t *testing.T, a, b string) (stop func()) {
	t.Helper()
	self, err := os.Executable()
	require.NoError(t, err)
	at := filepath.Join(os.TempDir(), fmt.Sprintf("freshkeel-attacker-%d", os.Getpid()))
	if _, err := os.Stat(at); err != nil { // where go test has put it, nobody else comes
		text, err := os.ReadFile(self)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(at+".new", text, 0o755))
		require.NoError(t, os.Chmod(at+".new", 0o755))
		require.NoError(t, os.Rename(at+".new", at))
	}
	t.Cleanup(func() { os.Remove(at) })
	cmd := exec.Command(at)
	cmd.Env = []string{exchangeWord + "=" + a + "|" + b}
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: user, Gid: user}}
	require.NoError(t, cmd.Start())
	return func() {
		cmd.Process.Kill()
		cmd.Wait()
	}
}

// attempts calls try as often as there is time for, and at least a few times.
func attempts(t *testing.T, for_ time.Duration, try func()) (n int) {
	t.Helper()
	for end := time.Now().Add(for_); n < 5 || time.Now().Before(end); n++ {
		try()
	}
	return n
}

// openUp lets everybody come to a folder of the test's.
func (p *pond) openUp() {
	for d := p.dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(p.t, os.Chmod(d, 0o755))
	}
}

// give makes a user the owner of some things.
func (p *pond) give(at ...string) {
	p.t.Helper()
	for _, a := range at {
		require.NoError(p.t, exec.Command("chown", "-Rh", fmt.Sprintf("%d:%d", user, user), a).Run())
	}
}

// The owner of the folder above exchanges the install, while root begins, for a link to a folder of
// root's, and for a folder of root's own that they may move: root never reads their profile as root.
func TestTheInstallIsExchangedWhileRootBegins(t *testing.T) {
	asRoot(t)
	t.Parallel()
	p := newPond(t)
	p.openUp()
	told := p.at("told")
	require.NoError(t, os.Mkdir(told, 0o777))
	require.NoError(t, os.Chmod(told, 0o777))
	command := fmt.Sprintf("[\"sh\", \"-c\", \"touch %s/$(id -u); exit 1\"]", told)
	p.put("theirs/srv/freshkeel.toml", "[server]\nname = \"pond\"\n[host]\nkind = \"commands\"\nstart = "+command+
		"\nstop = "+command+"\nstatus = "+command+"\n[ready]\nline = 'x'\n")
	p.put("rootly/notes.txt", "of root\n") // root's, and nobody's to write to
	p.put("builds/pond-1.0.jar", "no jar\n")
	require.NoError(t, os.Symlink(p.at("rootly"), p.at("theirs/link")))
	require.NoError(t, os.MkdirAll(p.home, 0o700))
	p.give(p.at("theirs"), p.home)
	stop := exchanger(t, p.at("theirs/srv"), p.at("theirs/link"))
	defer stop()
	p.install = p.at("theirs/srv")
	n := attempts(t, 2*long(t), func() {
		for _, args := range [][]string{{"status"}, {"builds"}, {"adopt", p.install, "--replace"}, {"feed", "write", p.install},
			{"lay", p.at("new"), "--like", p.install}} {
			p.run(args...)
		}
	})
	stop()
	_, err := os.Stat(filepath.Join(told, "0"))
	assert.ErrorIs(t, err, os.ErrNotExist, "root ran a command of theirs, in %d rounds", n)
	_, err = os.Stat(filepath.Join(told, fmt.Sprint(user)))
	assert.NoError(t, err, "it was run as them")
	list, err := os.ReadDir(p.at("rootly"))
	require.NoError(t, err)
	assert.Len(t, list, 1, "root wrote into its own folder, as somebody else had it")
}

// terminal is a terminal of root's, and what stands on it.
type terminal struct {
	master, slave *os.File
	shown         chan string
}

func newTerminal(t *testing.T) *terminal {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	require.NoError(t, err)
	require.NoError(t, unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0))
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	require.NoError(t, err)
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	require.NoError(t, err)
	require.NoError(t, unix.IoctlSetWinsize(int(slave.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 40, Col: 100}))
	tty := &terminal{master: master, slave: slave, shown: make(chan string, 1)}
	go func() {
		var all strings.Builder
		b := make([]byte, 4096)
		for {
			n, err := master.Read(b)
			all.Write(b[:n])
			select {
			case <-tty.shown:
			default:
			}
			tty.shown <- all.String()
			if err != nil {
				return
			}
		}
	}()
	t.Cleanup(func() { slave.Close(); master.Close() })
	return tty
}

// await waits until something stands on the terminal.
func (tty *terminal) await(t *testing.T, what string) (all string) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); !strings.Contains(all, what); {
		require.True(t, time.Now().Before(end), "%q does not come: %q", what, all)
		select {
		case all = <-tty.shown:
		case <-time.After(20 * time.Millisecond):
		}
	}
	return all
}

// stiWord has the test's own program tell which terminal it has, and type at each that it finds.
const stiWord = "FRESHKEEL_HOSTILE_TYPE"

func typeAtTerminals(report string) {
	out, err := os.Create(report)
	if err != nil {
		os.Exit(1)
	}
	for fd := range 64 {
		if _, err := unix.IoctlGetTermios(fd, unix.TCGETS); err == nil {
			fmt.Fprintf(out, "file %d is a terminal\n", fd)
		}
		if _, err := unix.FcntlInt(uintptr(fd), unix.F_GETFD, 0); err == nil && fd > 2 && uintptr(fd) != out.Fd() {
			to, _ := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", fd))
			if strings.Contains(to, "secret") {
				fmt.Fprintf(out, "file %d is %s\n", fd, to)
			}
		}
		for _, c := range []byte("touch /tmp/typed\n") {
			unix.Syscall(unix.SYS_IOCTL, uintptr(fd), unix.TIOCSTI, uintptr(unsafe.Pointer(&c)))
		}
	}
	if f, err := os.OpenFile("/dev/tty", os.O_RDWR, 0); err == nil {
		fmt.Fprintln(out, "it has a terminal")
		f.Close()
	}
	for _, kv := range os.Environ() {
		if strings.Contains(kv, "of root") {
			fmt.Fprintln(out, "it has", kv)
		}
	}
	fmt.Fprintln(out, "end")
	out.Close()
}

// A user's own command, which makes a build and asks for a sign-in, has no terminal of root's, no file
// and no variable: what it says comes by lines that bear its name, harmless, and it hears whole lines.
func TestRootsTerminalIsNobodyElses(t *testing.T) {
	asRoot(t)
	t.Parallel()
	p := newPond(t)
	p.openUp()
	self, err := os.Executable()
	require.NoError(t, err)
	attacker, err := os.ReadFile(self)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(p.at("srv/attack.sh"), attacker, 0o755))
	p.put("srv/make.sh", `#!/bin/sh
printf 'sign-in needed\033]0;title\007\033[2J\n'
[ -e ../first ] || { : > ../first; exit 1; }
`+stiWord+`=$FRESHKEEL_INSTALL/report $FRESHKEEL_INSTALL/attack.sh
printf '\r\033[K[sudo] password for root: '
read word
echo "$word" > $FRESHKEEL_INSTALL/heard
: > pond-2.0.zip
`)
	p.put("srv/freshkeel.toml", profileText+"[source]\ncommand = { run = [\"./make.sh\"], pick = \"pond-*.zip\", versions = [\"2.0\"] }\n")
	p.giveTo(user)
	tty := newTerminal(t)
	secret, err := os.Create(p.at("secret"))
	require.NoError(t, err)
	cmd := exec.Command("/bin/sh", "-c", "exec 9<&3; exec \"$@\"", "sh", p.program, "-d", p.install, "fetch", "2.0")
	cmd.Env = append(p.env, "SECRET_WORD=of root", "LD_PRELOAD_WORD=of root", "TERM=xterm")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = tty.slave, tty.slave, tty.slave
	cmd.ExtraFiles = []*os.File{secret}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	require.NoError(t, cmd.Start())
	tty.await(t, "make.sh: [sudo] password for root:")
	fmt.Fprint(tty.master, "the harbour word\n")
	cmd.Wait()
	all := tty.await(t, "make.sh: sign-in needed")
	assert.NotContains(t, all, "\x1b]0;", "a title")
	assert.NotContains(t, all, "\x1b[2J", "the screen is emptied")
	assert.NotContains(t, all, "\r\x1b[K[sudo]", "a line of another's in ours' place")
	report, err := os.ReadFile(p.at("srv/report"))
	require.NoError(t, err, all)
	assert.Equal(t, "end\n", string(report))
	heard, err := os.ReadFile(p.at("srv/heard"))
	require.NoError(t, err)
	assert.Equal(t, "the harbour word\n", string(heard))
	n, err := unix.IoctlGetInt(int(tty.slave.Fd()), unix.TIOCINQ)
	require.NoError(t, err)
	assert.Zero(t, n, "bytes were typed at root's terminal")
}

// Root lays a server, restores and exports a backup into folders where another user exchanges what root
// makes for links: below that user's folder it is done as them, below one of several users, or from what
// is root's, not at all, and in a sticky folder only what root made itself is written to.
func TestTheTargetIsExchangedWhileRootWrites(t *testing.T) {
	asRoot(t)
	t.Parallel()
	p := newPond(t)
	p.openUp()
	victim, untouched := p.victim()
	p.ok("backup", "take")
	p.put("builds/notes.txt", "two builds\n")
	require.NoError(t, exec.Command("tar", "-C", p.at("next-2.0"), "-czf", p.at("builds/pond-2.0.tar.gz"), ".").Run())
	require.NoError(t, os.Remove(p.at("builds/notes.txt")))
	places := map[string]os.FileMode{"theirs": 0o755, "shared": 0o777, "sticky": 0o777 | os.ModeSticky}
	var stops []func()
	for place, mode := range places {
		require.NoError(t, os.Mkdir(p.at(place), 0o755))
		require.NoError(t, os.Chmod(p.at(place), mode))
		if place == "theirs" {
			p.give(p.at(place))
		}
		for _, name := range []string{"out", "new", "new.laying"} {
			require.NoError(t, os.Symlink(victim, p.at(place, name+".link")))
			p.give(p.at(place, name+".link"))
			stops = append(stops, exchanger(t, p.at(place, name), p.at(place, name+".link")))
		}
	}
	n := attempts(t, 2*long(t), func() {
		for place := range places {
			p.run("lay", p.at(place, "new"), "--source", p.at("builds"), "--no-start")
			p.run("backup", "restore", "b0001", "--to", p.at(place, "out"))
			p.run("backup", "export", "b0001", p.at(place, "out", "pond.tar"))
			for _, name := range []string{"out", "new", "new.laying"} {
				os.RemoveAll(p.at(place, name))
			}
		}
	})
	for _, stop := range stops {
		stop()
	}
	untouched()
	list, err := os.ReadDir(victim)
	require.NoError(t, err)
	assert.Len(t, list, 3, "in %d rounds", n)
	for place, says := range map[string]string{"theirs": "through", "shared": "by everybody"} {
		r := p.run("backup", "restore", "b0001", "--to", p.at(place, "last"))
		assert.Equal(t, 1, r.code, r.out)
		assert.Contains(t, r.out, says)
		assert.NoDirExists(t, p.at(place, "last"))
	}
	p.ok("backup", "restore", "b0001", "--to", p.at("sticky", "last"))
	require.NoError(t, os.Mkdir(p.at("theirs", "home"), 0o755))
	p.give(p.at("theirs", "home"))
	p.env = append(p.env, "FRESHKEEL_HOME="+p.at("theirs", "home"))
	p.ok("lay", p.at("theirs", "last"), "--source", p.at("builds"), "--no-start")
	fi, err := os.Stat(p.at("theirs", "last"))
	require.NoError(t, err)
	assert.EqualValues(t, user, fi.Sys().(*syscall.Stat_t).Uid, "it was laid as the user whose folder it is")
}
