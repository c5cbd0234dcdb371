//go:build linux

package hostile

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// victim is what only root may change or read: a folder outside the install.
func (p *pond) victim() (dir string, untouched func()) {
	dir = p.at("victim")
	p.put("victim/secret", "the secret of root\n")
	p.put("victim/map.dat", "of root\n")
	p.put("victim/console.log", "of root\n")
	require.NoError(p.t, exec.Command("chown", "-R", "0:0", dir).Run())
	require.NoError(p.t, os.Chmod(filepath.Join(dir, "secret"), 0o600))
	require.NoError(p.t, os.Chmod(dir, 0o755))
	was := func() (out []string) {
		filepath.WalkDir(dir, func(at string, _ os.DirEntry, _ error) error {
			fi, err := os.Lstat(at)
			require.NoError(p.t, err)
			st := fi.Sys().(*syscall.Stat_t)
			b, _ := os.ReadFile(at)
			out = append(out, fmt.Sprint(at, fi.Mode(), st.Uid, st.Gid, " ", string(b)))
			return nil
		})
		return out
	}
	before := was()
	return dir, func() {
		p.t.Helper()
		assert.Equal(p.t, before, was(), "root was led out of the install")
	}
}

// swapper has a user exchange things of the install in a loop, as a program of theirs
// would, until stop is called.
func swapper(t *testing.T, loop string) (stop func()) {
	t.Helper()
	if _, err := exec.LookPath("setpriv"); err != nil {
		t.Skip("no setpriv(1) here to become another user with")
	}
	cmd := exec.Command("setpriv", fmt.Sprint("--reuid=", user), fmt.Sprint("--regid=", user), "--clear-groups", "sh",
		"-c", "while :; do "+loop+"; done 2>/dev/null")
	cmd.Dir = "/" // a server of the pond would work in it
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(t, cmd.Start())
	return func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		cmd.Wait()
	}
}

// leaked tells whether a text stands in a file below a folder, compressed ones as they
// are restored.
func (p *pond) leaked(dirs ...string) {
	p.t.Helper()
	for _, dir := range dirs {
		filepath.WalkDir(dir, func(at string, d os.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				b, _ := os.ReadFile(at)
				assert.NotContains(p.t, string(b), "the secret of root", at)
			}
			return nil
		})
	}
}

var commands = [][]string{{"status"}, {"start"}, {"backup", "take"}, {"preflight", "--from", "next-2.0"},
	{"refit", "--from", "next-2.0"}, {"log"}, {"rollback"}, {"backup", "restore", "b0001"}, {"stop"}, {"recover"},
	{"builds"}, {"backup", "list"}, {"adopt", "--replace"}}

// Root works over the install of a user who exchanges what stands there for links, as
// fast as they can: our own folder, the folder of the run, the console's log, a world's
// file and folder, the profile. Root changes and reads nothing outside.
func TestRootOverTheInstallOfSomebodyWhoSwapsLinks(t *testing.T) {
	asRoot(t)
	t.Parallel()
	p := newPond(t)
	p.ok("backup", "take")
	p.giveTo(user)
	victim, untouched := p.victim()
	loop := strings.NewReplacer("SRV", p.install, "VICTIM", victim).Replace(`
mv SRV/.freshkeel SRV/.fk; ln -s VICTIM SRV/.freshkeel; rm SRV/.freshkeel; mv SRV/.fk SRV/.freshkeel
mv SRV/.freshkeel/run SRV/.r; ln -s VICTIM SRV/.freshkeel/run; rm SRV/.freshkeel/run; mv SRV/.r SRV/.freshkeel/run
mv SRV/.freshkeel/run/console.log SRV/.c; ln -s VICTIM/secret SRV/.freshkeel/run/console.log; rm SRV/.freshkeel/run/console.log; mv SRV/.c SRV/.freshkeel/run/console.log
mv SRV/members.txt SRV/.m; ln -s VICTIM/secret SRV/members.txt; rm SRV/members.txt; mv SRV/.m SRV/members.txt
mv SRV/world/1 SRV/.w; ln -s VICTIM SRV/world/1; rm SRV/world/1; mv SRV/.w SRV/world/1
`)
	for _, args := range commands {
		stop := swapper(t, loop)
		for end := time.Now().Add(long(t)); time.Now().Before(end); {
			r := p.run(args...)
			assert.NotContains(t, r.out, "the secret of root", "%v", args)
		}
		stop()
		// Whatever the loop was in the middle of is put straight.
		for from, to := range map[string]string{".fk": ".freshkeel", ".r": ".freshkeel/run",
			".c": ".freshkeel/run/console.log", ".m": "members.txt", ".w": "world/1"} {
			if _, err := os.Lstat(filepath.Join(p.install, from)); err == nil {
				os.Remove(filepath.Join(p.install, to))
				os.Rename(filepath.Join(p.install, from), filepath.Join(p.install, to))
			}
		}
		untouched()
	}
	p.leaked(p.install, p.home)
}

