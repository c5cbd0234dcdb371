//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"freshkeel/demo"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// P9: what stands in an address to open it with is shown and stored nowhere.
func TestSecretsInAddressesAppearNowhere(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	srv := httptest.NewServer(http.FileServer(http.Dir(p.harbour.Builds)))
	t.Cleanup(srv.Close)
	secret := strings.Replace(srv.URL, "http://", "http://keeper:swordfish@", 1)
	p.editProfile(func(s string) string {
		return strings.Replace(s, "../builds/feed.json", secret+"/feed.json?token=swordfish", 1)
	})
	said := ""
	for _, args := range [][]string{{"builds"}, {"preflight", "4.0.0", "--all"}, {"--json", "refit", "3.5.0"}, {"refit", "3.4.1"}, {"logbook", "r0001"}, {"status"},
		{"adopt", p.install, "--replace", "--dry-run", "--source", secret + "/feed.json?token=swordfish"}, {"--json", "adopt", p.install, "--replace", "--dry-run", "--source", secret + "/feed.json?token=swordfish"},
		{"fetch", "--from", secret + "/mossgate-3.6.0.zip?key=swordfish"}, {"fetch", "--from", secret + "/nothing.zip?key=swordfish"}, {"adopt", p.install}} {
		r := p.run(args...)
		said += r.out + r.err
	}
	srv.Close()
	r := p.run("builds")
	said += r.out + r.err
	assert.Contains(t, said, srv.Listener.Addr().String(), "the host is named")
	assert.NotContains(t, said, "swordfish")
	for _, dir := range []string{filepath.Join(p.install, ".freshkeel"), p.home} {
		require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			b, err := os.ReadFile(path)
			assert.NotContains(t, string(b), "swordfish", path)
			return err
		}))
	}
	sets, _ := filepath.Glob(filepath.Join(p.home, "locker/sets/builds/*.set"))
	for _, s := range sets {
		if out, err := exec.Command("zstd", "-dcq", s).Output(); err == nil {
			assert.NotContains(t, string(out), "swordfish", s)
		}
	}
}

// A build may come in parts: a base and what is laid over it, each with rules.
func TestBuildInPartsAndTheMakersSteps(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	writeZip(t, filepath.Join(p.harbour.Builds, "more.zip"), map[string]string{"wrap/tracks/dew-loop.track": "laid over", "wrap/tracks/extra.track": "extra"})
	writeTarball(t, filepath.Join(p.harbour.Builds, "songs.tar.gz"), map[string]string{"night.song": "la"})
	put(t, filepath.Join(p.harbour.Builds, "notice.md"), "single")
	b, err := os.ReadFile(filepath.Join(p.harbour.Builds, "feed.json"))
	require.NoError(t, err)
	var feed map[string]any
	require.NoError(t, json.Unmarshal(b, &feed))
	builds := feed["builds"].([]any)
	feed["builds"] = append(builds[:1:1], map[string]any{"version": "3.4.5", "channel": "stable", "parts": []any{
		map[string]any{"url": "mossgate-3.5.0.zip"},
		map[string]any{"url": "more.zip", "unpack": map[string]any{"strip": 1}},
		map[string]any{"url": "songs.tar.gz", "unpack": map[string]any{"into": "songs"}},
		map[string]any{"url": "notice.md", "unpack": map[string]any{"as": "file", "name": "NOTICE.md"}},
	}}, map[string]any{"version": "3.9.8", "from": []any{"3.4.4"}, "parts": []any{map[string]any{"url": "mossgate-3.5.0.zip"}}}, map[string]any{"version": "3.9.9", "channel": "stable", "from": []any{"3.4.5"}, "parts": []any{map[string]any{"url": "mossgate-3.5.0.zip"}}})
	b, err = json.Marshal(feed)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(p.harbour.Builds, "feed.json"), b, 0o644))

	r := p.exits(exitRefused, "refit", "3.9.8")
	assert.Contains(t, r.out, "the maker does not let 3.4.1 step to 3.9.8 directly")
	assert.Contains(t, r.out, "no chain of builds that the source offers leads there")
	p.editProfile(func(s string) string { return strings.Replace(s, "version = '^mossgate", "# '^mossgate", 1) })
	p.ok("refit", "3.4.5")
	assert.Equal(t, "laid over", p.read("tracks/dew-loop.track"))
	assert.Equal(t, "extra", p.read("tracks/extra.track"))
	assert.Equal(t, "la", p.read("songs/night.song"))
	assert.Equal(t, "single", p.read("NOTICE.md"))
	p.ok("refit", "3.9.9")
	assert.NoFileExists(t, filepath.Join(p.install, "songs/night.song"))
	assert.NoDirExists(t, filepath.Join(p.install, "songs"))
}

