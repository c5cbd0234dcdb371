//go:build unix

package main

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"freshkeel/demo"

	"freshkeel"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// envMustS3 makes a missing object store a failure, for machines that can build it.
const envMustS3 = "FRESHKEEL_TEST_MUST_S3"

// s3Program builds a real object store's server from its sources, which takes a
// minute the first time: in the background, behind everything else.
var s3Program = sync.OnceValues(func() (string, error) {
	to := filepath.Join(filepath.Dir(binary), "s3store")
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	build := []string{"go", "build", "-C", "testdata/s3store", "-ldflags=-s -w", "-o", to, "github.com/versity/versitygw/cmd/versitygw"}
	if nice, err := exec.LookPath("nice"); err == nil {
		build = append([]string{nice, "-n", "19"}, build...)
	}
	out, err := exec.CommandContext(ctx, build[0], build[1:]...).CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return to, err
})

const (
	s3Key    = "low-tide"
	s3Secret = "eleven-herons-on-one-leg"
)

// s3 is an object store with an empty bucket, behind a line that can be cut.
type s3 struct {
	root string // what it serves
	host string // of the line
	line *line
}

func objectStore(t *testing.T) *s3 {
	t.Helper()
	program, err := s3Program()
	if err != nil {
		if os.Getenv(envMustS3) != "" {
			t.Fatal(err)
		}
		t.Skip("the object store can't be built here: ", err)
	}
	s := &s3{root: t.TempDir()}
	require.NoError(t, os.MkdirAll(filepath.Join(s.root, "files", "backups"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(s.root, "about"), 0o755))
	at := fmt.Sprintf("127.0.0.1:%d", freePort(t))
	cmd := exec.Command(program, "--port", at, "--quiet", "posix", "--sidecar", filepath.Join(s.root, "about"), filepath.Join(s.root, "files"))
	cmd.Env = append(os.Environ(), "ROOT_ACCESS_KEY="+s3Key, "ROOT_SECRET_KEY="+s3Secret)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	until(t, "the object store answers", func() bool {
		c, err := net.Dial("tcp", at)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
	s.line = lineTo(t, at)
	s.host = s.line.l.Addr().String()
	return s
}

// line passes connections on, and cuts them as it is told.
type line struct {
	l   net.Listener
	cut atomic.Int64 // bytes after which a connection is cut, counting both ways; 0: none
	all atomic.Int64 // bytes that came from here
	n   atomic.Int64 // connections that were cut
}

func lineTo(t *testing.T, to string) *line {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	ln := &line{l: l}
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				near.Close()
				continue
			}
			var passed atomic.Int64
			pass := func(dst, src net.Conn, sent *atomic.Int64) {
				defer dst.Close()
				defer src.Close()
				buf := make([]byte, 16<<10)
				for {
					n, err := src.Read(buf)
					if sent != nil {
						sent.Add(int64(n))
					}
					if cut := ln.cut.Load(); cut > 0 && passed.Add(int64(n)) > cut {
						ln.n.Add(1)
						return
					}
					if _, werr := dst.Write(buf[:n]); err != nil || werr != nil {
						return
					}
				}
			}
			go pass(far, near, &ln.all)
			go pass(near, far, nil)
		}
	}()
	return ln
}

// copyTo has a profile name another place, and says how its keys are found.
func (p *place) copyTo(to string, more ...string) {
	p.t.Helper()
	p.editProfile(func(s string) string {
		s, _, _ = strings.Cut(s, "\n[copy]")
		s += "\n[copy]\nto = '" + to + "'\n" + strings.Join(more, "\n") + "\n"
		if rest, plain := strings.CutPrefix(to, "s3+http://"); plain {
			host, _, _ := strings.Cut(rest, "/")
			s += fmt.Sprintf("\n[[login]]\nhost = '%s'\nuser = '%s'\nfrom = 'env:HARBOUR_WORD'\nplain = true\n", host, s3Key)
		}
		return s
	})
	p.env = append(p.env, "HARBOUR_WORD="+s3Secret)
}

