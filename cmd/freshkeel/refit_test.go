//go:build unix

package main

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// In one run the build is exchanged, and everything that is not the build's
// stays as it was.
func TestRefitExchangesTheBuildAndNothingElse(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.Put("notes-of-mine.md", "mind the gap")
	p.Put("addons/bell.txt", "ding")
	p.Put("tracks/my-own.track", "round the shed")
	require.NoError(t, os.Chmod(filepath.Join(p.Install, "tracks/dew-loop.track"), 0o640))
	p.OK("start")
	before := p.Tree()
	first := p.Status()

	r := p.OK("refit", "3.5.0")
	assert.True(t, strings.HasPrefix(r.Out, "REFITTED  3.4.1 → 3.5.0 and runs"), r.Out)
	assert.Contains(t, r.Out, "mossgate server 3.5.0", "the line that says so")
	for _, step := range []string{"resolve", "fetch", "check", "stage", "pre-copy", "stop", "backup", "swap", "start",
		"watch", "trial read"} {
		assert.Regexp(t, `(?m)^\d\d:\d\d:\d\d `+step+`: .*\(.*s\)$`, r.Err, "a line a step")
	}

	after := p.Tree()
	for _, same := range []string{"freshkeel.toml", "members.txt", "stewards.txt", "open-gates.sh",
		"notes-of-mine.md", "addons/bell.txt", "tracks/my-own.track", "assets/night.pak"} {
		assert.Equal(t, before[same], after[same], same)
	}
	conf := p.Read("mossgate.conf")
	for _, line := range []string{"night = longer\n", "snails = 9 ", "gate-time = 20 ", "lanterns = 12 "} {
		assert.Contains(t, conf, line, "the operator's values in the new build's own settings")
	}
	assert.NotContains(t, conf, "mill-toll")
	for _, changed := range []string{"mossgate.jar", "README.txt", "assets/snails.pak"} {
		assert.NotEqual(t, before[changed], after[changed], changed)
	}
	assert.NotContains(t, after, "tracks/old-mill.track", "a file that the new build no longer has")
	assert.Contains(t, after, "lib/lanterns.txt")
	assert.NotContains(t, after, "mossgate-server-3.5.0.jar", "it has the name that the script runs")
	assert.Equal(t, "surveyed for 3.5.0\n", strings.SplitN(p.Read("tracks/dew-loop.track"), ", ", 2)[1])
	assert.True(t, strings.HasPrefix(after["tracks/dew-loop.track"], "-rw-r-----"), "its mode is kept: %s",
		after["tracks/dew-loop.track"])

	now := p.Status()
	assert.True(t, now.Server.Running && now.Server.PID != first.Server.PID)
	assert.Equal(t, "3.5.0", now.Version)
	e := p.LastEntry()
	assert.EqualValues(t, "confirmed", e.Outcome)
	var order []string
	for _, s := range e.Steps {
		order = append(order, s.Name)
	}
	assert.Equal(t, []string{"stage", "pre-copy", "stop", "backup", "swap", "start", "watch", "trial read"}, order,
		"what can be done while the old server runs is done then (P10)")
	assert.NotZero(t, e.Down)
	assert.NotZero(t, e.Exchange)
	assert.Less(t, e.Exchange, e.Down)
	assert.FileExists(t, filepath.Join(p.Install, ".freshkeel/refits", e.ID, "displaced/tracks/old-mill.track"))

	assert.True(t, strings.HasPrefix(p.OK("refit", "3.5.0").Out, "NOTHING TO DO"), "safe to run twice")
	assert.Len(t, p.Entries(), 1)
	assert.True(t, strings.HasPrefix(p.Exits(exitRefused, "refit", "3.4.1").Out, "REFUSED"),
		"a step back is never an accident")
	p.OK("refit", "3.4.1", "--back")
	assert.Equal(t, "3.4.1", p.Status().Version)
}

