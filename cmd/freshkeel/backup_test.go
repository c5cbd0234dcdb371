//go:build unix

package main

import (
	"archive/tar"
	"archive/zip"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestABackupIsShownAgainstTheOneBefore(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	p.OK("backup", "take", "--label", "before the storm")
	p.Put("gardens/new-pond.garden", "water")
	p.Put("members.txt", "Ada Understone\n")
	require.NoError(t, os.Remove(filepath.Join(p.Install, "tracks/old-mill.track")))
	p.OK("backup", "take")
	r := p.OK("backup", "show", "b0002")
	for _, want := range []string{"b0002  15 files", "since     b0001: 1 changed, 1 added, 1 removed",
		"changed  members.txt", "added    gardens/new-pond.garden", "removed  tracks/old-mill.track", "left out",
		"freshkeel backup restore b0002"} {
		assert.Contains(t, r.Out, want)
	}
	assert.Contains(t, p.OK("backup", "show", "b0001").Out, "label     before the storm")
	assert.Regexp(t, `\d B  gardens/new-pond.garden`, p.OK("backup", "show", "b0002", "--all").Out)
	assert.Contains(t, p.Exits(exitFailed, "backup", "show", "b0009").Err, "no backup or build of that name")

	// A part is a part: nothing outside it is touched when it comes back.
	p.OK("backup", "take", "--only", "gardens/**", "--leave", "gardens/old-well.garden", "--label", "gardens alone")
	r = p.OK("backup", "show", "b0003")
	assert.Contains(t, r.Out, "only      gardens/**")
	assert.Contains(t, r.Out, "left out  gardens/old-well.garden")
	before := p.Tree()
	p.Put("gardens/fen-east.garden", "drowned")
	p.Put("gardens/old-well.garden", "dug anew")
	p.Put("gardens/weed.garden", "weed")
	p.Put("members.txt", "nobody\n")
	p.OK("backup", "restore", "b0003")
	after := p.Tree()
	assert.Equal(t, before["gardens/fen-east.garden"], after["gardens/fen-east.garden"])
	assert.NotContains(t, after, "gardens/weed.garden", "it was not there, and is moved aside")
	assert.Equal(t, "dug anew", p.Read("gardens/old-well.garden"))
	assert.Equal(t, "nobody\n", p.Read("members.txt"))
	p.Exits(exitUsage, "backup", "take", "--only", "[")
}

// Damage is found by reading back, named with the files it touches, and stored
// anew by the next backup where the install still has it.
func TestDamageInABackupIsNamedAndMended(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	p.Put("songs.txt", "of slime and starlight\n")
	p.OK("backup", "take", "--leave", "songs.txt")
	p.OK("backup", "take")
	assert.Regexp(t, `WHOLE  \d+ pieces of 2 backups read back`, p.OK("backup", "check").Out)
	packs, err := filepath.Glob(filepath.Join(p.Home, "locker/packs/*.zst"))
	require.NoError(t, err)
	spoil := func(at string) (back func()) {
		good, err := os.ReadFile(at)
		require.NoError(t, err)
		bad := slices.Clone(good)
		bad[len(bad)/2] ^= 0x10
		require.NoError(t, os.WriteFile(at, bad, 0o600))
		return func() { require.NoError(t, os.WriteFile(at, good, 0o600)) }
	}
	slices.SortFunc(packs, func(a, b string) int { // the newest holds no more than the second backup's own
		x, _ := os.Stat(a)
		y, _ := os.Stat(b)
		return x.ModTime().Compare(y.ModTime())
	})
	spoil(packs[len(packs)-1])
	r := p.Exits(exitFailed, "backup", "check")
	assert.Contains(t, r.Out, "DAMAGED")
	assert.Contains(t, r.Out, "songs.txt in b0002:")
	assert.Contains(t, strings.Join(strings.Fields(r.Out), ""), filepath.Base(packs[len(packs)-1]))
	assert.Contains(t, p.OK("backup", "check", "b0001").Out, "WHOLE", "what is not in that pack is not lost")
	assert.Contains(t, p.Exits(exitFailed, "backup", "restore", "b0002", "--to", filepath.Join(p.Dir, "x")).Err,
		"songs.txt")

	p.OK("backup", "take")
	assert.Contains(t, p.OK("backup", "check", "b0003").Out, "WHOLE", "stored anew")
	p.OK("backup", "restore", "b0003", "--to", filepath.Join(p.Dir, "y"))

	// As many days as there are parts read everything.
	var whole, part struct{ Pieces int }
	require.NoError(t, json.Unmarshal([]byte(p.OK("--json", "backup", "check", "b0003").Out), &whole))
	require.NoError(t, json.Unmarshal([]byte(p.OK("--json", "backup", "check", "b0003", "--sample", "3").Out), &part))
	assert.Less(t, part.Pieces, whole.Pieces)
	assert.Greater(t, part.Pieces, 0)

	// An index and a set that are cut short, and a pack that is gone.
	index := strings.TrimSuffix(packs[0], ".zst") + ".idx"
	b, err := os.ReadFile(index)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(index, b[:len(b)/2], 0o600))
	r = p.Exits(exitFailed, "backup", "check")
	assert.Contains(t, r.Out, "broken")
	assert.Contains(t, strings.Join(strings.Fields(r.Out), ""), filepath.Base(index))
	require.NoError(t, os.WriteFile(index, b, 0o600))
	require.NoError(t, os.Rename(packs[0], packs[0]+".away"))
	assert.Contains(t, p.Exits(exitFailed, "backup", "check", "b0003").Out, "no such file")
	require.NoError(t, os.Rename(packs[0]+".away", packs[0]))
	p.OK("backup", "take") // what was found damaged is stored anew
	assert.Contains(t, p.OK("backup", "check", p.Backups()[3]).Out, "WHOLE")
}