// bulk fills a file of the install with what can't be compressed.
func (p *place) bulk(name string, mib int) {
	p.t.Helper()
	b := make([]byte, mib<<20)
	rand.Read(b)
	p.put(name, string(b))
}

// elsewhere is a machine that has nothing of the first but its environment.
func (p *place) elsewhere() *place {
	q := *p
	q.dir = p.t.TempDir()
	q.home, q.install = filepath.Join(q.dir, "home"), q.dir
	q.env = append(slices.Clone(p.env), "FRESHKEEL_HOME="+q.home)
	return &q
}

// away runs a command with no install.
func (p *place) away(args ...string) ran {
	p.t.Helper()
	cmd := exec.Command(binary, args...)
	cmd.Env, cmd.Dir = p.env, p.dir
	var out, errs strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errs
	cmd.Run()
	return ran{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// objects lists what a folder holds.
func objects(t *testing.T, dir string) (names []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			rel, _ := filepath.Rel(dir, path)
			names = append(names, rel)
		}
		return err
	}))
	return names
}

func ending(names []string, end string) (out []string) {
	for _, n := range names {
		if strings.HasSuffix(n, end) {
			out = append(out, n)
		}
	}
	return out
}

// Every command that makes a backup sends it to the other place, and a machine that
// has nothing but that place lists, shows, checks and restores.
func TestBackupsStandInAnotherPlaceToo(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	disk := filepath.Join(p.dir, "disk")
	p.copyTo(disk)
	p.ok("start")
	r := p.ok("refit") // the refit is done, and told as done, whatever becomes of the copy
	assert.Contains(t, r.out, "REFITTED")
	assert.Contains(t, r.err, "is the disk mounted?")
	assert.NoDirExists(t, disk)
	assert.Contains(t, p.ok("backup", "list").out, "none of them is in the other place yet")
	r = p.exits(exitFailed, "backup", "push")
	assert.Contains(t, r.err, "try: mount the disk; if the copy is new, make the folder first: mkdir "+disk)

	require.NoError(t, os.Mkdir(disk, 0o755))
	assert.Contains(t, p.ok("backup", "push", "--dry-run").out, "WOULD COPY  1 backup")
	assert.Empty(t, objects(t, disk))
	r = p.ok("backup", "take", "--label", "before the storm")
	assert.Contains(t, r.out, "copied    2 backups")
	p.ok("stop")
	p.put("members.txt", "Ada Understone\n")
	r = p.ok("rollback")
	assert.Contains(t, r.out, "copied    1 backup")
	assert.Contains(t, p.ok("backup", "list").out, "all are in the other place too")
	assert.Contains(t, p.ok("backup", "push").out, "NOTHING TO COPY")
	p.ok("backup", "take")
	was, last := p.tree(), p.backups()[3]

	q := p.elsewhere()
	r = q.away("backup", "list", "--from", disk)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "BACKUPS  4 backups")
	assert.Contains(t, r.out, "before the storm")
	r = q.away("backup", "show", last, "--from", disk)
	assert.Contains(t, strings.Join(strings.Fields(r.out), " "), "freshkeel backup restore "+last+" --from "+disk+" --to DIR")
	r = q.away("backup", "check", "--from", disk)
	assert.Contains(t, r.out, "WHOLE")
	q.install = filepath.Join(q.dir, "srv")
	r = q.away("backup", "restore", last, "--from", disk, "--to", q.install)
	require.Zero(t, r.code, r.err)
	assert.Equal(t, was, q.tree())
	assert.NotEmpty(t, objects(t, disk))
	assert.Empty(t, ending(objects(t, q.home), ".zst"), "what was brought is let go of")
	r = q.away("backup", "restore", last, "--from", disk)
	assert.Equal(t, exitUsage, r.code)
	assert.Contains(t, r.err, "add --to DIR")

	// That machine's pushes don't mix with the first one's.
	r = q.exits(exitFailed, "backup", "push")
	assert.Contains(t, r.err, "another locker has written to it")
	assert.Contains(t, r.err, "--claim")
	r = q.ok("backup", "take")
	assert.Contains(t, r.err, "not in their other place")
	q.ok("backup", "push", "--claim")
	p.exits(exitFailed, "backup", "push")
	r = q.away("backup", "list", "--from", disk, "--server", "nobody")
	assert.Contains(t, r.err, "mossgate-east (server-")
	// An empty disk where a full one was, and a folder that is something else's.
	require.NoError(t, os.Rename(disk, disk+"-gone"))
	require.NoError(t, os.Mkdir(disk, 0o755))
	assert.Contains(t, q.exits(exitFailed, "backup", "push").err, "is another disk mounted there?")
	put(t, filepath.Join(disk, "holiday.txt"), "sun")
	q.copyTo(disk + "/")
	assert.Contains(t, p.exits(exitFailed, "backup", "push").err, "is another disk mounted there?")
	assert.Equal(t, exitFailed, q.away("backup", "list", "--from", disk).code)
}