func TestServerThatWasDownIsDownAgainUnlessAskedFor(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("refit", "3.5.0")
	assert.False(t, p.Status().Server.Running)
	assert.Contains(t, p.Read("gardens/fen-east.garden"), string(demo.Mark("3.5.0")), "it has been seen to come up")
	p.OK("rollback")
	assert.False(t, p.Status().Server.Running)
	p.OK("refit", "3.5.0", "--start")
	assert.True(t, p.Status().Server.Running)
}

// The smallest server there is, and the forms in which a build of it may come.
func TestThreeLineServerFromFolderZipAndTarball(t *testing.T) {
	t.Parallel()
	script := func(version string) string {
		return "#!/bin/sh\necho \"pond server " + version +
			"\"; echo \"ready for frogs\"\nwhile read line; do [ \"$line\" = quit ] && exit 0; done\n"
	}
	p := bare(t)
	p.Put("serve.sh", script("1.0"))
	p.Put("ponds/deep.pond", "frogs: 3")
	p.OK("adopt", p.Install, "--version", "1.0")
	p.EditProfile(proving.Quick.Replace)
	prof := p.Read("freshkeel.toml")
	for _, line := range []string{"script = 'serve.sh'", "send = 'quit'", "line = '^ready for frogs'",
		`version = '^pond server (\S+)'`} {
		assert.Contains(t, prof, line)
	}
	p.OK("start")
	old := p.Tree()

	folder := filepath.Join(p.Dir, "pond-1.1")
	proving.Put(t, filepath.Join(folder, "serve.sh"), script("1.1"))
	proving.Put(t, filepath.Join(folder, "reeds.txt"), "green")
	p.OK("refit", "--from", folder)
	assert.Equal(t, "1.1", p.Status().Version)
	assert.Contains(t, p.Read("serve.sh"), "1.1")

	zipFile := filepath.Join(p.Dir, "pond-1.2.zip")
	writeZip(t, zipFile, map[string]string{"pond-1.2/serve.sh": script("1.2"), "pond-1.2/reeds.txt": "greener"})
	p.OK("refit", "--from", zipFile)
	assert.Equal(t, "greener", p.Read("reeds.txt"), "the one folder around everything is taken off")
	fi, err := os.Stat(filepath.Join(p.Install, "serve.sh"))
	require.NoError(t, err)
	assert.NotZero(t, fi.Mode()&0o100, "it stays a program")

	tarball := filepath.Join(p.Dir, "pond-1.3.tar.gz")
	writeTarball(t, tarball, map[string]string{"serve.sh": script("0.9"), "lilies.txt": "white"})
	// A rule that was learned may hear a number of something else: what says neither the new version nor the old one is told.
	r := p.OK("refit", "--from", tarball)
	assert.Contains(t, oneSpace(r.Out), "which was learned, the server says that it is 0.9, and the build is 1.3")
	p.OK("rollback")
	// One that a person wrote is the server's own word.
	p.OK("profile", "set", "ready.version", `^pond server (\S+)`)
	r = p.Exits(exitRolledBack, "refit", "--from", tarball)
	assert.Contains(t, r.Out, "says it is version 0.9, the build is 1.3")
	assert.Contains(t, r.Out, "pond server 0.9")
	assert.NoFileExists(t, filepath.Join(p.Install, "lilies.txt"))
	assert.Equal(t, "1.2", p.Status().Version)
	assert.True(t, p.Status().Server.Running)

	p.OK("rollback", "r0001")
	now := p.Tree()
	now["freshkeel.toml"] = old["freshkeel.toml"] // of which a key was set since
	assert.Equal(t, old, now)
	assert.Equal(t, "1.0", p.Status().Version)
	assert.True(t, p.Status().Server.Running)
}

