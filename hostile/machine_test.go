//go:build linux

package hostile

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// disk is a file system in a file, mounted at a folder.
type disk struct{ image, at, kind string }

// newDisk makes and mounts one; how is the command that makes it, to which the image
// is added. What this machine can't do is said in the skip.
func newDisk(t *testing.T, mib int, how ...string) disk {
	t.Helper()
	d := unmounted(t, mib, how...)
	d.mount(t, "")
	return d
}

func unmounted(t *testing.T, mib int, how ...string) disk {
	t.Helper()
	asRoot(t)
	if _, err := exec.LookPath(how[0]); err != nil {
		t.Skipf("no %s here", how[0])
	}
	d := disk{image: filepath.Join(t.TempDir(), "image"), at: filepath.Join(t.TempDir(), "mnt")}
	f, err := os.Create(d.image)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(int64(mib)<<20))
	require.NoError(t, f.Close())
	require.NoError(t, os.Mkdir(d.at, 0o755))
	out, err := exec.Command(how[0], append(how[1:], d.image)...).CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() { exec.Command("umount", "-l", d.at).Run() })
	return d
}

func (d disk) mount(t *testing.T, how string) {
	t.Helper()
	opts := "loop"
	if how != "" {
		opts += "," + how
	}
	if out, err := exec.Command("mount", "-t", cmp.Or(d.kind, "auto"), "-o", opts, d.image,
		d.at).CombinedOutput(); err != nil {
		t.Skipf("this machine mounts no such file system: %s", strings.TrimSpace(string(out)))
	}
}