// Old backups go; those with a label, and those that a rollback needs, never do.
func TestThinningKeepsWhatIsNeeded(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	p.OK("backup", "take", "--label", "keep me")
	for i := range 3 {
		p.Put("gardens/big.garden", strings.Repeat(fmt.Sprint("pond ", i, time.Now().UnixNano()), 40_000))
		p.OK("backup", "take")
	}
	p.OK("refit", "3.5.0")
	assert.Contains(t, p.Exits(exitUsage, "backup", "thin").Err, "nothing says how many backups to keep")
	r := p.OK("backup", "thin", "--last", "1", "--dry-run")
	assert.Contains(t, r.Out, "WOULD DROP  3 backups of 5")
	assert.Contains(t, r.Out, "keep      b0001  it has a label")
	assert.Contains(t, r.Out, "keep      b0005  a rollback of r0001 needs it")
	require.Len(t, p.Backups(), 5)

	for _, step := range []string{"dropped", "moved", "index gone"} { // killed anywhere, nothing that is needed is lost
		p.RunWith([]string{envDieAt + "=" + step}, "backup", "thin", "--last", "1")
		assert.Contains(t, p.OK("backup", "check").Out, "WHOLE", step)
	}
	p.OK("backup", "thin", "--last", "1")
	assert.Equal(t, []string{"b0001", "b0005"}, p.Backups())
	assert.Contains(t, p.OK("backup", "check").Out, "WHOLE")
	p.OK("rollback")
	p.OK("backup", "restore", "b0001")
	assert.NoFileExists(t, filepath.Join(p.Install, "gardens/big.garden"))

	// Space is given back: what is left is little more than one backup.
	p.EditProfile(func(s string) string { return s + "\n[backup]\nlast = 1\n" })
	r = p.OK("backup", "thin")
	assert.Regexp(t, `DROPPED|NOTHING`, r.Out)
	orphans, _ := filepath.Glob(filepath.Join(p.Home, "locker/packs/*.zst"))
	indexes, _ := filepath.Glob(filepath.Join(p.Home, "locker/packs/*.idx"))
	assert.Equal(t, len(indexes), len(orphans))

	// Beside a backup that is being taken, nothing is given back, and it says so.
	slow := p.Command("backup", "take")
	slow.Env = append(slow.Env, envStayAt+"=quiet")
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "[backup]\n", "[backup]\nbefore = ['members']\nsaved = '^members: '\n", 1)
	})
	p.OK("start")
	require.NoError(t, slow.Start())
	t.Cleanup(func() { slow.Process.Kill(); slow.Wait() })
	proving.Until(t, "the backup to stand still",
		func() bool { return strings.Contains(p.Run("log").Out, "members: ") })
	assert.Contains(t, p.Run("backup", "thin").Err, "backup", "one at a time")
}