// The install is root's, and its world belongs to the user that the server becomes by
// itself: what the user exchanges there for links leads root nowhere, neither reading
// nor putting back.
func TestRootsOwnInstallWithAWorldOfSomebodyElse(t *testing.T) {
	asRoot(t)
	t.Parallel()
	p := newPond(t)
	for d := p.dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	require.NoError(t, exec.Command("chown", "-R", fmt.Sprint(user), filepath.Join(p.install, "world")).Run())
	victim, untouched := p.victim()
	p.ok("backup", "take")
	loop := strings.NewReplacer("SRV", p.install, "VICTIM", victim).Replace(`
mv SRV/world/1 SRV/world/.1; ln -s VICTIM SRV/world/1; rm SRV/world/1; mv SRV/world/.1 SRV/world/1
mv SRV/world/2/map.dat SRV/world/2/m; ln -s VICTIM/secret SRV/world/2/map.dat; rm SRV/world/2/map.dat; mv SRV/world/2/m SRV/world/2/map.dat
echo x >> SRV/world/1/map.dat; ln -s ../.. SRV/world/3/up; rm SRV/world/3/up
`)
	for _, args := range [][]string{{"backup", "take", "--reread"}, {"backup", "restore", "b0001"},
		{"refit", "--from", "next-2.0"}, {"rollback", "--world"}} {
		stop := swapper(t, loop)
		for end := time.Now().Add(2 * long(t)); time.Now().Before(end); {
			p.run(args...)
		}
		stop()
		untouched()
	}
	p.run("recover", "--leave-as-is")
	for _, id := range []string{"b0002", "b0003", "b0004", "b0005"} {
		p.run("backup", "restore", id, "--to", p.at("out-"+id))
		p.leaked(p.at("out-" + id))
	}
	p.leaked(p.install)
}

// A logbook and a plan that somebody forged lead no command out of the install, also
// where root's own hands hold them.
func TestForgedRecordsLeadNobodyOut(t *testing.T) {
	t.Parallel()
	p := newPond(t)
	p.put("outside/precious", "precious\n")
	for _, forged := range []struct{ phase, path string }{{"swapping", "../outside/precious"},
		{"rolling-back", "../outside/precious"}, {"watching", "world/up/precious"},
		{"swapping", ".freshkeel/identity"}} {
		p.ok("backup", "take")
		os.Symlink("../../outside", filepath.Join(p.install, "world/up"))
		p.put("srv/.freshkeel/logbook/r0001.json",
			`{"format":"freshkeel-logbook/1","id":"r0001","kind":"refit","from":"1","to":"2","phase":"`+forged.phase+
				`","backup":"b0001","started":"2026-01-01T00:00:00Z"}`)
		p.put("srv/.freshkeel/refits/r0001/plan.json", `{"format":"freshkeel-swap/1","steps":[{"do":"replace","path":"`+
			forged.path+`"}]}`)
		p.put("srv/.freshkeel/refits/r0001/staged/"+strings.TrimPrefix(forged.path, "../"), "evil\n")
		p.put("srv/.freshkeel/refits/r0001/displaced/"+strings.TrimPrefix(forged.path, "../"), "evil\n")
		identity, err := os.ReadFile(p.at("srv/.freshkeel/identity"))
		require.NoError(t, err)
		for _, args := range [][]string{{"status"}, {"recover"}, {"start"}, {"refit", "--from", "next-2.0"}} {
			p.run(args...)
		}
		b, err := os.ReadFile(p.at("outside/precious"))
		require.NoError(t, err)
		assert.Equal(t, "precious\n", string(b), "%v", forged)
		again, err := os.ReadFile(p.at("srv/.freshkeel/identity"))
		require.NoError(t, err)
		assert.Equal(t, string(identity), string(again))
		p.run("stop")
		require.NoError(t, os.RemoveAll(p.at("srv/.freshkeel")))
	}
}