func (d disk) umount(t *testing.T) {
	t.Helper()
	for range 50 { // a process may be on its way out
		if exec.Command("umount", d.at).Run() == nil {
			d.gone()
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	out, err := exec.Command("umount", d.at).CombinedOutput()
	require.NoError(t, err, string(out))
}

// gone waits until nothing holds the file system: a process with mounts of its own, which another test began just then, has a copy
// of this one for a moment, and what is mounted meanwhile is that file system once more, and no new look at the disk.
func (d disk) gone() {
	for range 200 {
		if out, err := exec.Command("losetup", "-j", d.image).Output(); err != nil || len(strings.TrimSpace(string(out))) == 0 {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// A whole life on each file system: adopted, refitted, gone back, restored; a refit
// that fails puts everything back.
func TestEveryFileSystem(t *testing.T) {
	for name, how := range map[string][]string{"ext4": {"mkfs.ext4", "-q"}, "xfs": {"mkfs.xfs", "-q"},
		"btrfs": {"mkfs.btrfs", "-q"}, "tmpfs": nil} {
		t.Run(name, func(t *testing.T) {
			var d disk
			if name == "tmpfs" {
				asRoot(t)
				d.at = filepath.Join(t.TempDir(), "mnt")
				require.NoError(t, os.Mkdir(d.at, 0o755))
				if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=320m", "tmpfs",
					d.at).CombinedOutput(); err != nil {
					t.Skipf("this machine mounts no tmpfs: %s", out)
				}
				t.Cleanup(func() { exec.Command("umount", "-l", d.at).Run() })
			} else {
				d = newDisk(t, 512, how...)
			}
			p := pondIn(t, d.at)
			if name == "btrfs" { // a subvolume is no mount, and no rename crosses into it
				world := filepath.Join(p.install, "world")
				require.NoError(t, os.Rename(world, world+".was"))
				out, err := exec.Command("btrfs", "subvolume", "create", world).CombinedOutput()
				require.NoError(t, err, string(out))
				require.NoError(t, exec.Command("cp", "-a", world+".was/.", world).Run())
				require.NoError(t, os.RemoveAll(world+".was"))
			}
			p.ok("start")
			p.ok("refit", "--from", "next-2.0")
			p.ok("rollback")
			before := tree(t, p.install)
			p.ok("stop")
			p.put("next-3.0/run.sh", "#!/bin/sh\necho spoilt > world/1/map.dat; echo new > world/new.dat; rm world/2/map.dat; exit 3\n")
			p.ok("start")
			r := p.run("refit", "--from", "next-3.0")
			assert.Equal(t, 4, r.code, r.out)
			now := tree(t, p.install)
			for _, grows := range []string{"world/log.dat"} { // the server's own, each time it starts
				delete(before, grows)
				delete(now, grows)
			}
			assert.Equal(t, before, now)
			p.ok("stop")
			p.ok("backup", "take")
			p.ok("backup", "check")
		})
	}
}

// On a file system that ignores case, as most of Windows and macOS do, a build that
// spells a name otherwise means the same file: it gets no second one, the operator's own
// stay (P3), and a pattern that is spelled otherwise is told before it fails to protect.
// exFAT holds no sockets and no modes besides; NTFS is shown all in lower case.
func TestFileSystemsWithoutCase(t *testing.T) {
	for name, how := range map[string]struct {
		make []string
		opts string
	}{
		"exfat-fuse": {[]string{"mkfs.exfat"}, "umask=022"},
		"lowntfs-3g": {[]string{"mkntfs", "-F", "-q"}, "ignore_case,permissions"},
	} {
		t.Run(name, func(t *testing.T) {
			d := unmounted(t, 256, how.make...)
			d.kind = name
			d.mount(t, how.opts)
			require.NoError(t, os.Chmod(d.at, 0o755))
			p := pondIn(t, d.at)
			require.FileExists(t, p.at("SRV", "Run.SH"), "case is ignored here")
			p.home = filepath.Join(t.TempDir(), "home") // links and modes are for the locker to have
			p.env = append(p.env, "FRESHKEEL_HOME="+p.home)
			require.NoError(t, os.RemoveAll(p.at("next-2.0")))
			p.dir = t.TempDir()
			p.put("next-2.0/Run.sh", strings.Replace(script, "1.0", "2.0", 1))
			p.put("next-2.0/LIB/3.DAT", "the second\n")
			p.put("next-2.0/Lib2/new.dat", "new\n")
			p.put("next-2.0/World/1/MAP.dat", "not the operator's\n")
			p.ok("start")
			before := tree(t, p.install)
			p.ok("refit", "--from", "next-2.0")
			now := tree(t, p.install)
			assert.Len(t, now, len(before)+2, "one file more, and its folder")
			for at := range before {
				assert.Contains(t, now, at, "the install's own spelling stays")
			}
			b, err := os.ReadFile(filepath.Join(p.install, "lib/3.dat"))
			require.NoError(t, err)
			assert.Equal(t, "the second\n", string(b))
			b, err = os.ReadFile(filepath.Join(p.install, "world/1/map.dat"))
			require.NoError(t, err)
			assert.Contains(t, string(b), "pond 1")
			assert.Contains(t, p.run("refit", "--from", "next-2.0").out, "NOTHING TO DO")
			assert.Contains(t, p.ok("status"), "RUNNING")
			p.ok("rollback")
			now = tree(t, p.install)
			delete(before, "world/log.dat") // the server's own, each time it starts
			delete(now, "world/log.dat")
			assert.Equal(t, before, now)
			p.ok("stop")
			p.ok("backup", "check")
			b, err = os.ReadFile(filepath.Join(p.install, "freshkeel.toml"))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(p.install, "freshkeel.toml"),
				[]byte(strings.Replace(string(b), "world/**", "World/**", 1)), 0o644))
			r := p.run("preflight", "--from", "next-2.0")
			assert.Equal(t, 3, r.code, r.out)
			assert.Contains(t, r.out, `the keep pattern 'World/**' matches nothing, and world`)
		})
	}
}

// Disks that are full of files, or that nobody may write to: refused, or back, and the
// server as it was.
func TestDisksThatTakeNothing(t *testing.T) {
	t.Run("no inodes are left", func(t *testing.T) {
		d := newDisk(t, 64, "mkfs.ext4", "-q", "-N", "256")
		p := pondIn(t, t.TempDir())
		require.NoError(t, exec.Command("cp", "-a", p.install, filepath.Join(d.at, "srv")).Run())
		p.install = filepath.Join(d.at, "srv")
		p.ok("start")
		for i := 0; ; i++ {
			f, err := os.Create(filepath.Join(d.at, fmt.Sprint("fill", i)))
			if err != nil {
				break
			}
			f.Close()
		}
		before := tree(t, p.install)
		for _, more := range [][]string{nil, {"--accept", "disk"}} {
			r := p.run(append([]string{"refit", "--from", "next-2.0"}, more...)...)
			assert.Contains(t, []int{1, 3, 4}, r.code, r.out)
			assert.Equal(t, before, tree(t, p.install))
		}
		assert.Contains(t, p.ok("status"), "RUNNING")
		p.ok("stop")
	})
	t.Run("read only", func(t *testing.T) {
		d := newDisk(t, 64, "mkfs.ext4", "-q")
		p := pondIn(t, t.TempDir())
		require.NoError(t, exec.Command("cp", "-a", p.install, filepath.Join(d.at, "srv")).Run())
		p.install = filepath.Join(d.at, "srv")
		d.umount(t)
		d.mount(t, "ro")
		before := tree(t, p.install)
		for _, args := range [][]string{{"refit", "--from", "next-2.0"}, {"start"}, {"backup", "take"}} {
			r := p.run(args...)
			assert.NotZero(t, r.code, "%v: %s", args, r.out)
			assert.Contains(t, r.out, "read-only")
		}
		assert.Equal(t, before, tree(t, p.install))
	})
}

// shutdown cuts the power of an ext4 file system: nothing that was not flushed is kept
// (EXT4_IOC_SHUTDOWN, EXT4_GOING_FLAGS_NOLOGFLUSH, fs/ext4/ext4.h of Linux).
func shutdown(at string) error {
	d, err := os.Open(at)
	if err != nil {
		return err
	}
	defer d.Close()
	const request, flags = 0x8004587D, uint32(2)
	how := flags
	if _, _, e := syscall.Syscall(syscall.SYS_IOCTL, d.Fd(), request, uintptr(unsafe.Pointer(&how))); e != 0 {
		return e
	}
	return nil
}

// The power goes at a moment that nobody chose, in the middle of a refit or a rollback,
// with install and locker on the disk: after the next start of the machine it is exactly
// the old tree or exactly the new one (P2), and every backup that is listed reads whole.
func TestPowerCuts(t *testing.T) {
	cuts := 6
	if s := os.Getenv("FRESHKEEL_HOSTILE_CUTS"); s != "" {
		fmt.Sscan(s, &cuts)
	}
	d := newDisk(t, 512, "mkfs.ext4", "-q")
	p := pondIn(t, d.at)
	p.put("next-2.0/run.sh", strings.Replace(script, "1.0", "2.0", 1))
	p.ok("backup", "take")
	either := []map[string]string{strip(tree(t, p.install))}
	p.ok("refit", "--from", "next-2.0")
	either = append(either, strip(tree(t, p.install)))
	exec.Command("sync").Run()
	seed := uint64(time.Now().UnixNano())
	rng := rand.New(rand.NewPCG(seed, 1))
	for n := range cuts {
		args := []string{"refit", "--from", "next-2.0"}
		if equal(strip(tree(t, p.install)), either[1]) {
			args = []string{"rollback"}
		}
		cmd := exec.Command(proving.Binary, append([]string{"-d", p.install}, args...)...)
		cmd.Env, cmd.Dir = p.env, p.dir
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(rng.IntN(450)) * time.Millisecond)
		if err := shutdown(d.at); err != nil {
			cmd.Process.Kill()
			cmd.Wait()
			t.Skipf("this file system can't be shut down: %v", err)
		}
		cmd.Process.Kill()
		cmd.Wait()
		for _, pid := range p.processes() {
			syscall.Kill(pid, syscall.SIGKILL)
		}
		d.umount(t)
		d.mount(t, "")
		p.run("recover")
		p.run("stop")
		now := strip(tree(t, p.install))
		if !equal(now, either[0]) && !equal(now, either[1]) {
			assert.Equal(t, either[0], now, "cut %d of seed %d, in %v: neither the old tree nor the new one", n, seed,
				args)
		}
		r := p.run("backup", "check")
		assert.Zero(t, r.code, "cut %d of seed %d: %s", n, seed, r.out)
		exec.Command("sync").Run()
	}
}

// strip leaves out what the server writes each time it starts.
func strip(files map[string]string) map[string]string {
	delete(files, "world/log.dat")
	return files
}

func equal(a, b map[string]string) bool {
	if len(a) != len(b) {
		return false
	}
	for k, v := range a {
		if b[k] != v {
			return false
		}
	}
	return true
}