// A running server saves and holds still by its own console lines, and goes on
// whatever becomes of the command.
func TestALiveBackupTellsTheServerAndAlwaysLetsItGoOn(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	p.Put("world.dat", "w")
	p.EditProfile(func(s string) string {
		return s + "\n[backup]\nbefore = ['hold', 'flush']\nsaved = '^heard flush'\nafter = ['go on']\nwait = '3s'\n"
	})
	heard := func() string { return p.Run("log").Out }
	assert.NotContains(t, p.OK("backup", "take").Err, "quiet", "nobody is there to be told")
	p.OK("start")
	r := p.OK("backup", "take")
	assert.Contains(t, r.Err, "quiet: heard flush")
	assert.Equal(t, 1, strings.Count(heard(), "heard go on"))

	slow := p.Command("backup", "take")
	slow.Env = append(slow.Env, envStayAt+"=quiet")
	require.NoError(t, slow.Start())
	proving.Until(t, "it to be told", func() bool { return strings.Count(heard(), "heard flush") == 2 })
	assert.Equal(t, 1, strings.Count(heard(), "heard go on"))
	require.NoError(t, slow.Process.Kill())
	slow.Wait()
	proving.Until(t, "it to go on", func() bool { return strings.Count(heard(), "heard go on") == 2 })

	p.EditProfile(func(s string) string {
		return strings.NewReplacer("'^heard flush'", "'^saved'", "wait = '3s'", "wait = '200ms'").Replace(s)
	})
	r = p.Exits(exitFailed, "backup", "take")
	assert.Contains(t, r.Err, `no line that matches '^saved' came within 200ms`)
	proving.Until(t, "it to go on", func() bool { return strings.Count(heard(), "heard go on") == 3 })
}

// What goes out as an archive is opened by ordinary tools, and what the operator
// has from before comes in as a backup like any other.
func TestBackupsGoOutAndComeIn(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	require.NoError(t, os.Symlink("fen-east.garden", filepath.Join(p.Install, "gardens/link.garden")))
	require.NoError(t, os.MkdirAll(filepath.Join(p.Install, "hollow"), 0o755))
	p.OK("backup", "take")
	want := p.Tree()
	delete(want, "freshkeel.toml") // stays as it is now
	out := map[string]string{}
	for _, name := range []string{"all.tar.zst", "all.zip", "all.tar"} {
		out[name] = filepath.Join(p.Dir, name)
		assert.Contains(t, p.OK("backup", "export", "b0001", out[name]).Out, "EXPORTED")
	}
	p.Exits(exitUsage, "backup", "export", "b0001", out["all.zip"])
	p.Exits(exitUsage, "backup", "export", "b0001", filepath.Join(p.Dir, "all.doc"))

	f, err := os.Open(out["all.tar.zst"])
	require.NoError(t, err)
	defer f.Close()
	z, err := zstd.NewReader(f)
	require.NoError(t, err)
	names := map[string]string{}
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		b, err := io.ReadAll(r)
		require.NoError(t, err)
		names[h.Name] = string(b)
	}
	assert.Equal(t, p.Read("members.txt"), names["members.txt"])
	assert.Contains(t, names, "hollow/")
	zr, err := zip.OpenReader(out["all.zip"])
	require.NoError(t, err)
	defer zr.Close()
	assert.Equal(t, len(names), len(zr.File))

	// A copy that was made by hand lies in a folder of its own, more often than not.
	hand := filepath.Join(p.Dir, "old copy")
	p.OK("backup", "restore", "b0001", "--to", filepath.Join(hand, "mossgate-east"))
	for _, from := range []string{out["all.tar.zst"], out["all.zip"], filepath.Join(hand, "mossgate-east")} {
		r := p.OK("backup", "import", from)
		assert.Contains(t, r.Out, "TAKEN IN")
		ids := p.Backups()
		p.Put("members.txt", "nobody\n")
		require.NoError(t, os.Remove(filepath.Join(p.Install, "gardens/link.garden")))
		p.OK("backup", "restore", ids[len(ids)-1])
		got := p.Tree()
		delete(got, "freshkeel.toml")
		assert.Equal(t, want, got, from)
	}
	assert.Contains(t, p.OK("backup", "list").Out, "from all.zip")
}