// A build whose name tells no version is known by what its server says.
func TestBuildWithoutAVersionIsWhatItsServerSays(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "line = '^ready'", "line = '^ready'\nversion = '^pond (\\S+)'", 1)
	})
	for _, version := range []string{"4.4", "4.5"} {
		proving.Put(t, filepath.Join(p.Dir, "newest/run.sh"), "#!/bin/sh\necho pond "+version+"\n"+patient)
		p.OK("refit", "--from", filepath.Join(p.Dir, "newest"))
		assert.Equal(t, version, p.Status().Version)
		assert.Equal(t, version, p.LastEntry().To)
	}
	// And one that is named otherwise than it says is not taken.
	assert.Contains(t, p.OK("refit", "--from", filepath.Join(p.Dir, "newest"), "--as", "5.0").Err,
		"they are known as 4.5")
	proving.Put(t, filepath.Join(p.Dir, "newest/reeds.txt"), "new")
	r := p.Exits(exitRolledBack, "refit", "--from", filepath.Join(p.Dir, "newest"), "--as", "5.0")
	assert.Contains(t, r.Out, "says it is version 4.5, the build is 5.0")
	assert.Equal(t, "4.5", p.Status().Version)
	p.OK("rollback")
	assert.Equal(t, "4.4", p.Status().Version)
}

// What an interrupt means depends on whether the server has been stopped.
func TestInterruptBeforeTheStopAbandonsAndAfterItGoesBack(t *testing.T) {
	t.Parallel()
	slow := demo.Release{Version: "3.5.5", Channel: "stable", Date: "2026-10-01", Behaviour: demo.Hangs, Java: 17}
	p := mossgate(t, demo.Releases[0], slow)
	p.OK("start")
	before, pid := p.Tree(), p.Status().Server.PID

	cmd := p.Command("refit", "3.5.5")
	p.Hold("stage", cmd)
	// It stands in the middle of staging and can't hear the interrupt there, so
	// it is killed: nothing of it may be left.
	require.NoError(t, cmd.Process.Kill())
	cmd.Wait()
	assert.Equal(t, pid, p.Status().Server.PID, "the server never noticed")
	assert.Equal(t, before, p.Tree())

	cmd = p.Command("refit", "3.5.5")
	require.NoError(t, cmd.Start())
	proving.Until(t, "the new server to hang",
		func() bool { return strings.Contains(p.Run("log").Out, "waiting for the moon") })
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM)) // impatience changes nothing
	cmd.Wait()
	assert.Equal(t, exitRolledBack, cmd.ProcessState.ExitCode())
	assert.Equal(t, before, p.Tree())
	assert.True(t, p.Status().Server.Running)
	assert.Contains(t, p.LastEntry().Why, "interrupted")
}

// The feed and the archive over http, with a connection that is cut.
func TestFetchOverHTTPResumesACutConnection(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	var ranges []string
	files := http.FileServer(http.Dir(p.Harbour.Builds))
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, ".zip") {
			w.Header().Set("ETag", `"moss"`)
			if ranges = append(ranges, r.Header.Get("Range")); len(ranges) == 1 {
				b, _ := os.ReadFile(filepath.Join(p.Harbour.Builds, "mossgate-3.5.0.zip"))
				w.Header().Set("Content-Length", "999999")
				w.Write(b[:200_000])
				panic(http.ErrAbortHandler)
			}
		}
		files.ServeHTTP(w, r)
	}))
	t.Cleanup(srv.Close)
	p.EditProfile(func(s string) string { return strings.Replace(s, "../builds/feed.json", srv.URL+"/feed.json", 1) })
	assert.True(t, strings.HasPrefix(p.OK("fetch", "3.5.0").Out, "FETCHED"))
	assert.Equal(t, []string{"", "bytes=200000-"}, ranges)
	assert.True(t, strings.HasPrefix(p.OK("fetch", "3.5.0").Out, "FETCHED BEFORE"))
	assert.Len(t, ranges, 2, "what is in the locker is not fetched again")
	assert.Regexp(t, `3\.5\.0 +newer +stable .* fetched`, p.OK("builds").Out)
	p.OK("refit", "3.5.0")
}

