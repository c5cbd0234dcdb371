//go:build linux

package hostile

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type entry struct {
	name, body, link string
}

func zipOf(t *testing.T, entries ...entry) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, e := range entries {
		h := &zip.FileHeader{Name: e.name, Method: zip.Deflate}
		if h.SetMode(0o644); e.link != "" {
			h.SetMode(fs.ModeSymlink | 0o777)
		}
		w, err := z.CreateHeader(h)
		require.NoError(t, err)
		io.WriteString(w, e.body+e.link)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func tarOf(t *testing.T, w io.WriteCloser, entries ...entry) {
	z := tar.NewWriter(w)
	for _, e := range entries {
		h := &tar.Header{Name: e.name, Mode: 0o644, Size: int64(len(e.body)), Typeflag: tar.TypeReg}
		if e.link != "" {
			h.Typeflag, h.Linkname = tar.TypeSymlink, e.link
		}
		require.NoError(t, z.WriteHeader(h))
		io.WriteString(z, e.body)
	}
	require.NoError(t, z.Close())
	require.NoError(t, w.Close())
}

type nopClose struct{ io.Writer }

func (nopClose) Close() error { return nil }

// each writes some entries in every format that is easily written here.
func each(t *testing.T, entries ...entry) map[string][]byte {
	var plain, gz, zst bytes.Buffer
	tarOf(t, nopClose{&plain}, entries...)
	tarOf(t, gzip.NewWriter(&gz), entries...)
	z, err := zstd.NewWriter(&zst)
	require.NoError(t, err)
	tarOf(t, z, entries...)
	return map[string][]byte{"zip": zipOf(t, entries...), "tar": plain.Bytes(), "tar.gz": gz.Bytes(),
		"tar.zst": zst.Bytes()}
}

// An archive that would write outside, or over what is ours, does neither: not as a
// build, not as a backup, not as a runtime, whatever its format.
func TestHostileArchivesWriteNothingOutside(t *testing.T) {
	t.Parallel()
	p := newPond(t)
	p.ok("backup", "take")
	before := tree(t, p.install)
	p.put("outside/precious", "precious\n")
	good := entry{name: "run.sh", body: script}
	for name, bad := range map[string][]entry{
		"up":             {good, {name: "../outside/precious", body: "evil"}},
		"absolute":       {good, {name: p.at("outside/precious"), body: "evil"}},
		"through a link": {good, {name: "l", link: "../outside"}, {name: "l/precious", body: "evil"}},
		"two links":      {good, {name: "deep/er/up", link: "../.."}, {name: "out", link: "deep/er/up/../outside"}},
		"our own": {good, {name: ".freshkeel/identity", body: "evil"}, {name: "freshkeel.toml", body: "evil"},
			{name: ".FreshKeel/lock", body: "evil"}},
		"another's state": {good, {name: ".freshkeel/logbook/r0001.json",
			body: `{"format":"freshkeel-logbook/1","id":"r0001","phase":"swapping"}`},
			{name: ".freshkeel/refits/r0001/plan.json",
				body: `{"format":"freshkeel-swap/1","steps":[{"do":"replace","path":"../outside/precious"}]}`}},
	} {
		for format, b := range each(t, bad...) {
			at := p.at(strings.ReplaceAll(name, " ", "-") + "." + format)
			require.NoError(t, os.WriteFile(at, b, 0o644))
			identity, err := os.ReadFile(p.at("srv/.freshkeel/identity"))
			require.NoError(t, err)
			p.run("refit", "--from", at, "--as", "9.9")
			p.run("stop")
			if r := p.run("backup", "import", at); r.code == 0 {
				id := strings.Fields(r.out[strings.Index(r.out, "b0"):])[0]
				p.run("backup", "restore", strings.Trim(id, ":,"), "--only", "**")
			}
			p.run("runtimes", "take", at)
			again, err := os.ReadFile(p.at("srv/.freshkeel/identity"))
			require.NoError(t, err)
			assert.Equal(t, string(identity), string(again), "%s.%s", name, format)
			profile, err := os.ReadFile(p.at("srv/freshkeel.toml"))
			require.NoError(t, err)
			assert.Equal(t, profileText, string(profile), "%s.%s", name, format)
			precious, err := os.ReadFile(p.at("outside/precious"))
			require.NoError(t, err)
			assert.Equal(t, "precious\n", string(precious), "%s.%s", name, format)
			p.ok("logbook")
		}
	}
	p.ok("backup", "restore", "b0001")
	assert.Equal(t, before, tree(t, p.install), "and all of it is put back")
}

// An innocent archive of a whole install, our state and all, can be imported and
// restored without harm to the one that is here.
func TestATarOfAnInstallIsImportedWithoutItsState(t *testing.T) {
	t.Parallel()
	p := newPond(t)
	p.ok("backup", "take")
	old := newPond(t)
	old.put("srv/members.txt", "Grace\n")
	old.ok("backup", "take")
	var entries []entry
	require.NoError(t, filepath.WalkDir(old.install, func(at string, d os.DirEntry, err error) error {
		if rel, _ := filepath.Rel(old.install, at); err == nil && d.Type().IsRegular() {
			b, _ := os.ReadFile(at)
			entries = append(entries, entry{name: "srv/" + rel, body: string(b)})
		}
		return err
	}))
	for format, b := range each(t, entries...) {
		require.NoError(t, os.WriteFile(p.at("old."+format), b, 0o644))
		out := p.ok("backup", "import", p.at("old."+format))
		assert.Contains(t, out, "since they are Fresh Keel's own")
		id := strings.Trim(strings.Fields(out[strings.LastIndex(out, "b0"):])[0], ":,")
		p.put("srv/members.txt", "Ada\n")
		p.ok("backup", "restore", id, "--only", "members.txt")
		b, err := os.ReadFile(p.at("srv/members.txt"))
		require.NoError(t, err)
		assert.Equal(t, "Grace\n", string(b), format)
		p.ok("logbook")
		p.ok("backup", "check")
	}
}

// A runtime's archive that holds a link to a runtime of the machine, by way of another
// link, moves nothing of the machine's.
func TestARuntimeByWayOfALinkIsRefused(t *testing.T) {
	t.Parallel()
	p := newPond(t)
	p.put("machine/jdk/bin/java.sh", "#!/bin/sh\necho 'openjdk version \"17.0.1\"' >&2\n")
	require.NoError(t, os.Rename(p.at("machine/jdk/bin/java.sh"), p.at("machine/jdk/bin/java")))
	require.NoError(t, os.Chmod(p.at("machine/jdk/bin/java"), 0o755))
	p.put("machine/jdk/release", "JAVA_VERSION=\"17.0.1\"\n")
	before := tree(t, p.at("machine"))
	depth := strings.Repeat("../", strings.Count(p.home, "/")+6)
	for format, b := range each(t, entry{name: "a/b/up", link: "../.."},
		entry{name: "jdk", link: "a/b/up/" + depth + strings.TrimPrefix(p.at("machine/jdk"), "/")}) {
		require.NoError(t, os.WriteFile(p.at("rt."+format), b, 0o644))
		r := p.run("runtimes", "take", p.at("rt."+format))
		assert.NotZero(t, r.code, r.out)
		assert.Equal(t, before, tree(t, p.at("machine")), format)
	}
}

// Three hundred bits flipped, one at a time, in whatever is stored: a backup that is
// restored with exit 0 has no wrong byte, and no command crashes.
func TestNoFlippedBitGivesAWrongByteWithExitZero(t *testing.T) {
	t.Parallel()
	p := newPond(t)
	p.ok("backup", "take")
	p.put("srv/members.txt", "Ada\nGrace\n")
	p.ok("refit", "--from", "next-2.0")
	p.ok("backup", "take")
	wants := map[string]map[string]string{}
	for _, id := range []string{"b0001", "b0003"} {
		to := p.at("right-" + id)
		p.ok("backup", "restore", id, "--to", to)
		wants[id] = tree(t, to)
	}
	var files []string
	for _, in := range []string{p.home, p.at("srv/.freshkeel")} {
		filepath.WalkDir(in, func(at string, d os.DirEntry, err error) error {
			if fi, ferr := d.Info(); err == nil && ferr == nil && d.Type().IsRegular() && fi.Size() > 0 &&
				!strings.Contains(at, "/displaced/") {
				files = append(files, at)
			}
			return nil
		})
	}
	rng := rand.New(rand.NewPCG(7, 7))
	flips, failed := 300, 0
	done := 0
	for n := range flips {
		if !proving.Today(n) {
			continue
		}
		done++
		at := files[n%len(files)]
		was, err := os.ReadFile(at)
		require.NoError(t, err)
		b := bytes.Clone(was)
		bit := rng.IntN(len(b) * 8)
		b[bit/8] ^= 1 << (bit % 8)
		require.NoError(t, os.WriteFile(at, b, 0o600))
		id := []string{"b0001", "b0003"}[n%2]
		to := p.at(fmt.Sprint("flip-", n))
		r := p.run("backup", "restore", id, "--to", to)
		assert.NotContains(t, r.out, "panic", at)
		if r.code == 0 {
			assert.Equal(t, wants[id], tree(t, to), "%s, bit %d", at, bit)
		} else {
			failed++
		}
		if done%10 == 1 {
			for _, args := range [][]string{{"backup", "check"}, {"status"}, {"rollback", "--dry-run"},
				{"backup", "list"}} {
				assert.NotContains(t, p.run(args...).out, "panic", at)
			}
		}
		require.NoError(t, os.WriteFile(at, was, 0o600))
		os.Remove(filepath.Join(p.home, "locker/damaged"))
		os.RemoveAll(to)
	}
	assert.Greater(t, failed, done/20, "some of them hurt")
}

// Pipes in place of our files, a minder's socket that says nothing, or goes on for
// ever: every command comes to an end, and takes little memory.
func TestNothingInPlaceOfOurFilesHoldsACommandUp(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"freshkeel.toml", ".freshkeel/identity", ".freshkeel/inventory.json",
		".freshkeel/lock", ".freshkeel/holder.json", ".freshkeel/run/exit.json", ".freshkeel/run/console.log",
		".freshkeel/run/minder.lock", ".freshkeel/run/server.json", ".freshkeel/logbook/r0001.json", "members.txt",
		"run.sh"} {
		t.Run("a pipe for "+filepath.Base(name), func(t *testing.T) {
			t.Parallel()
			p := newPond(t)
			p.ok("refit", "--from", "next-2.0")
			full := filepath.Join(p.install, name)
			os.Remove(full)
			require.NoError(t, syscall.Mkfifo(full, 0o600))
			for _, args := range [][]string{{"status"}, {"log"}, {"backup", "take"}, {"rollback", "--dry-run"},
				{"start"}, {"stop"}} {
				r := p.run(args...)
				assert.Less(t, r.took, 40*time.Second, "%v", args)
			}
		})
	}
	for name, answer := range map[string]func(net.Conn){
		"silent": func(c net.Conn) { io.Copy(io.Discard, c) },
		"endless": func(c net.Conn) {
			c.Write([]byte(`{"status":{"script":"`))
			for {
				if _, err := c.Write(bytes.Repeat([]byte("x"), 1<<20)); err != nil {
					return
				}
			}
		},
	} {
		t.Run("a minder that is "+name, func(t *testing.T) {
			t.Parallel()
			short, err := os.MkdirTemp("", "fk") // a socket's address is short
			require.NoError(t, err)
			t.Cleanup(func() { os.RemoveAll(short) })
			p := pondIn(t, short)
			p.ok("start")
			p.ok("stop")
			sock := filepath.Join(p.install, ".freshkeel/run/minder.sock")
			os.Remove(sock)
			l, err := net.Listen("unix", sock)
			require.NoError(t, err)
			defer l.Close()
			lock, err := os.OpenFile(filepath.Join(p.install, ".freshkeel/run/minder.lock"), os.O_RDWR|os.O_CREATE,
				0o600)
			require.NoError(t, err)
			defer lock.Close()
			require.NoError(t, syscall.Flock(int(lock.Fd()), syscall.LOCK_EX))
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					go answer(c)
				}
			}()
			before := tree(t, p.install)
			for _, args := range [][]string{{"status"}, {"send", "x"}} {
				r := p.run(args...)
				assert.Less(t, r.took, 40*time.Second, "%v", args)
				assert.Less(t, r.peak, int64(200<<10), "%v takes %d KiB", args, r.peak)
			}
			assert.Equal(t, before, tree(t, p.install))
			r := p.run("start")
			assert.NotZero(t, r.code)
			assert.Contains(t, r.out, "under a minder that does not answer")
		})
	}
}