// Nobody but the caller and root decides: a profile that somebody else may write to is
// not read, root runs no script that somebody else may write to, and a folder of ours
// that is a link is refused.
func TestWhatSomebodyElseMayWriteDecidesNothing(t *testing.T) {
	asRoot(t)
	t.Parallel()
	for name, c := range map[string]struct {
		spoil func(p *pond)
		want  string
	}{
		"a profile for everybody": {func(p *pond) { os.Chmod(p.at("srv/freshkeel.toml"), 0o666) },
			"can be written to by everybody"},
		"another's profile": {func(p *pond) { os.Chown(p.at("srv/freshkeel.toml"), user, user) },
			"can be written to by user 54321"},
		"a folder for everybody": {func(p *pond) { os.Chmod(p.at("srv"), 0o777) }, "can be exchanged by everybody"},
		"another's folder above": {func(p *pond) { os.Chown(p.dir, user, user) },
			"root must not be led elsewhere through it"},
		"a link for our own": {func(p *pond) { os.Symlink(p.at("elsewhere"), p.at("srv/.freshkeel")) },
			"is a link to"},
		"a link to another's profile": {func(p *pond) {
			p.giveTo(user) // whom the command becomes
			os.Rename(p.at("srv/freshkeel.toml"), p.at("other.toml"))
			os.Chown(p.at("other.toml"), user+1, user+1)
			os.Symlink("../other.toml", p.at("srv/freshkeel.toml"))
		}, "other.toml can be written to by user 54322"},
		"a folder, by its access list": {func(p *pond) { letWrite(p.t, p.dir, 7) },
			"can be exchanged by user 54321"},
		"a profile, by its access list": {func(p *pond) { letWrite(p.t, p.at("srv/freshkeel.toml"), 6) },
			"can be written to by user 54321"},
		"a script, by its access list": {func(p *pond) { letWrite(p.t, p.at("srv/run.sh"), 7) }, "would be run as root"},
		"another's script":             {func(p *pond) { os.Chown(p.at("srv/run.sh"), user, user) }, "would be run as root"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newPond(t)
			for d := p.dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
				require.NoError(t, os.Chmod(d, 0o755))
			}
			c.spoil(p)
			r := p.run("start")
			assert.Equal(t, 1, r.code, r.out)
			assert.Contains(t, r.out, c.want)
			assert.Contains(t, r.out, "try: ")
			assert.Empty(t, p.processes())
		})
	}
}

// letWrite gives a user rights by an access list (acl(5)), which the mode shows as the group's.
func letWrite(t *testing.T, at string, perm uint16) {
	t.Helper()
	b := binary.LittleEndian.AppendUint32(nil, 2)
	for _, e := range []struct {
		tag, perm uint16
		id        uint32
	}{{1, 7, ^uint32(0)}, {2, perm, user}, {4, 5, ^uint32(0)}, {0x10, 7, ^uint32(0)}, {0x20, 5, ^uint32(0)}} {
		b = binary.LittleEndian.AppendUint16(b, e.tag)
		b = binary.LittleEndian.AppendUint16(b, e.perm)
		b = binary.LittleEndian.AppendUint32(b, e.id)
	}
	if err := unix.Setxattr(at, "system.posix_acl_access", b, 0); errors.Is(err, unix.ENOTSUP) {
		t.Skip("this file system has no access lists")
	} else {
		require.NoError(t, err)
	}
}

// The same with links that stay: each thing of ours a link to somewhere of root's.
func TestRootIsLedNowhereByLinksThatStay(t *testing.T) {
	asRoot(t)
	t.Parallel()
	for _, at := range []string{".freshkeel", ".freshkeel/run", ".freshkeel/logbook", ".freshkeel/refits",
		".freshkeel/run/console.log", ".freshkeel/run/exit.json", ".freshkeel/identity", ".freshkeel/inventory.json",
		".freshkeel/lock", ".freshkeel/holder.json"} {
		t.Run(at, func(t *testing.T) {
			t.Parallel()
			p := newPond(t)
			p.ok("start")
			p.ok("refit", "--from", "next-2.0")
			p.ok("stop")
			p.giveTo(user)
			victim, untouched := p.victim()
			full := filepath.Join(p.install, at)
			to := filepath.Join(victim, "secret")
			if fi, err := os.Lstat(full); err == nil && fi.IsDir() {
				to = victim
			}
			require.NoError(t, os.RemoveAll(full))
			require.NoError(t, os.Symlink(to, full))
			require.NoError(t, os.Lchown(full, user, user))
			for _, args := range [][]string{{"status"}, {"start"}, {"log"}, {"backup", "take"}, {"rollback"},
				{"stop"}} {
				assert.NotContains(t, p.run(args...).out, "the secret of root")
			}
			untouched()
			p.leaked(p.install, p.home)
		})
	}
}