// Old runs let go of what they displaced, and going back to before them still
// works, from the locker.
func TestRollbackReachesBehindWhatWasPruned(t *testing.T) {
	t.Parallel()
	script := "#!/bin/sh\necho \"pond server %d\"\necho ready\nwhile read l; do [ \"$l\" = quit ] && exit 0; done\n"
	p := scripted(t, strings.TrimPrefix(fmt.Sprintf(script, 0), "#!/bin/sh\n"))
	p.put("frogs/one", "1")
	p.editProfile(func(s string) string {
		return strings.Replace(s, `name = "pond"`, "name = \"pond\"\nkeep = [\"frogs/**\"]", 1)
	})
	p.ok("start")
	old := p.tree()
	for i := 1; i <= 9; i++ {
		dir := filepath.Join(p.dir, fmt.Sprintf("pond-%d.0", i))
		put(t, filepath.Join(dir, "run.sh"), fmt.Sprintf(script, i))
		put(t, filepath.Join(dir, fmt.Sprintf("of/%d.txt", i)), "x")
		p.ok("refit", "--from", dir)
	}
	assert.NoDirExists(t, filepath.Join(p.install, ".freshkeel/refits/r0001/displaced"))
	assert.DirExists(t, filepath.Join(p.install, ".freshkeel/refits/r0009/displaced"))
	assert.NoFileExists(t, filepath.Join(p.install, "of/8.txt"))
	p.put("frogs/two", "2")
	p.ok("rollback", "r0001")
	now := p.tree()
	delete(now, "frogs/two")
	assert.Equal(t, old, now)
	assert.Contains(t, p.ok("log").out, "pond server 0")
	assert.Equal(t, "2", p.read("frogs/two"))
}

// A way back that lacks what it needs stays open, says so, and is gone on with
// once that is mended.
func TestStuckRollbackGoesOnOnceTheLockerIsBack(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[2])
	p.ok("start")
	before := p.tree()
	// Killed on the way back; then the locker's disk is gone.
	require.Equal(t, -1, p.runWith([]string{envDieAt + "=back-swap:1"}, "refit").code)
	sets := filepath.Join(p.home, "locker/sets")
	require.NoError(t, os.Rename(sets, sets+".away"))
	r := p.exits(exitHands, "recover")
	assert.Contains(t, r.out, "NEEDS HANDS")
	assert.Contains(t, r.out, "freshkeel recover")
	r = p.ok("logbook")
	assert.Contains(t, r.err, "recovery did not end well", "looking is possible all the same")
	p.exits(exitHands, "start")
	require.NoError(t, os.RemoveAll(sets))
	require.NoError(t, os.Rename(sets+".away", sets))
	assert.Contains(t, p.ok("recover", "--dry-run").out, "INTERRUPTED  refit r0001, while rolling-back")
	assert.Contains(t, p.ok("recover").out, "RECOVERED  refit r0001: rolled back")
	assert.Equal(t, before, p.tree())
	assert.True(t, p.status().Server.Running)
	assert.Contains(t, p.ok("recover").out, "NOTHING TO DO")
}

// A damaged old backup stands in nobody's way, and is shown to be damaged.
func TestDamagedBackupIsShownAndDoesNotStopARefit(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.ok("backup", "take")
	sets, _ := filepath.Glob(filepath.Join(p.home, "locker/sets/server-*/b0001.set"))
	require.Len(t, sets, 1)
	require.NoError(t, os.WriteFile(sets[0], []byte("torn"), 0o600))
	r := p.ok("refit", "3.5.0")
	assert.Contains(t, r.err, "warn: backup b0001 can't be read")
	list := p.ok("backup", "list").out
	assert.Regexp(t, `b0001 .*DAMAGED: `, list)
	assert.Regexp(t, `b0002 .*before r0001`, list)
	assert.Contains(t, p.exits(exitFailed, "backup", "restore", "b0001").err, "damaged: "+sets[0])
	p.ok("rollback")
}

