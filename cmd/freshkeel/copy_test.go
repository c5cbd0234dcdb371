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

	"freshkeel"
	"freshkeel/demo"
	"freshkeel/proving"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// envMustS3 makes a missing object store a failure, for machines that can build it.
const envMustS3 = "FRESHKEEL_TEST_MUST_S3"

// s3Program builds a real object store's server from its sources, which takes a
// minute the first time: in the background, behind everything else.
var s3Program = sync.OnceValues(func() (string, error) {
	to := filepath.Join(filepath.Dir(proving.Binary), "s3store")
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	build := []string{"go", "build", "-C", "testdata/s3store", "-ldflags=-s -w", "-o", to,
		"github.com/versity/versitygw/cmd/versitygw"}
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
	at := fmt.Sprintf("127.0.0.1:%d", proving.FreePort(t))
	cmd := exec.Command(program, "--port", at, "--quiet", "posix", "--sidecar", filepath.Join(s.root, "about"),
		filepath.Join(s.root, "files"))
	cmd.Env = append(os.Environ(), "ROOT_ACCESS_KEY="+s3Key, "ROOT_SECRET_KEY="+s3Secret)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	proving.Until(t, "the object store answers", func() bool {
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
	p.T.Helper()
	p.EditProfile(func(s string) string {
		s, _, _ = strings.Cut(s, "\n[copy]")
		s += "\n[copy]\nto = '" + to + "'\n" + strings.Join(more, "\n") + "\n"
		if rest, plain := strings.CutPrefix(to, "s3+http://"); plain {
			host, _, _ := strings.Cut(rest, "/")
			s += fmt.Sprintf("\n[[login]]\nhost = '%s'\nuser = '%s'\nfrom = 'env:HARBOUR_WORD'\nplain = true\n", host,
				s3Key)
		}
		return s
	})
	p.Env = append(p.Env, "HARBOUR_WORD="+s3Secret)
}

// bulk fills a file of the install with what can't be compressed.
func (p *place) bulk(name string, mib int) {
	p.T.Helper()
	b := make([]byte, mib<<20)
	rand.Read(b)
	p.Put(name, string(b))
}

// elsewhere is a machine that has nothing of the first but its environment.
func (p *place) elsewhere() *place {
	q := *p.Place
	q.Dir = p.T.TempDir()
	q.Home, q.Install = filepath.Join(q.Dir, "home"), q.Dir
	q.Env = append(slices.Clone(p.Env), "FRESHKEEL_HOME="+q.Home)
	return &place{&q}
}

// away runs a command with no install.
func (p *place) away(args ...string) proving.Ran {
	p.T.Helper()
	cmd := exec.Command(proving.Binary, args...)
	cmd.Env, cmd.Dir = p.Env, p.Dir
	var out, errs strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errs
	cmd.Run()
	return proving.Ran{Out: out.String(), Err: errs.String(), Code: cmd.ProcessState.ExitCode()}
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
	disk := filepath.Join(p.Dir, "disk")
	p.copyTo(disk)
	p.OK("start")
	r := p.OK("refit") // the refit is done, and told as done, whatever becomes of the copy
	assert.Contains(t, r.Out, "REFITTED")
	assert.Contains(t, r.Err, "is the disk mounted?")
	assert.NoDirExists(t, disk)
	assert.Contains(t, p.OK("backup", "list").Out, "none of them was sent to the other place yet")
	r = p.Exits(exitFailed, "backup", "push")
	assert.Contains(t, r.Err, "try: mount the disk; if the copy is new, make the folder first: mkdir "+disk)

	require.NoError(t, os.Mkdir(disk, 0o755))
	assert.Contains(t, p.OK("backup", "push", "--dry-run").Out, "WOULD COPY  1 backup")
	assert.Empty(t, objects(t, disk))
	r = p.OK("backup", "take", "--label", "before the storm")
	assert.Contains(t, r.Out, "copied    2 backups")
	p.OK("stop")
	p.Put("members.txt", "Ada Understone\n")
	r = p.OK("rollback")
	assert.Contains(t, r.Out, "copied    1 backup")
	assert.Contains(t, p.OK("backup", "list").Out, "all were in the other place when it was last looked at")
	assert.Contains(t, p.OK("backup", "push").Out, "NOTHING TO COPY")
	p.OK("backup", "take")
	was, last := p.Tree(), p.Backups()[3]

	q := p.elsewhere()
	r = q.away("backup", "list", "--from", disk)
	require.Zero(t, r.Code, r.Err)
	assert.Contains(t, r.Out, "BACKUPS  4 backups")
	assert.Contains(t, r.Out, "before the storm")
	r = q.away("backup", "show", last, "--from", disk)
	assert.Contains(t, strings.Join(strings.Fields(r.Out), " "), "freshkeel backup restore "+last+" --from "+disk+
		" --to DIR")
	r = q.away("backup", "check", "--from", disk)
	assert.Contains(t, r.Out, "WHOLE")
	q.Install = filepath.Join(q.Dir, "srv")
	r = q.away("backup", "restore", last, "--from", disk, "--to", q.Install)
	require.Zero(t, r.Code, r.Err)
	assert.Equal(t, was, q.Tree())
	assert.NotEmpty(t, objects(t, disk))
	assert.Empty(t, ending(objects(t, q.Home), ".zst"), "what was brought is let go of")
	r = q.away("backup", "restore", last, "--from", disk)
	assert.Equal(t, exitUsage, r.Code)
	assert.Contains(t, r.Err, "add --to DIR")

	// That machine's pushes don't mix with the first one's.
	r = q.Exits(exitFailed, "backup", "push")
	assert.Contains(t, r.Err, "another locker has written to it")
	assert.Contains(t, r.Err, "--claim")
	r = q.OK("backup", "take")
	assert.Contains(t, r.Err, "not in their other place")
	q.OK("backup", "push", "--claim")
	p.Exits(exitFailed, "backup", "push")
	r = q.away("backup", "list", "--from", disk, "--server", "nobody")
	assert.Contains(t, r.Err, "mossgate-east (server-")
	// An empty disk where a full one was, and a folder that is something else's.
	require.NoError(t, os.Rename(disk, disk+"-gone"))
	require.NoError(t, os.Mkdir(disk, 0o755))
	assert.Contains(t, q.Exits(exitFailed, "backup", "push").Err, "is another disk mounted there?")
	proving.Put(t, filepath.Join(disk, "holiday.txt"), "sun")
	q.copyTo(disk + "/")
	assert.Contains(t, p.Exits(exitFailed, "backup", "push").Err, "is another disk mounted there?")
	assert.Equal(t, exitFailed, q.away("backup", "list", "--from", disk).Code)
}

// A refit that goes back made a backup too, and sends it once it has told how it went.
func TestARefitThatGoesBackIsCopiedToo(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[2])
	disk := filepath.Join(p.Dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	p.copyTo(disk)
	p.OK("start")
	p.Exits(exitRolledBack, "refit")
	assert.Contains(t, p.OK("backup", "list").Out, "all were in the other place when it was last looked at")
	r := p.Exits(exitRolledBack, "--json", "refit")
	assert.Contains(t, lastLine(r.Out), `"event":"failed"`)
	assert.Len(t, ending(objects(t, disk), ".set"), 2)
	p.OK("stop")
}

// The copy keeps as many as it is told, and gives the space of the others back; a
// place that has lost its network is told and never harms what was done.
func TestACopyIsThinned(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	disk := filepath.Join(p.Dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	p.copyTo(disk, "last = 2")
	p.bulk("gardens/a.garden", 2)
	p.OK("backup", "take", "--label", "kept")
	for range 3 {
		p.bulk("gardens/b.garden", 2)
		p.OK("backup", "take")
	}
	names := objects(t, disk)
	assert.Len(t, ending(names, ".set"), 3, "two, and the one with a label")
	assert.Len(t, ending(names, ".zst"), 3)
	assert.Len(t, ending(names, ".idx"), 3)
	assert.Len(t, p.Backups(), 4, "here all of them are")
	assert.Contains(t, p.elsewhere().away("backup", "check", "--from", disk).Out, "WHOLE")
	r := p.OK("backup", "push")
	assert.NotContains(t, r.Out, "sent", "what was dropped there is not sent again")
}

// Damage in the copy is mended from here, and damage here from the copy.
func TestACopyAndALockerMendEachOther(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	disk := filepath.Join(p.Dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	p.copyTo(disk)
	p.bulk("gardens/a.garden", 3)
	p.OK("backup", "take")
	was := p.Tree()
	p.bulk("gardens/a.garden", 3) // nothing but the backups has the first one now
	p.OK("backup", "take")
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
		flip(filepath.Join(p.Home, "locker", pattern))
		r := p.Exits(exitFailed, "backup", "check")
		assert.Contains(t, r.Out, "DAMAGED")
		assert.Contains(t, r.Out, "freshkeel backup check --mend")
		p.OK("backup", "check", "--mend")
		assert.Contains(t, p.OK("backup", "check").Out, "WHOLE", pattern)

		at := flip(filepath.Join(disk, pattern))
		r = p.Exits(exitFailed, "backup", "check", "--copy")
		if !strings.HasSuffix(at, ".idx") { // one that reads otherwise than it was written is a piece that is missed
			assert.Contains(t, strings.Join(strings.Fields(r.Out), ""), at)
		}
		p.OK("backup", "check", "--copy", "--mend")
		assert.Contains(t, p.OK("backup", "check", "--copy").Out, "WHOLE", pattern)
	}
	// A pack that is gone, or cut short, is sent anew by any push.
	for _, spoil := range []func(string) error{os.Remove, func(at string) error { return os.Truncate(at, 100) }} {
		found, _ := filepath.Glob(filepath.Join(disk, "packs/*.zst"))
		require.NoError(t, spoil(found[0]))
		p.Exits(exitFailed, "backup", "check", "--copy")
		assert.Contains(t, p.OK("backup", "push").Out, "COPIED")
		assert.Contains(t, p.OK("backup", "check", "--copy").Out, "WHOLE")
	}
	// The whole locker is lost: the copy alone brings the install back.
	require.NoError(t, os.RemoveAll(filepath.Join(p.Home, "locker")))
	p.OK("backup", "restore", "b0001", "--copy")
	assert.Equal(t, was, p.Tree())
	assert.Equal(t, []string{"b0001", "b0002"}, p.Backups())
}

// A real object store: keys that are wrong, a bucket that is not there, lines that
// are cut again and again, and a machine that has nothing else.
func TestBackupsStandInAnObjectStore(t *testing.T) {
	t.Parallel()
	s := objectStore(t)
	p := mossgate(t, fixed...)
	p.copyTo("s3+http://" + s.host + "/backups/mossgate")
	p.bulk("gardens/big.garden", 40)
	p.Env = append(p.Env, "HARBOUR_WORD=wrong")
	r := p.OK("backup", "take")
	assert.Contains(t, r.Err, "it refuses the keys")
	r = p.Exits(exitFailed, "backup", "push")
	assert.Contains(t, r.Err, "[[login]] for "+s.host)
	p.Env = append(p.Env, "HARBOUR_WORD=")
	assert.Contains(t, p.Exits(exitFailed, "backup", "push").Err, "env:HARBOUR_WORD holds nothing")
	p.Env = append(p.Env, "HARBOUR_WORD="+s3Secret)
	p.copyTo("s3+http://" + s.host + "/nowhere/mossgate")
	assert.Contains(t, p.Exits(exitFailed, "backup", "push").Err, "it has no bucket nowhere")
	p.copyTo("s3+http://" + s.host + "/backups/mossgate")

	// Cut in the middle of each pack, until it is let through; what arrived whole is
	// not sent again.
	s.line.cut.Store(5 << 20)
	sending := p.Command("backup", "push")
	require.NoError(t, sending.Start())
	proving.Until(t, "the line was cut", func() bool { return s.line.n.Load() >= 2 })
	s.line.cut.Store(0)
	require.NoError(t, sending.Wait())
	assert.Contains(t, p.OK("backup", "list").Out, "all were in the other place when it was last looked at")
	sent := s.line.all.Load()
	p.Put("members.txt", "Ada Understone\n")
	p.OK("backup", "take")
	assert.Less(t, s.line.all.Load()-sent, int64(1<<20), "only what is new")

	was := p.Tree()
	q := p.elsewhere()
	proving.Put(t, filepath.Join(q.Dir, "netrc"), "machine "+s.host+" login "+s3Key+" password "+s3Secret+"\n")
	q.Env = append(q.Env, "NETRC="+filepath.Join(q.Dir, "netrc"))
	from := "s3+http://" + s.host + "/backups/mossgate"
	q.Install = filepath.Join(q.Dir, "srv")
	s.line.cut.Store(3 << 20) // reading goes on where it was cut
	r = q.away("backup", "restore", "b0002", "--from", from, "--to", q.Install)
	require.Zero(t, r.Code, r.Err)
	assert.Greater(t, s.line.n.Load(), int64(4))
	assert.Equal(t, was, q.Tree())

	// The secret is nowhere but in the environment.
	for _, dir := range []string{p.Home, p.Install, s.root} {
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
	for _, step := range []string{"sent a pack", "sent an index", "sent what it needs", "sent a set", "removed .idx",
		"removed .zst"} {
		for _, where := range []string{"disk", "object store", "sealed"} {
			if !proving.TodayNamed(where + " " + step) {
				continue
			}
			t.Run(where+" "+step, func(t *testing.T) {
				t.Parallel()
				p := mossgate(t, fixed...)
				dir, identity := filepath.Join(p.Dir, "disk"), []string{}
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
				p.OK("backup", "take")
				p.bulk("gardens/a.garden", 20) // two packs more, and two to give back but for a little
				r := p.RunWith([]string{envDieAt + "=" + step}, "backup", "take")
				require.Equal(t, -1, r.Code, "it was to die\n%s%s", r.Out, r.Err)
				check := append([]string{"backup", "check", "--copy"}, identity...)
				assert.Contains(t, p.OK(check...).Out, "WHOLE", "what was there before, or is whole by now")
				p.OK("backup", "push")
				assert.Contains(t, p.OK(check...).Out, "WHOLE")
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
	proving.Put(t, file, id.String()+"\n")
	return id.Recipient().String(), file
}

// An encrypted copy shows nothing of what is in it, is written to without the
// identity, and is read with it alone; and by hand with age and zstd.
func TestACopyIsEncrypted(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	disk := filepath.Join(p.Dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	recipient, file := identityFile(t)
	_, wrong := identityFile(t)
	secret, err := os.ReadFile(file)
	require.NoError(t, err)
	p.EditProfile(func(s string) string {
		return s + "\n[copy]\nto = '" + disk + "'\nrecipients = ['" + strings.TrimSpace(string(secret)) + "']\n"
	})
	r := p.Exits(exitUsage, "status")
	assert.Contains(t, r.Err, "is not an age recipient")
	assert.NotContains(t, r.Err, strings.TrimSpace(string(secret))[16:])
	p.copyTo(disk, "recipients = ['"+recipient+"']")
	p.Put("members.txt", "Ada Understone\n")
	p.OK("backup", "take")
	p.Put("members.txt", "Ada Understone, Bram Siltfoot\n")
	p.OK("backup", "take", "--label", "two of them")
	was := p.Tree()
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
	q.Install = filepath.Join(q.Dir, "srv")
	assert.Contains(t, q.away("backup", "list", "--from", disk).Err, "try: --identity FILE")
	assert.Contains(t, q.away("backup", "list", "--from", disk, "--identity", wrong).Err, "for another identity")
	r = q.away("backup", "list", "--from", disk, "--identity", file)
	assert.Contains(t, r.Out, "two of them")
	r = q.away("backup", "restore", "b0002", "--from", disk, "--identity", file, "--to", q.Install)
	require.Zero(t, r.Code, r.Err)
	assert.Equal(t, was, q.Tree())

	// The recipient away from the profile, or another place's profile: refused.
	p.copyTo(disk)
	assert.Contains(t, p.Exits(exitFailed, "backup", "push").Err, "the profile names no recipient")
	p.copyTo(disk, "recipients = ['"+recipient+"']")
	// This machine has forgotten what the packs hold, and can't read it: it is sent
	// again, and what was there stays good.
	require.NoError(t, os.RemoveAll(filepath.Join(p.Home, "copies")))
	assert.Contains(t, p.OK("backup", "push").Out, "NOTHING TO COPY")
	p.Put("members.txt", "Ada\n")
	p.OK("backup", "take")
	assert.Contains(t, p.OK("backup", "check", "--copy", "--identity", file).Out, "3 backups")
	// A bit that somebody changed.
	packs, _ := filepath.Glob(filepath.Join(disk, "packs/*.zst.age"))
	for _, at := range packs { // some pieces are there twice
		b, err := os.ReadFile(at)
		require.NoError(t, err)
		b[len(b)-20] ^= 1
		require.NoError(t, os.WriteFile(at, b, 0o600))
	}
	assert.Contains(t, p.Exits(exitFailed, "backup", "check", "--copy", "--identity", file).Out, "DAMAGED")
	p.OK("backup", "check", "--copy", "--mend", "--identity", file)

	// By hand: age takes the encryption off, and what is left is a locker.
	if _, err := exec.LookPath("age"); err == nil || os.Getenv(envMustS3) != "" {
		doc, err := os.ReadFile("../../docs/locker.md")
		require.NoError(t, err)
		_, rest, marked := strings.Cut(string(doc), "<!-- unsealing -->\n```sh\n")
		require.True(t, marked)
		script, _, _ := strings.Cut(rest, "```")
		cmd := exec.Command("sh", "-ec", script)
		cmd.Dir, cmd.Env = q.Dir, append(os.Environ(), "COPY="+disk, "IDENTITY="+file, "LOCKER="+
			filepath.Join(q.Dir, "plain"))
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Contains(t, q.away("backup", "check", "--from", filepath.Join(q.Dir, "plain")).Out, "WHOLE")
	}
}

// Two pushes to one copy at once: one does it, the other leaves it alone.
func TestTwoPushesAtOnce(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	disk := filepath.Join(p.Dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	p.copyTo(disk, "by_hand = true")
	p.OK("backup", "take")
	first := p.Command("backup", "push")
	goOn := p.Hold("sent a pack", first)
	assert.NotEmpty(t, ending(objects(t, disk), ".zst"))
	assert.Contains(t, p.Exits(exitFailed, "backup", "push").Err, "another command is writing to this copy now")
	p.OK("backup", "take") // the install is free meanwhile
	goOn()
	require.NoError(t, first.Wait())
	assert.Contains(t, p.OK("backup", "push").Out, "COPIED  1 backup")
	var list struct {
		Backups []struct {
			freshkeel.Backup
			Copied bool `json:"copied"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(p.OK("--json", "backup", "list").Out), &list))
	require.Len(t, list.Backups, 2)
	assert.True(t, list.Backups[0].Copied && list.Backups[1].Copied)
}

// Two servers of one machine send to one place: each sees its own, thins its own, and
// what they share is there once. A fresh machine says which server it means.
func TestServersShareACopy(t *testing.T) {
	t.Parallel()
	a := mossgate(t, fixed...)
	b := mossgate(t, fixed...)
	b.Env = append(b.Env, "FRESHKEEL_HOME="+a.Home)
	b.EditProfile(func(s string) string { return strings.Replace(s, "mossgate-east", "mossgate-west", 1) })
	disk := filepath.Join(a.Dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	a.copyTo(disk, "last = 1")
	b.copyTo(disk)
	a.bulk("gardens/song.garden", 2)
	song := a.Read("gardens/song.garden")
	b.Put("gardens/song.garden", song)
	a.OK("backup", "take")
	before := len(ending(objects(t, disk), ".zst"))
	r := b.OK("backup", "take")
	assert.Regexp(t, `copied    1 backup, [\d.]+ (B|KiB),`, r.Out, "the song and the build are there already")
	assert.LessOrEqual(t, len(ending(objects(t, disk), ".zst")), before+1)
	a.Put("gardens/song.garden", "another")
	a.OK("backup", "take") // of a's only the newest stays; the song is b's too
	assert.Contains(t, b.OK("backup", "check", "--copy").Out, "WHOLE")
	assert.Contains(t, b.OK("backup", "list", "--copy").Out, "1 backup, newest last")
	assert.Contains(t, a.OK("backup", "list", "--copy").Out, "b0002")

	q := b.elsewhere()
	r = q.away("backup", "list", "--from", disk)
	assert.Equal(t, exitUsage, r.Code)
	assert.Contains(t, r.Err, "several servers have backups in it")
	assert.Contains(t, r.Err, "mossgate-east (server-")
	assert.Contains(t, r.Err, "mossgate-west (server-")
	assert.Contains(t, r.Err, "try: --server NAME")
	q.Install = filepath.Join(q.Dir, "srv")
	r = q.away("backup", "restore", "b0001", "--from", disk, "--server", "mossgate-west", "--to", q.Install)
	require.Zero(t, r.Code, r.Err)
	assert.Equal(t, b.Tree(), q.Tree())
	assert.Contains(t, r.Out, "RESTORED")

	// Another install's backup is laid out elsewhere, and never over this one.
	r = a.Exits(exitUsage, "backup", "restore", "b0001", "--copy", "--server", "mossgate-west")
	assert.Contains(t, r.Err, "is a backup of mossgate-west, another install")
	// What is not there is told like what is not here.
	assert.Contains(t, a.Exits(exitFailed, "backup", "restore", "b0044", "--copy").Err,
		"no backup or build of that name")
	assert.Contains(t, a.Exits(exitFailed, "backup", "show", "b0044", "--copy").Err, "no backup or build of that name")
	var done freshkeel.Pushed
	require.NoError(t, json.Unmarshal([]byte(lastLine(b.OK("--json", "backup", "push").Out)), &done))
	assert.Equal(t, disk, done.To)
	assert.Equal(t, 1, done.Held)
	assert.Empty(t, done.Sent)
	// Without another place there is nothing to send to, and it is said how to get one.
	b.copyTo("")
	r = b.Exits(exitUsage, "backup", "push")
	assert.Contains(t, r.Err, "try: set [copy] to in freshkeel.toml")
	assert.Equal(t, exitUsage, b.Run("backup", "list", "--copy").Code)
	// Nor may it lie in what is backed up.
	b.copyTo(b.Install + "/gardens")
	assert.Contains(t, b.Exits(exitUsage, "backup", "push").Err, "a copy belongs on another disk")
}