// Killed at moments that nobody chose, beside each other: nothing that was stored
// is lost, and each next command works.
func TestBackupsSurviveKills(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	disk := filepath.Join(p.Dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	p.copyTo(disk, "by_hand = true")
	p.OK("backup", "take", "--label", "whole")
	p.OK("backup", "push")
	want := p.Tree()
	n := 0
	for _, args := range [][]string{
		{"backup", "push"}, {"backup", "restore", "b0001", "--copy", "--to", "OUT"}, {"backup", "check", "--copy"},
		{"backup", "take"}, {"backup", "take", "--reread"}, {"backup", "thin", "--last", "1"}, {"backup", "check"},
		{"backup", "export", "b0001", "OUT.tar.zst"}, {"backup", "restore", "b0001", "--to", "OUT"},
		{"backup", "import", "members.txt.zip"},
	} {
		for _, after := range []time.Duration{2, 12, 30} {
			n++
			for i := range args {
				args[i] = strings.Replace(args[i], "OUT", filepath.Join(p.Dir, fmt.Sprint("out", n)), 1)
			}
			p.Put("gardens/grows.garden", strings.Repeat(fmt.Sprint(n, " "), 200_000))
			cmd := p.Command(args...)
			require.NoError(t, cmd.Start())
			time.Sleep(after * time.Millisecond)
			cmd.Process.Kill()
			cmd.Wait()
			for _, check := range [][]string{{"backup", "check"}, {"backup", "check", "--copy"}} {
				r := p.OK(check...)
				require.Contains(t, r.Out, "WHOLE", "%v", args)
			}
			if n%3 == 0 { // the next round has something to push
				p.OK("backup", "take")
			}
		}
	}
	p.OK("backup", "take")
	p.OK("backup", "push")
	assert.Contains(t, p.OK("backup", "list").Out, "all were in the other place when it was last looked at")
	for _, left := range []string{filepath.Join(disk, "packs", ".half*"),
		filepath.Join(p.Home, "copies", "reading-*")} {
		found, _ := filepath.Glob(left)
		if strings.Contains(left, "reading") { // that of a dead reader goes with the next
			p.OK("backup", "list", "--copy")
			found, _ = filepath.Glob(left)
		}
		assert.Empty(t, found)
	}
	p.OK("backup", "thin", "--last", "1")
	require.NoError(t, os.Remove(filepath.Join(p.Install, "gardens/grows.garden")))
	p.OK("backup", "restore", "b0001")
	assert.Equal(t, want, p.Tree())
	left, _ := filepath.Glob(filepath.Join(p.Home, "locker/packs/*.part"))
	assert.Empty(t, left, "what a killed writer left is swept")
}

// A disk that is full loses no backup, and says so.
func TestAFullDiskLosesNoBackup(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	p.mounted(p.Home, "size=3m")
	p.OK("backup", "take")
	p.Put("gardens/vast.garden", "") // what does not compress
	b := make([]byte, 6<<20)
	for i, x := 0, uint32(1); i < len(b); i++ {
		x = x*1664525 + 1013904223
		b[i] = byte(x >> 24)
	}
	require.NoError(t, os.WriteFile(filepath.Join(p.Install, "gardens/vast.garden"), b, 0o644))
	for _, args := range [][]string{{"backup", "take"}, {"backup", "import", filepath.Join(p.Install, "gardens")}} {
		assert.Contains(t, p.Exits(exitFailed, args...).Err, "no space left on device")
		assert.Equal(t, []string{"b0001"}, p.Backups())
		assert.Contains(t, p.OK("backup", "check").Out, "WHOLE")
	}
	small := filepath.Join(p.Dir, "small")
	require.NoError(t, os.Mkdir(small, 0o755))
	p.mounted(small, "size=200k")
	assert.Contains(t, p.Exits(exitFailed, "backup", "export", "b0001", filepath.Join(small, "x.tar")).Err,
		"no space left on device")
	assert.Contains(t, p.Exits(exitFailed, "backup", "restore", "b0001", "--to", filepath.Join(small, "x")).Err,
		"no space left on device")
	list, err := filepath.Glob(filepath.Join(small, ".export*"))
	require.NoError(t, err)
	assert.Empty(t, list, "half an archive is no archive")
	require.NoError(t, os.Remove(filepath.Join(p.Install, "gardens/vast.garden")))
	p.OK("backup", "take")

	// The other place's disk is full: what it has stays whole, and the backup is here.
	far := filepath.Join(p.Dir, "far")
	require.NoError(t, os.Mkdir(far, 0o755))
	p.mounted(far, "size=1300k")
	p.copyTo(far)
	p.OK("backup", "push")
	p.bulk("gardens/songs.garden", 1)
	r := p.OK("backup", "take")
	assert.Contains(t, r.Err, "no space left on device")
	assert.Contains(t, strings.Join(strings.Fields(p.OK("backup", "list").Out), " "), ": b0003 (freshkeel backup push)")
	r = p.OK("backup", "check", "--copy")
	assert.Contains(t, r.Out, "WHOLE")
	assert.Contains(t, r.Out, "2 backups")

	// No room here to unpack what is there is no damage of what is there.
	sealed := filepath.Join(p.Dir, "sealed")
	require.NoError(t, os.Mkdir(sealed, 0o755))
	recipient, file := identityFile(t)
	require.NoError(t, os.Remove(filepath.Join(p.Install, "gardens/songs.garden")))
	p.OK("backup", "thin", "--last", "1")
	p.copyTo(sealed, "recipients = ['"+recipient+"']")
	p.OK("backup", "push")
	filler, err := os.Create(filepath.Join(p.Home, "filler"))
	require.NoError(t, err)
	for err == nil {
		_, err = filler.Write(make([]byte, 4096))
	}
	filler.Close()
	r = p.Exits(exitFailed, "backup", "check", "--copy", "--identity", file)
	assert.Contains(t, r.Err, "no space left on device")
	assert.NotContains(t, r.Out, "DAMAGED")
}

// Two servers back up and thin in one locker at once, and somebody reads: nothing
// that is needed is lost, and the space of all else comes back.
func TestTwoServersThinOneLockerAtOnce(t *testing.T) {
	t.Parallel()
	a := mossgate(t, fixed...)
	b := mossgate(t, fixed...)
	b.Env = append(b.Env, "FRESHKEEL_HOME="+a.Home)
	var all sync.WaitGroup
	for _, p := range []*place{a, b} {
		all.Go(func() {
			for range 6 {
				p.bulk("gardens/churn.garden", 1)
				for _, args := range [][]string{{"backup", "take"}, {"backup", "thin", "--last", "2"},
					{"backup", "check"}} {
					if r := p.Run(args...); !assert.Zero(t, r.Code, "%v: %s%s", args, r.Out, r.Err) {
						return
					}
				}
			}
		})
	}
	all.Wait()
	b.Home = a.Home
	for _, p := range []*place{a, b} {
		assert.Len(t, p.Backups(), 2)
		p.Put("gardens/churn.garden", "")
		p.OK("backup", "restore", p.Backups()[1])
		p.OK("backup", "thin", "--last", "1")
		assert.Contains(t, p.OK("backup", "check").Out, "WHOLE")
	}
	left := int64(0)
	for _, at := range objects(t, filepath.Join(a.Home, "locker/packs")) {
		fi, err := os.Stat(filepath.Join(a.Home, "locker/packs", at))
		require.NoError(t, err)
		left += fi.Size()
	}
	assert.Less(t, left, int64(8<<20), "of fourteen megabytes that were stored")
}

// What comes in is held to the same rules as a build, and leaves nothing where it
// is refused.
func TestAnArchiveThatIsNoBackupIsRefused(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	at := filepath.Join(p.Dir, "old.zip")
	for files, says := range map[[2]string]string{
		{"../members.txt", "x"}: "refused whole", {"/etc/passwd", "x"}: "refused whole",
	} {
		writeZip(t, at, map[string]string{files[0]: files[1]})
		assert.Contains(t, p.Exits(exitFailed, "backup", "import", at).Err, says)
	}
	require.NoError(t, os.WriteFile(at, []byte("PK\x03\x04 and no more"), 0o644))
	p.Exits(exitFailed, "backup", "import", at)
	assert.Contains(t, p.Exits(exitFailed, "backup", "import", filepath.Join(p.Dir, "nothing")).Err, "no such file")
	p.Exits(exitUsage, "backup", "import")
	p.Exits(exitUsage, "backup", "export", "b0001")
	assert.Empty(t, p.Backups())
	assert.Contains(t, p.OK("backup", "list").Out, "there is no backup of this install yet")
}

// A backup's number does not tell it: the same install may be backed up into two
// lockers, root's and its owner's. A rollback that needs one takes no other of the
// same number for it, says where it stands, and goes on once it was brought.
func TestWhoseBackupIsMeant(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.Put("mossgate.conf", p.Read("mossgate.conf")+"\n# before\n")
	was := p.Read("mossgate.conf")
	p.OK("refit", "3.5.0") // its backup is b0001 in the first locker
	first := p.Home
	other := []string{"FRESHKEEL_HOME=" + filepath.Join(p.Dir, "other-home")}
	p.Put("mossgate.conf", p.Read("mossgate.conf")+"# after\n")
	p.Env = append(p.Env, other...)
	p.OK("backup", "take", "--label", "mine") // another b0001
	here := p.Tree()

	r := p.Exits(exitFailed, "rollback")
	assert.Contains(t, r.Err, "is another one than the b0001 that was taken for r0001")
	assert.Contains(t, r.Err, "it was put into "+filepath.Join(first, "locker"))
	assert.Contains(t, r.Err, "freshkeel backup bring --from COPY")
	assert.Equal(t, here, p.Tree(), "nothing was touched")

	r = p.OK("backup", "bring", "--from", filepath.Join(first, "locker"))
	assert.Contains(t, r.Out, "is b0002 here")
	assert.Contains(t, p.OK("backup", "bring", "--from", filepath.Join(first, "locker")).Out, "NOTHING TO DO")
	p.OK("rollback")
	assert.Equal(t, was, p.Read("mossgate.conf"))
	assert.Contains(t, p.OK("backup", "list").Out, "mine")

	// What version 0.1 noted has a number alone: the run that it was taken for tells.
	p.OK("refit", "3.5.0")
	at := filepath.Join(p.Install, ".freshkeel/logbook/r0003.json")
	b, err := os.ReadFile(at)
	require.NoError(t, err)
	old := regexp.MustCompile(`(?m)^ "(backup_taken|locker)":.*\n`).ReplaceAll(b, nil)
	require.NotEqual(t, b, old)
	require.NoError(t, os.WriteFile(at, old, 0o600))
	p.Env = append(p.Env, "FRESHKEEL_HOME="+first)
	assert.Contains(t, p.Exits(exitFailed, "rollback").Err, "is not in this locker")
	p.Env = append(p.Env, other...)
	p.OK("rollback")
	assert.Equal(t, was, p.Read("mossgate.conf"))
}

// Root gives out no rights that a copy says, unless it is asked to: a copy has been
// in other hands.
func TestACopyGivesOutNoRights(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root could")
	}
	p := bare(t)
	p.Put("run.sh", "#!/bin/sh\n")
	p.Put("freshkeel.toml", "[server]\nname = \"pond\"\n[launch]\nscript = \"run.sh\"\n")
	p.Put("tool", "x")
	require.NoError(t, os.Chown(filepath.Join(p.Install, "tool"), 4321, 4321))
	require.NoError(t, os.Chmod(filepath.Join(p.Install, "tool"), 0o755|os.ModeSetuid))
	p.OK("backup", "take")
	look := func(at string) (int, os.FileMode) {
		fi, err := os.Stat(at)
		require.NoError(t, err)
		return int(fi.Sys().(*syscall.Stat_t).Uid), fi.Mode()
	}
	for i, how := range [][]string{{}, {"--owners"}} {
		to := filepath.Join(p.Dir, fmt.Sprint("to", i))
		p.OK(append([]string{"backup", "restore", "b0001", "--from", filepath.Join(p.Home, "locker"), "--to", to},
			how...)...)
		uid, mode := look(filepath.Join(to, "tool"))
		assert.Equal(t, i == 1, uid == 4321)
		assert.Equal(t, i == 1, mode&os.ModeSetuid != 0)
	}
	p.OK("backup", "restore", "b0001", "--to", filepath.Join(p.Dir, "own"))
	uid, mode := look(filepath.Join(p.Dir, "own/tool"))
	assert.True(t, uid == 4321 && mode&os.ModeSetuid != 0, "one's own backup is as it was")

	p.Env = append(p.Env, "FRESHKEEL_HOME="+filepath.Join(p.Dir, "new-home"))
	p.OK("backup", "restore", "b0001", "--from", filepath.Join(p.Home, "locker"), "--only", "tool")
	uid, mode = look(filepath.Join(p.Install, "tool"))
	assert.True(t, uid == 0 && mode&os.ModeSetuid == 0, "nor into the install")
}