// Nothing that is not what it should be gets past the fetch, and nothing of it
// stays behind.
func TestWrongDownloadsAreRefusedAndNotKept(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		spoil func(b []byte) []byte
		want  string
	}{
		"cut short": {func(b []byte) []byte { return b[:len(b)-1000] }, "its size is"},
		"one bit":   {func(b []byte) []byte { b[len(b)/2] ^= 1; return b }, "its sha256 is"},
		"web page":  {func([]byte) []byte { return []byte("<!DOCTYPE html><title>Log in</title>") }, "an HTML page"},
		"empty":     {func([]byte) []byte { return nil }, "the file is empty"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := mossgate(t)
			zipPath := filepath.Join(p.Harbour.Builds, "mossgate-3.5.0.zip")
			good, err := os.ReadFile(zipPath)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(zipPath, c.spoil(append([]byte{}, good...)), 0o644))
			before := p.Tree()
			r := p.Exits(exitFailed, "refit", "3.5.0")
			assert.Contains(t, r.Err, c.want)
			assert.Contains(t, r.Err, "expected")
			assert.Equal(t, before, p.Tree())
			left, _ := filepath.Glob(filepath.Join(p.Home, "locker/incoming/*.part"))
			assert.Empty(t, left)
			require.NoError(t, os.WriteFile(zipPath, good, 0o644))
			p.OK("refit", "3.5.0")
		})
	}
}

func writeZip(t *testing.T, path string, files map[string]string) {
	t.Helper()
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	z := zip.NewWriter(f)
	for name, body := range files {
		w, err := z.Create(name) // without modes, as many tools write them
		require.NoError(t, err)
		io.WriteString(w, body)
	}
	require.NoError(t, z.Close())
}

func writeTarball(t *testing.T, path string, files map[string]string) {
	t.Helper()
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	g := gzip.NewWriter(f)
	w := tar.NewWriter(g)
	for name, body := range files {
		mode := fs.FileMode(0o644)
		if strings.HasSuffix(name, ".sh") {
			mode = 0o755
		}
		require.NoError(t, w.WriteHeader(&tar.Header{Name: name, Mode: int64(mode), Size: int64(len(body)),
			Typeflag: tar.TypeReg}))
		io.WriteString(w, body)
	}
	require.NoError(t, w.Close())
	require.NoError(t, g.Close())
}