// Players are told before the server stops, and given the notice.
func TestPlayersAreToldBeforeTheStop(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.editProfile(func(s string) string {
		return strings.Replace(s, "[stop]", "[stop]\ntell = 'say the gates close'\nnotice = '700ms'", 1)
	})
	p.ok("start")
	r := p.ok("stop")
	assert.Contains(t, r.err, "players were told: say the gates close")
	assert.Regexp(t, `(?s)to everybody: the gates close.*> close.*good night`, p.ok("log").out)
	var ended float64
	_, err := fmt.Sscanf(r.out[strings.Index(r.out, "after")+6:], "%f", &ended)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, ended, 0.7, r.out)
}

// A launch script that puts its server in the background is common: the server
// has no console then, and is still refitted and rolled back.
func TestServerInTheBackgroundIsRefittedToo(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[1], demo.Releases[2])
	p.put("open-gates.sh", strings.Replace(p.read("open-gates.sh"), "exec \"$JAVA\" $MEMORY -jar mossgate.jar --gardens gardens", "\"$JAVA\" $MEMORY -jar mossgate.jar --gardens gardens &", 1))
	p.editProfile(func(s string) string { return strings.Replace(s, "wait = '5s'", "wait = '200ms'", 1) })
	p.ok("start")
	p.ok("refit", "3.5.0")
	assert.Equal(t, "3.5.0", p.status().Version)
	before := p.tree()
	p.exits(exitRolledBack, "refit", "3.6.0")
	assert.Equal(t, before, p.tree())
	st := p.status()
	assert.True(t, st.Server.Running)
	assert.NotContains(t, st.Server.Processes, st.Server.PID, "the script itself has ended")
}

// Installs of other kinds, and what adopt makes of them.
func TestAdoptOfOtherKindsOfInstall(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		files map[string]string
		want  []string
	}{
		"native program": {map[string]string{"slugserver": "\x7fELF" + strings.Repeat("x", 5000), "start.sh": "#!/bin/sh\ncd \"$(dirname \"$0\")\"\nexec ./slugserver --port 1\n", "maps/a.map": "m", "server.cfg": "x=1", "banned.txt": "", "stats.sqlite": "s"},
			[]string{"script = 'start.sh'", "its line 3 runs slugserver", "'maps/**',", "'server.cfg',", "'banned.txt',", "'stats.sqlite',   # guessed from: data, by its kind"}},
		"windows only":   {map[string]string{"run.bat": "@echo off\r\njava -jar s.jar\r\n", "s.jar": "PK"}, []string{"script = 'run.bat'", "its line 2 runs s.jar"}},
		"nothing to run": {map[string]string{"readme.md": "hello"}, []string{"# guessed from: no *.sh or *.bat stands at the top of the install\nscript = ''"}},
		"two scripts":    {map[string]string{"a-update.sh": "#!/bin/sh\necho hi\n", "z-run.sh": "#!/bin/sh\njava -jar s.jar\n", "s.jar": "PK"}, []string{"script = 'z-run.sh'"}},
		"stamped log": {map[string]string{"run.sh": "#!/bin/sh\njava -jar s.jar\n", "s.jar": "PK", "logs/latest.log": "[12:00:01] [main/INFO]: Starting server version 1.20\n[12:00:09] [main/INFO]: Done (8.2s)! listening on tcp port 25000\n[12:30:00] [main/INFO]: console: stop\n"},
			[]string{`version = 'Starting server version (\S+)'`, `line = 'Done \([\d.,]+s\)! listening on tcp port [\d.,]+'`, "port = 'tcp/25000'", "send = 'stop'"}},
		"name and number": {map[string]string{"pond": "#!/bin/sh\necho pond v1.4.2\necho 'frogs may start; ready'\ncase $x in quit) exit;; esac\n"},
			[]string{"script = 'pond'", `version = '^pond v?(\S+)'`, "send = 'quit'"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := bare(t)
			for at, body := range c.files {
				p.put(at, body)
			}
			p.ok("adopt", p.install)
			for _, want := range c.want {
				assert.Contains(t, p.read("freshkeel.toml"), want)
			}
			p.exits(exitDown, "status")
		})
	}

	// What the running server writes is the operator's.
	p := bare(t)
	p.put("run.sh", "#!/bin/sh\nsleep 1.5\nmkdir -p shells; echo 1 > shells/one.bin\nsleep 60\n")
	p.outside("run.sh")
	until(t, "the server to write", func() bool { _, err := os.Stat(filepath.Join(p.install, "shells/one.bin")); return err == nil })
	p.ok("adopt", p.install)
	assert.Contains(t, p.read("freshkeel.toml"), "'shells/**',   # guessed from: 1 file in it written while the server ran")
}