// A damaged old backup stands in nobody's way, and is shown to be damaged.
func TestDamagedBackupIsShownAndDoesNotStopARefit(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("backup", "take")
	sets, _ := filepath.Glob(filepath.Join(p.Home, "locker/sets/server-*/b0001.set"))
	require.Len(t, sets, 1)
	require.NoError(t, os.WriteFile(sets[0], []byte("torn"), 0o600))
	r := p.OK("refit", "3.5.0")
	assert.Contains(t, r.Err, "warn: backup b0001 can't be read")
	list := p.OK("backup", "list").Out
	assert.Regexp(t, `b0001 .*DAMAGED: `, list)
	assert.Regexp(t, `b0002 .*before r0001`, list)
	assert.Contains(t, p.Exits(exitFailed, "backup", "restore", "b0001").Err, "damaged: "+sets[0])
	p.OK("rollback")
}

// A live backup of a file that never holds still says so; a refit does not
// take such a one for consistent.
func TestFileThatWillNotHoldStillIsTold(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	// Large enough that reading it takes many of the writer's turns.
	p.Put("busy.dat", strings.Repeat("x", 96<<20))
	busy, err := os.OpenFile(filepath.Join(p.Install, "busy.dat"), os.O_WRONLY, 0)
	require.NoError(t, err)
	done, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		for n := int64(0); ; n++ {
			select {
			case <-done:
				return
			default:
				busy.WriteAt([]byte("y"), n)
				time.Sleep(time.Millisecond)
			}
		}
	}()
	stop := sync.OnceFunc(func() { close(done); <-gone; busy.Close() })
	t.Cleanup(stop)
	r := p.OK("backup", "take")
	assert.Contains(t, r.Out, "these changed while they were read")
	assert.Contains(t, r.Out, "busy.dat")
	p.OK("start")
	proving.Put(t, filepath.Join(p.Dir, "pond-2.0/new.txt"), "n")
	r = p.Exits(exitFailed, "refit", "--accept", "kind", "--from", filepath.Join(p.Dir, "pond-2.0"))
	assert.Contains(t, r.Err, "busy.dat keeps changing although the server is stopped")
	assert.True(t, p.Status().Server.Running, "and comes up again")
	stop()
	p.OK("refit", "--accept", "kind", "--from", filepath.Join(p.Dir, "pond-2.0"))
}