// The commonest flow of all: the maker's file is named after its version, and the launch
// script runs it by one name. The new file gets that name, told in the plan; what the
// new processes run is looked at; where it is not certain, it stops.
func TestANewFileGetsTheNameThatTheScriptRuns(t *testing.T) {
	t.Parallel()
	p := scripted(t, "exec ./server.bin\n")
	p.EditProfile(func(s string) string { return s + "version = '^pond server (\\S+)'\n" })
	server := func(version string) string { return "#!/bin/sh\necho pond server " + version + "\n" + patient }
	program := func(at, version string) {
		proving.Put(t, at+".sh", server(version))
		require.NoError(t, os.Rename(at+".sh", at))
	}
	program(filepath.Join(p.Install, "server.bin"), "1.0")
	p.OK("start")
	program(filepath.Join(p.Dir, "tiny-server-1.1.bin"), "1.1")
	r := p.OK("preflight", "--from", filepath.Join(p.Dir, "tiny-server-1.1.bin"))
	assert.Contains(t, r.Out, "tiny-server-1.1.bin of the build becomes server.bin, which the launch script runs")
	assert.Regexp(t, `plan +1.1: replace 1, add 0`, r.Out)
	r = p.OK("refit", "--from", filepath.Join(p.Dir, "tiny-server-1.1.bin"))
	assert.Contains(t, r.Out, "the server's processes were seen to run the new server.bin")
	assert.Contains(t, p.OK("log").Out, "pond server 1.1")
	assert.Equal(t, server("1.1"), p.Read("server.bin"))
	assert.NoFileExists(t, filepath.Join(p.Install, "tiny-server-1.1.bin"))
	p.OK("rollback")
	assert.Contains(t, p.OK("log").Out, "pond server 1.0")

	// Two of its kind: which one is meant is not known, and nothing would be new.
	dir := filepath.Join(p.Dir, "pond-1.2")
	require.NoError(t, os.Mkdir(dir, 0o755))
	program(filepath.Join(dir, "tiny-server-1.2.bin"), "1.2")
	program(filepath.Join(dir, "tiny-tool-1.2.bin"), "1.2")
	r = p.Exits(exitRefused, "refit", "--from", dir)
	assert.Regexp(t, `the launch script goes on running\s+server.bin, the\s+old one`, r.Out)
	assert.Contains(t, strings.Join(strings.Fields(r.Out), " "), "which file of the build is to be server.bin")
	assert.True(t, p.Status().Server.Running)

	// What was so once is a rule, and tells which of two is meant.
	p.OK("refit", "--from", filepath.Join(p.Dir, "tiny-server-1.1.bin"))
	r = p.OK("refit", "--from", dir)
	assert.Contains(t, r.Out, "the server's processes were seen to run the new server.bin")
	assert.Equal(t, server("1.2"), p.Read("server.bin"))
	assert.FileExists(t, filepath.Join(p.Install, "tiny-tool-1.2.bin"))

	// A native program needs no ending, and a download takes its execute bit.
	q := scripted(t, "exec ./pondserver -\n")
	real, err := os.ReadFile("/bin/cat")
	require.NoError(t, err)
	q.Put("pondserver", string(real))
	require.NoError(t, os.Chmod(filepath.Join(q.Install, "pondserver"), 0o755))
	proving.Put(t, filepath.Join(q.Dir, "pondserver-1.9.2"), string(real)+"x")
	assert.Contains(t, q.OK("preflight", "--from", "pondserver-1.9.2").Said(),
		"pondserver-1.9.2 of the build becomes pondserver, which the launch script runs")

	// A line of [place] that hides a file of the build is named.
	proving.Put(t, filepath.Join(q.Dir, "pair-3.0/pondserver"), string(real)+"z")
	proving.Put(t, filepath.Join(q.Dir, "pair-3.0/pondserver-3.0"), string(real)+"zz")
	q.EditProfile(func(s string) string { return s + "[place]\n'pondserver-*' = 'pondserver'\n" })
	assert.Contains(t, q.Exits(exitRefused, "preflight", "--from", "pair-3.0").Said(),
		"STOP pondserver of the build would not be laid: [place] lays pondserver-3.0 there")
	q.EditProfile(func(s string) string { return s[:strings.Index(s, "[place]")] })

	// What the profile holds back of a build that nothing is known of is named, new files too.
	q.Put("data/a.dat", "mine")
	q.EditProfile(func(s string) string { return strings.Replace(s, "[launch]", "keep = ['data/**']\n[launch]", 1) })
	proving.Put(t, filepath.Join(q.Dir, "pond-2.0/pondserver"), string(real)+"y")
	proving.Put(t, filepath.Join(q.Dir, "pond-2.0/data/a.dat"), "theirs")
	proving.Put(t, filepath.Join(q.Dir, "pond-2.0/data/b.dat"), "new")
	assert.Contains(t, q.OK("preflight", "--from", "pond-2.0").Said(),
		"2 files are left as you have them, and not what the build brings: data/a.dat, data/b.dat (not there)")
}