// A refit that goes back made a backup too, and sends it once it has told how it went.
func TestARefitThatGoesBackIsCopiedToo(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[2])
	disk := filepath.Join(p.dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	p.copyTo(disk)
	p.ok("start")
	p.exits(exitRolledBack, "refit")
	assert.Contains(t, p.ok("backup", "list").out, "all are in the other place too")
	r := p.exits(exitRolledBack, "--json", "refit")
	assert.Contains(t, lastLine(r.out), `"event":"failed"`)
	assert.Len(t, ending(objects(t, disk), ".set"), 2)
	p.ok("stop")
}

// The copy keeps as many as it is told, and gives the space of the others back; a
// place that has lost its network is told and never harms what was done.
func TestACopyIsThinned(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	disk := filepath.Join(p.dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	p.copyTo(disk, "last = 2")
	p.bulk("gardens/a.garden", 2)
	p.ok("backup", "take", "--label", "kept")
	for range 3 {
		p.bulk("gardens/b.garden", 2)
		p.ok("backup", "take")
	}
	names := objects(t, disk)
	assert.Len(t, ending(names, ".set"), 3, "two, and the one with a label")
	assert.Len(t, ending(names, ".zst"), 3)
	assert.Len(t, ending(names, ".idx"), 3)
	assert.Len(t, p.backups(), 4, "here all of them are")
	assert.Contains(t, p.elsewhere().away("backup", "check", "--from", disk).out, "WHOLE")
	r := p.ok("backup", "push")
	assert.NotContains(t, r.out, "sent", "what was dropped there is not sent again")
}

// Damage in the copy is mended from here, and damage here from the copy.
func TestACopyAndALockerMendEachOther(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	disk := filepath.Join(p.dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	p.copyTo(disk)
	p.bulk("gardens/a.garden", 3)
	p.ok("backup", "take")
	was := p.tree()
	p.bulk("gardens/a.garden", 3) // nothing but the backups has the first one now
	p.ok("backup", "take")
	flip := func(pattern string) string {
		found, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, found)
		b, err := os.ReadFile(found[0])
		require.NoError(t, err)
		b[len(b)/2] ^= 4
		require.NoError(t, os.WriteFile(found[0], b, 0o600))
		return found[0]
	}
	for _, pattern := range []string{"packs/*.zst", "packs/*.idx", "sets/server-*/b0001.set"} {
		flip(filepath.Join(p.home, "locker", pattern))
		r := p.exits(exitFailed, "backup", "check")
		assert.Contains(t, r.out, "DAMAGED")
		assert.Contains(t, r.out, "freshkeel backup check --mend")
		p.ok("backup", "check", "--mend")
		assert.Contains(t, p.ok("backup", "check").out, "WHOLE", pattern)

		at := flip(filepath.Join(disk, pattern))
		r = p.exits(exitFailed, "backup", "check", "--copy")
		if !strings.HasSuffix(at, ".idx") { // one that reads otherwise than it was written is a piece that is missed
			assert.Contains(t, strings.Join(strings.Fields(r.out), ""), at)
		}
		p.ok("backup", "check", "--copy", "--mend")
		assert.Contains(t, p.ok("backup", "check", "--copy").out, "WHOLE", pattern)
	}
	// A pack that is gone, or cut short, is sent anew by any push.
	for _, spoil := range []func(string) error{os.Remove, func(at string) error { return os.Truncate(at, 100) }} {
		found, _ := filepath.Glob(filepath.Join(disk, "packs/*.zst"))
		require.NoError(t, spoil(found[0]))
		p.exits(exitFailed, "backup", "check", "--copy")
		assert.Contains(t, p.ok("backup", "push").out, "COPIED")
		assert.Contains(t, p.ok("backup", "check", "--copy").out, "WHOLE")
	}
	// The whole locker is lost: the copy alone brings the install back.
	require.NoError(t, os.RemoveAll(filepath.Join(p.home, "locker")))
	p.ok("backup", "restore", "b0001", "--copy")
	assert.Equal(t, was, p.tree())
	assert.Equal(t, []string{"b0001", "b0002"}, p.backups())
}

// A real object store: keys that are wrong, a bucket that is not there, lines that
// are cut again and again, and a machine that has nothing else.
func TestBackupsStandInAnObjectStore(t *testing.T) {
	t.Parallel()
	s := objectStore(t)
	p := mossgate(t, fixed...)
	p.copyTo("s3+http://" + s.host + "/backups/mossgate")
	p.bulk("gardens/big.garden", 40)
	p.env = append(p.env, "HARBOUR_WORD=wrong")
	r := p.ok("backup", "take")
	assert.Contains(t, r.err, "it refuses the keys")
	r = p.exits(exitFailed, "backup", "push")
	assert.Contains(t, r.err, "[[login]] for "+s.host)
	p.env = append(p.env, "HARBOUR_WORD=")
	assert.Contains(t, p.exits(exitFailed, "backup", "push").err, "env:HARBOUR_WORD holds nothing")
	p.env = append(p.env, "HARBOUR_WORD="+s3Secret)
	p.copyTo("s3+http://" + s.host + "/nowhere/mossgate")
	assert.Contains(t, p.exits(exitFailed, "backup", "push").err, "it has no bucket nowhere")
	p.copyTo("s3+http://" + s.host + "/backups/mossgate")

	// Cut in the middle of each pack, until it is let through; what arrived whole is
	// not sent again.
	s.line.cut.Store(5 << 20)
	sending := p.command("backup", "push")
	require.NoError(t, sending.Start())
	until(t, "the line was cut", func() bool { return s.line.n.Load() >= 2 })
	s.line.cut.Store(0)
	require.NoError(t, sending.Wait())
	assert.Contains(t, p.ok("backup", "list").out, "all are in the other place too")
	sent := s.line.all.Load()
	p.put("members.txt", "Ada Understone\n")
	p.ok("backup", "take")
	assert.Less(t, s.line.all.Load()-sent, int64(1<<20), "only what is new")

	was := p.tree()
	q := p.elsewhere()
	put(t, filepath.Join(q.dir, "netrc"), "machine "+s.host+" login "+s3Key+" password "+s3Secret+"\n")
	q.env = append(q.env, "NETRC="+filepath.Join(q.dir, "netrc"))
	from := "s3+http://" + s.host + "/backups/mossgate"
	q.install = filepath.Join(q.dir, "srv")
	s.line.cut.Store(3 << 20) // reading goes on where it was cut
	r = q.away("backup", "restore", "b0002", "--from", from, "--to", q.install)
	require.Zero(t, r.code, r.err)
	assert.Greater(t, s.line.n.Load(), int64(4))
	assert.Equal(t, was, q.tree())

	// The secret is nowhere but in the environment.
	for _, dir := range []string{p.home, p.install, s.root} {
		for _, name := range objects(t, dir) {
			b, err := os.ReadFile(filepath.Join(dir, name))
			if !errors.Is(err, fs.ErrNotExist) {
				require.NoError(t, err)
			}
			assert.NotContains(t, string(b), s3Secret, name)
		}
	}
}

// Killed at any step of a push, what the copy has stays whole, and the next push
// makes it complete with nothing left over.
func TestAPushThatIsKilledGoesOn(t *testing.T) {
	t.Parallel()
	for _, step := range []string{"sent a pack", "sent an index", "sent what it needs", "sent a set", "removed .idx", "removed .zst"} {
		for _, where := range []string{"disk", "object store", "sealed"} {
			t.Run(where+" "+step, func(t *testing.T) {
				t.Parallel()
				p := mossgate(t, fixed...)
				dir, identity := filepath.Join(p.dir, "disk"), []string{}
				switch where {
				case "object store":
					s := objectStore(t)
					p.copyTo("s3+http://"+s.host+"/backups/mossgate", "last = 1")
					dir = filepath.Join(s.root, "files/backups/mossgate")
				case "sealed":
					recipient, file := identityFile(t)
					identity = []string{"--identity", file}
					p.copyTo(dir, "last = 1", "recipients = ['"+recipient+"']")
					require.NoError(t, os.Mkdir(dir, 0o755))
				default:
					p.copyTo(dir, "last = 1")
					require.NoError(t, os.Mkdir(dir, 0o755))
				}
				p.bulk("gardens/a.garden", 20)
				p.ok("backup", "take")
				p.bulk("gardens/a.garden", 20) // two packs more, and two to give back but for a little
				r := p.runWith([]string{envDieAt + "=" + step}, "backup", "take")
				require.Equal(t, -1, r.code, "it was to die\n%s%s", r.out, r.err)
				check := append([]string{"backup", "check", "--copy"}, identity...)
				assert.Contains(t, p.ok(check...).out, "WHOLE", "what was there before, or is whole by now")
				p.ok("backup", "push")
				assert.Contains(t, p.ok(check...).out, "WHOLE")
				names := objects(t, dir)
				tail := ""
				if where == "sealed" {
					tail = ".age"
				}
				assert.Len(t, ending(names, ".set"+tail), 1, "%v", names)
				assert.Len(t, ending(names, ".zst"+tail), len(ending(names, ".idx"+tail)), "%v", names)
				size := int64(0)
				for _, name := range ending(names, ".zst"+tail) {
					fi, err := os.Stat(filepath.Join(dir, name))
					require.NoError(t, err)
					size += fi.Size()
				}
				assert.Less(t, size, int64(30<<20), "of 41 MiB that were sent, 21 are needed: %v", names)
				assert.Empty(t, ending(names, ".half"))
			})
		}
	}
}

// identityFile makes an age identity, and says its recipient.
func identityFile(t *testing.T) (recipient, file string) {
	t.Helper()
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	file = filepath.Join(t.TempDir(), "identity.txt")
	put(t, file, id.String()+"\n")
	return id.Recipient().String(), file
}

// An encrypted copy shows nothing of what is in it, is written to without the
// identity, and is read with it alone; and by hand with age and zstd.
func TestACopyIsEncrypted(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	disk := filepath.Join(p.dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	recipient, file := identityFile(t)
	_, wrong := identityFile(t)
	secret, err := os.ReadFile(file)
	require.NoError(t, err)
	p.editProfile(func(s string) string {
		return s + "\n[copy]\nto = '" + disk + "'\nrecipients = ['" + strings.TrimSpace(string(secret)) + "']\n"
	})
	r := p.exits(exitUsage, "status")
	assert.Contains(t, r.err, "is not an age recipient")
	assert.NotContains(t, r.err, strings.TrimSpace(string(secret))[16:])
	p.copyTo(disk, "recipients = ['"+recipient+"']")
	p.put("members.txt", "Ada Understone\n")
	p.ok("backup", "take")
	p.put("members.txt", "Ada Understone, Bram Siltfoot\n")
	p.ok("backup", "take", "--label", "two of them")
	was := p.tree()
	for _, name := range objects(t, disk) {
		b, err := os.ReadFile(filepath.Join(disk, name))
		require.NoError(t, err)
		assert.NotContains(t, string(b), "members", name)
		assert.NotContains(t, string(b), "mossgate", name)
		if strings.HasSuffix(name, ".age") {
			assert.True(t, strings.HasPrefix(string(b), "age-encryption.org/v1\n"), name)
		}
	}
	q := p.elsewhere()
	q.install = filepath.Join(q.dir, "srv")
	assert.Contains(t, q.away("backup", "list", "--from", disk).err, "try: --identity FILE")
	assert.Contains(t, q.away("backup", "list", "--from", disk, "--identity", wrong).err, "for another identity")
	r = q.away("backup", "list", "--from", disk, "--identity", file)
	assert.Contains(t, r.out, "two of them")
	r = q.away("backup", "restore", "b0002", "--from", disk, "--identity", file, "--to", q.install)
	require.Zero(t, r.code, r.err)
	assert.Equal(t, was, q.tree())

	// The recipient away from the profile, or another place's profile: refused.
	p.copyTo(disk)
	assert.Contains(t, p.exits(exitFailed, "backup", "push").err, "the profile names no recipient")
	p.copyTo(disk, "recipients = ['"+recipient+"']")
	// This machine has forgotten what the packs hold, and can't read it: it is sent
	// again, and what was there stays good.
	require.NoError(t, os.RemoveAll(filepath.Join(p.home, "copies")))
	assert.Contains(t, p.ok("backup", "push").out, "NOTHING TO COPY")
	p.put("members.txt", "Ada\n")
	p.ok("backup", "take")
	assert.Contains(t, p.ok("backup", "check", "--copy", "--identity", file).out, "3 backups")
	// A bit that somebody changed.
	packs, _ := filepath.Glob(filepath.Join(disk, "packs/*.zst.age"))
	for _, at := range packs { // some pieces are there twice
		b, err := os.ReadFile(at)
		require.NoError(t, err)
		b[len(b)-20] ^= 1
		require.NoError(t, os.WriteFile(at, b, 0o600))
	}
	assert.Contains(t, p.exits(exitFailed, "backup", "check", "--copy", "--identity", file).out, "DAMAGED")
	p.ok("backup", "check", "--copy", "--mend", "--identity", file)

	// By hand: age takes the encryption off, and what is left is a locker.
	if _, err := exec.LookPath("age"); err == nil || os.Getenv(envMustS3) != "" {
		doc, err := os.ReadFile("../../docs/locker.md")
		require.NoError(t, err)
		_, rest, marked := strings.Cut(string(doc), "<!-- unsealing -->\n```sh\n")
		require.True(t, marked)
		script, _, _ := strings.Cut(rest, "```")
		cmd := exec.Command("sh", "-ec", script)
		cmd.Dir, cmd.Env = q.dir, append(os.Environ(), "COPY="+disk, "IDENTITY="+file, "LOCKER="+filepath.Join(q.dir, "plain"))
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Contains(t, q.away("backup", "check", "--from", filepath.Join(q.dir, "plain")).out, "WHOLE")
	}
}

// Two pushes to one copy at once: one does it, the other leaves it alone.
func TestTwoPushesAtOnce(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	disk := filepath.Join(p.dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	p.copyTo(disk, "by_hand = true")
	p.ok("backup", "take")
	first := p.command("backup", "push")
	first.Env = append(first.Env, envStayAt+"=sent a pack", envStay+"=2s")
	require.NoError(t, first.Start())
	until(t, "the first is at work", func() bool { return len(ending(objects(t, disk), ".zst")) > 0 })
	assert.Contains(t, p.exits(exitFailed, "backup", "push").err, "another command is writing to this copy now")
	p.ok("backup", "take") // the install is free meanwhile
	require.NoError(t, first.Wait())
	assert.Contains(t, p.ok("backup", "push").out, "COPIED  1 backup")
	var list struct {
		Backups []struct {
			freshkeel.Backup
			Copied bool `json:"copied"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(p.ok("--json", "backup", "list").out), &list))
	require.Len(t, list.Backups, 2)
	assert.True(t, list.Backups[0].Copied && list.Backups[1].Copied)
}

// Two servers of one machine send to one place: each sees its own, thins its own, and
// what they share is there once. A fresh machine says which server it means.
func TestServersShareACopy(t *testing.T) {
	t.Parallel()
	a := mossgate(t, fixed...)
	b := mossgate(t, fixed...)
	b.env = append(b.env, "FRESHKEEL_HOME="+a.home)
	b.editProfile(func(s string) string { return strings.Replace(s, "mossgate-east", "mossgate-west", 1) })
	disk := filepath.Join(a.dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	a.copyTo(disk, "last = 1")
	b.copyTo(disk)
	a.bulk("gardens/song.garden", 2)
	song := a.read("gardens/song.garden")
	b.put("gardens/song.garden", song)
	a.ok("backup", "take")
	before := len(ending(objects(t, disk), ".zst"))
	r := b.ok("backup", "take")
	assert.Regexp(t, `copied    1 backup, [\d.]+ (B|KiB),`, r.out, "the song and the build are there already")
	assert.LessOrEqual(t, len(ending(objects(t, disk), ".zst")), before+1)
	a.put("gardens/song.garden", "another")
	a.ok("backup", "take") // of a's only the newest stays; the song is b's too
	assert.Contains(t, b.ok("backup", "check", "--copy").out, "WHOLE")
	assert.Contains(t, b.ok("backup", "list", "--copy").out, "1 backup, newest last")
	assert.Contains(t, a.ok("backup", "list", "--copy").out, "b0002")

	q := b.elsewhere()
	r = q.away("backup", "list", "--from", disk)
	assert.Equal(t, exitUsage, r.code)
	assert.Contains(t, r.err, "several servers have backups in it")
	assert.Contains(t, r.err, "mossgate-east (server-")
	assert.Contains(t, r.err, "mossgate-west (server-")
	assert.Contains(t, r.err, "try: --server NAME")
	q.install = filepath.Join(q.dir, "srv")
	r = q.away("backup", "restore", "b0001", "--from", disk, "--server", "mossgate-west", "--to", q.install)
	require.Zero(t, r.code, r.err)
	assert.Equal(t, b.tree(), q.tree())
	assert.Contains(t, r.out, "RESTORED")

	// Another install's backup is laid out elsewhere, and never over this one.
	r = a.exits(exitUsage, "backup", "restore", "b0001", "--copy", "--server", "mossgate-west")
	assert.Contains(t, r.err, "is a backup of mossgate-west, another install")
	// What is not there is told like what is not here.
	assert.Contains(t, a.exits(exitFailed, "backup", "restore", "b0044", "--copy").err, "no backup or build of that name")
	assert.Contains(t, a.exits(exitFailed, "backup", "show", "b0044", "--copy").err, "no backup or build of that name")
	var done freshkeel.Pushed
	require.NoError(t, json.Unmarshal([]byte(lastLine(b.ok("--json", "backup", "push").out)), &done))
	assert.Equal(t, disk, done.To)
	assert.Equal(t, 1, done.Held)
	assert.Empty(t, done.Sent)
	// Without another place there is nothing to send to, and it is said how to get one.
	b.copyTo("")
	r = b.exits(exitUsage, "backup", "push")
	assert.Contains(t, r.err, "try: set [copy] to in freshkeel.toml")
	assert.Equal(t, exitUsage, b.run("backup", "list", "--copy").code)
	// Nor may it lie in what is backed up.
	b.copyTo(b.install + "/gardens")
	assert.Contains(t, b.exits(exitUsage, "backup", "push").err, "a copy belongs on another disk")
}