// A live backup of a file that never holds still says so; a refit does not
// take such a one for consistent.
func TestFileThatWillNotHoldStillIsTold(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	// Large enough that reading it takes many of the writer's turns.
	p.put("busy.dat", strings.Repeat("x", 96<<20))
	busy, err := os.OpenFile(filepath.Join(p.install, "busy.dat"), os.O_WRONLY, 0)
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
	r := p.ok("backup", "take")
	assert.Contains(t, r.out, "these changed while they were read")
	assert.Contains(t, r.out, "busy.dat")
	p.ok("start")
	put(t, filepath.Join(p.dir, "pond-2.0/new.txt"), "n")
	r = p.exits(exitFailed, "refit", "--accept", "kind", "--from", filepath.Join(p.dir, "pond-2.0"))
	assert.Contains(t, r.err, "busy.dat keeps changing although the server is stopped")
	assert.True(t, p.status().Server.Running, "and comes up again")
	stop()
	p.ok("refit", "--accept", "kind", "--from", filepath.Join(p.dir, "pond-2.0"))
}

// A server may write to the build's own files as it stops. Where the same plan
// still follows, the refit goes on; where it does not, nothing is lost.
func TestServerThatWritesToBuildFilesAsItStops(t *testing.T) {
	t.Parallel()
	script := func(version, atStop string) string {
		return "#!/bin/sh\n# " + version + "\necho ready\nwhile read l; do [ \"$l\" = quit ] && { " + atStop + "; exit 0; }; done\n"
	}
	p := scripted(t, strings.TrimPrefix(script("1", "true"), "#!/bin/sh\n"))
	next := func(version, atStop string) string {
		dir := filepath.Join(p.dir, "pond-"+version)
		put(t, filepath.Join(dir, "run.sh"), script(version, atStop))
		put(t, filepath.Join(dir, "notes.txt"), "notes of "+version)
		return dir
	}
	p.ok("refit", "--start", "--from", next("2.0", "touch notes.txt"))
	p.ok("refit", "--from", next("3.0", "echo mine >> notes.txt"))
	assert.Equal(t, "notes of 3.0", p.read("notes.txt"))

	r := p.exits(exitFailed, "refit", "--from", next("4.0", "true"))
	assert.Contains(t, r.err, "notes.txt changed while the refit was prepared, and the plan no longer holds\ntry: run the refit again")
	assert.Equal(t, "notes of 3.0mine\n", p.read("notes.txt"))
	assert.True(t, p.status().Server.Running)
	assert.EqualValues(t, "abandoned", p.lastEntry().Outcome)
	r = p.exits(exitRefused, "refit", "--from", next("4.0", "true"))
	assert.Contains(t, r.out, "1 file was changed here, and the new build changes it too")

	out := p.ok("logbook", "r0003").out
	for _, s := range []string{"ABANDONED  refit r0003: 3.0 → 4.0", "the server was started again", "pre-copy", "kept in"} {
		assert.Contains(t, out, s)
	}
	table := p.ok("logbook").out
	assert.Regexp(t, `(?s)r0003 .* abandoned .*r0003 +notes\.txt changed`, table)
}