// A half update, another game's archive, an increment that is taken for a whole: each is
// named before anything stops.
func TestWhatWouldBeHalfAnUpdateIsNamed(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		spoil func(p *place)
		args  []string
		code  int
		want  string
	}{
		"held back by keep": {func(p *place) {
			p.EditProfile(func(s string) string { return strings.Replace(s, "keep = [", "keep = ['tracks/**', ", 1) })
		}, []string{"3.5.0"}, exitRefused,
			"STOP 1 file is not changed by you, and held back from the build's newer one by your profile: tracks/dew-loop.track"},
		"named in the settings": {func(p *place) {
			p.Put("mossgate.conf", p.Read("mossgate.conf")+
				"\nfirst = tracks/old-mill.track\n")
		}, []string{"3.5.0"}, exitRefused,
			"STOP it would remove tracks/old-mill.track, which your settings name"},
		"another game": {func(p *place) {
			writeZip(t, filepath.Join(p.Dir, "other-7.0.zip"),
				map[string]string{"other/bin/engine": "x", "other/data/a.pak": "a", "other/data/b.pak": "b"})
			require.NoError(t, os.Remove(filepath.Join(p.Install, ".freshkeel/inventory.json")))
		}, []string{"--from", "other-7.0.zip"}, exitRefused,
			"STOP not one file of 7.0 has the name of an installed one"},
		"an increment": {func(p *place) {
			writeZip(t, filepath.Join(p.Dir, "mossgate-3.4.2.zip"), map[string]string{"tracks/dew-loop.track": "new"})
		}, []string{"--from", "mossgate-3.4.2.zip"}, -1, "it would remove 6 files, 640.9 KiB, of the old build's 8"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := mossgate(t)
			p.OK("start")
			c.spoil(p)
			before := p.Tree()
			r := p.Run(append([]string{"preflight"}, c.args...)...)
			if c.code >= 0 {
				assert.Equal(t, c.code, r.Code, r.Out+r.Err)
			}
			assert.Contains(t, strings.Join(strings.Fields(r.Out+r.Err), " "), c.want)
			assert.Equal(t, before, p.Tree())
		})
	}
}

// A server may write to the build's own files as it stops. Where the same plan
// still follows, the refit goes on; where it does not, nothing is lost.
func TestServerThatWritesToBuildFilesAsItStops(t *testing.T) {
	t.Parallel()
	script := func(version, atStop string) string {
		return "#!/bin/sh\n# " + version + "\necho ready\nwhile read l; do [ \"$l\" = quit ] && { " + atStop +
			"; exit 0; }; done\n"
	}
	p := scripted(t, strings.TrimPrefix(script("1", "true"), "#!/bin/sh\n"))
	next := func(version, atStop string) string {
		dir := filepath.Join(p.Dir, "pond-"+version)
		proving.Put(t, filepath.Join(dir, "run.sh"), script(version, atStop))
		proving.Put(t, filepath.Join(dir, "notes.txt"), "notes of "+version)
		return dir
	}
	p.OK("refit", "--start", "--from", next("2.0", "touch notes.txt"))
	p.OK("refit", "--from", next("3.0", "echo mine >> notes.txt"))
	assert.Equal(t, "notes of 3.0", p.Read("notes.txt"))

	r := p.Exits(exitFailed, "refit", "--from", next("4.0", "true"))
	assert.Contains(
		t,
		r.Err,
		"notes.txt changed while the refit was prepared, and the plan no longer holds\ntry: run the refit again",
	)
	assert.Equal(t, "notes of 3.0mine\n", p.Read("notes.txt"))
	assert.True(t, p.Status().Server.Running)
	assert.EqualValues(t, "abandoned", p.LastEntry().Outcome)
	r = p.Exits(exitRefused, "refit", "--from", next("4.0", "true"))
	assert.Contains(t, r.Out, "1 file was changed here, and the new build changes it too")

	out := p.OK("logbook", "r0003").Out
	for _, s := range []string{"ABANDONED  refit r0003: 3.0 → 4.0", "the server was started again", "pre-copy",
		"kept in"} {
		assert.Contains(t, out, s)
	}
	table := p.OK("logbook").Out
	assert.Regexp(t, `(?s)r0003 .* abandoned .*r0003 +notes\.txt changed`, table)
}

// The trial read after a refit keeps nobody waiting: another command changes the install
// meanwhile.
func TestTheTrialReadHoldsNoLock(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	p.OK("start")
	cmd := p.Command("refit")
	goOn := p.Hold("trial-read", cmd)
	p.OK("backup", "take")
	goOn()
	require.NoError(t, cmd.Wait())
	e := p.Entries()[0]
	assert.Equal(t, "trial read", e.Steps[len(e.Steps)-1].Name, "it is noted all the same")
}
