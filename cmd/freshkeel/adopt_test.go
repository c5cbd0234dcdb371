//go:build unix

package main

import (
	"encoding/json"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"freshkeel"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAdoptSaysWhatEachGuessWasGuessedFrom(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		build  bool
		keep   string
		garden string
	}{
		"with the build":    {true, "the build does not ship it", "the build ships nothing of it"},
		"without the build": {false, "it was written after mossgate.jar", "3 files in it written after mossgate.jar"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := mossgate(t)
			profile := filepath.Join(p.Install, "freshkeel.toml")
			require.NoError(t, os.Remove(profile))
			require.NoError(t, os.RemoveAll(filepath.Join(p.Install, ".freshkeel")))
			p.Put("cache/tiles.bin", "x")
			p.Put("open-gates.bat", "@echo off\r\njava -jar mossgate.jar\r\n")
			before := p.Tree()
			args := []string{"adopt", p.Install}
			if c.build {
				args = append(args, "--build", filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip"))
			}
			dry := p.OK(append(args, "--dry-run")...)
			assert.NoFileExists(t, profile)
			p.OK(args...)
			b, err := os.ReadFile(profile)
			require.NoError(t, err)
			text := string(b)
			assert.Contains(t, dry.Out, text, "it prints what it then writes")
			for _, line := range []string{
				"'gardens/**',   # guessed from: a world, by its name; " + c.garden,
				"'members.txt',   # guessed from: a list, by its name; " + c.keep,
				"'mossgate.conf',   # guessed from: settings, by its kind",
				"'open-gates.sh',   # guessed from: the launch script: its flags are yours",
				"'logs/**',   # guessed from: logs or cache, by its name",
				"'cache/**',",
				"# guessed from: its line 6 runs mossgate.jar\nscript = 'open-gates.sh'",
				"# others that run something of the install: open-gates.bat",
				"# guessed from: logs/mossgate.log:8: > close\nsend = 'close'",
				`line = '^gates open after [\d.,]+ s'`,
				`version = '^mossgate server (\S+)'`,
				"log = 'logs/mossgate.log'", "ports = ['udp/", "strict = false",
			} {
				assert.Contains(t, text, line)
			}
			assert.Equal(t, c.build, strings.Contains(text, "'mossgate-server-*.jar' = 'mossgate.jar'"))
			after := p.Tree()
			delete(after, "freshkeel.toml")
			assert.Equal(t, before, withoutProfile(before, after), "touches nothing else")
			assert.Equal(t, "3.4.1", p.Status().Version)
			if !c.build {
				assert.Regexp(
					t,
					`UNDER CARE[\s\S]*adopt --build PATH tells[\s\S]*profile +left as it is`,
					p.OK(args...).Out,
				)
				assert.Equal(t, text, p.Read("freshkeel.toml"), "a second time changes nothing")
			}
			p.OK(append(args, "--replace")...)
		})
	}
}

// withoutProfile evens out the top folder's own entry, which adopt fills.
func withoutProfile(before, after map[string]string) map[string]string {
	after["."] = before["."]
	return after
}

// Adopt knows which files are the build's, which the operator's, and which
// neither's.
func TestAdoptTellsTheBuildsFilesFromOthers(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.Put("tracks/fern-mile.track", "mended")
	p.Put("tracks/of-mine.track", "x")
	require.NoError(t, os.Remove(filepath.Join(p.Install, "README.txt")))
	var a freshkeel.Adopted
	r := p.OK("adopt", p.Install, "--replace", "--build", filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip"),
		"--json")
	require.NoError(t, json.Unmarshal([]byte(r.Out), &a))
	assert.True(t, a.Known)
	assert.ElementsMatch(t, []string{"mossgate.conf", "tracks/fern-mile.track"}, a.Changed)
	assert.Equal(t, []string{"README.txt"}, a.Missing)
	assert.Empty(t, a.Foreign)
	assert.Contains(
		t,
		a.Profile,
		"'tracks/of-mine.track',   # guessed from: the build does not ship it",
		"a mixed folder is split",
	)
	assert.NotContains(t, a.Profile, "'tracks/**'")
}

func TestCommandLineAnswersMistakes(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"adopt", p.Install + "/nowhere"}, exitUsage, "is not a folder"},
		{[]string{"refitt"}, exitUsage, `there is no command "refitt"`},
		{[]string{"refit", "--frm", "x"}, exitUsage, "frm"},
		{[]string{"refit", "3.5.0", "3.6.0"}, exitUsage, `a word too many: "3.6.0"`},
		{[]string{"refit", "9.9"}, exitFailed, "the source has no build 9.9; it has 3.4.1, 3.5.0"},
		{[]string{"refit", "--from", "/no/such.zip"}, exitFailed, "no such file"},
		{[]string{"refit", "3.5.0", "--from", "x"}, exitUsage, "which one is meant"},
		{[]string{"logbook", "r0042"}, exitFailed, "no such entry"},
	} {
		r := p.Exits(c.code, c.args...)
		assert.Contains(t, r.Err, c.want)
		assert.True(t, strings.HasPrefix(r.Err, "freshkeel: "), r.Err)
		assert.Regexp(t, `^freshkeel: [^\n]*\n(try: [^\n]*\n)*$`, r.Err, "one line, then what to try")
	}
	p.EditProfile(func(s string) string { return strings.Replace(s, "keep =", "kep =", 1) })
	assert.Regexp(t, `freshkeel\.toml:\d+: server\.kep: there is no such key; did you mean server\.keep\?`,
		p.Exits(exitUsage, "status").Err)

	p.EditProfile(func(s string) string { return strings.Replace(s, "kep =", "keep =", 1) })
	inside := exec.Command(proving.Binary, "status")
	inside.Dir, inside.Env = filepath.Join(p.Install, "gardens"), p.Env
	found, _ := inside.CombinedOutput()
	assert.Equal(t, exitDown, inside.ProcessState.ExitCode(), "the install is found from any folder in it")
	assert.Contains(t, string(found), "DOWN  mossgate-east")

	r := p.RunWith([]string{"FRESHKEEL_HOME=" + filepath.Join(p.Install, "backups")}, "backup", "take")
	assert.Equal(t, exitUsage, r.Code)
	assert.Contains(t, r.Err, "lies in the install: every backup would hold all backups before it")

	lost := exec.Command(proving.Binary, "status")
	lost.Dir = p.Dir
	out, _ := lost.CombinedOutput()
	assert.Equal(t, exitUsage, lost.ProcessState.ExitCode())
	assert.Contains(t, string(out), "adopt DIR first")
}

// The JSON is a contract: these keys, in one document, or one event a line.
func TestJSONIsAContract(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("start")
	keys := func(args ...string) []string {
		var doc map[string]any
		r := p.Run(append([]string{"--json"}, args...)...)
		require.NoError(t, json.Unmarshal([]byte(r.Out), &doc), "one document: %s", r.Out)
		return sortedKeys(doc)
	}
	assert.Equal(t, []string{"install", "last_line", "name", "read_at", "server", "state", "version"}, keys("status"))
	assert.Equal(t, []string{"offers"}, keys("builds"))
	assert.Equal(t, []string{"checks", "event", "findings", "from", "outcome", "plan", "running", "to"},
		keys("preflight", "3.5.0"))
	assert.Equal(t, []string{"error", "event", "exit", "try"}, keys("rollback"))

	r := p.OK("--json", "refit", "3.5.0")
	lines := strings.Split(strings.TrimSpace(r.Out), "\n")
	seen := map[string]bool{}
	for _, l := range lines {
		var e map[string]any
		require.NoError(t, json.Unmarshal([]byte(l), &e), l)
		seen[e["event"].(string)] = true
	}
	for _, kind := range []string{"step", "progress", "done", "console", "result"} {
		assert.True(t, seen[kind], kind)
	}
	var last struct {
		Event string
		Entry freshkeel.Entry
	}
	require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-1]), &last))
	assert.Equal(t, "result", last.Event)
	assert.Equal(t, "3.5.0", last.Entry.To)
	assert.Equal(t, []string{"backup", "backup_taken", "boot", "build", "down_ns", "end_running", "ended", "exchange_ns",
		"format", "from", "from_build", "id", "kind", "lines", "locker", "moving_since", "outcome", "phase", "ran_since",
		"start_began", "started", "steps", "to",
		"told", "was_running", "why"},
		keys("logbook", "r0001"))

	r = p.Run("--json", "refit", "3.6.0")
	require.Equal(t, exitRolledBack, r.Code)
	lines = strings.Split(strings.TrimSpace(r.Out), "\n")
	var f failure
	require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-1]), &f))
	assert.Equal(t, exitRolledBack, f.Exit)
	assert.Equal(t, []string{"FATAL the flood-gate table has no row for fen-west"}, f.Lines)
}

func sortedKeys(m map[string]any) []string { return slices.Sorted(maps.Keys(m)) }

// The demo is a promise too: it ends well, and leaves
// nothing behind.
func TestDemoEndsWellAndLeavesNothing(t *testing.T) {
	t.Parallel()
	tmp := t.TempDir()
	cmd := exec.Command(proving.Binary, "demo")
	cmd.Env = append(os.Environ(), "TMPDIR="+tmp, "NO_COLOR=1")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	for _, s := range []string{"REFITTED  3.4.1 → 3.5.0", "ROLLED BACK  3.6.0 did not come up; 3.5.0 is running again",
		"the gardens are byte for byte what they were", "mossgate.jar needs Java 33", "DEMO DONE"} {
		assert.Contains(t, string(out), s)
	}
	left, _ := os.ReadDir(tmp)
	assert.Empty(t, left)
	assert.Empty(t, proving.ProcessesIn(tmp))

	dir := filepath.Join(t.TempDir(), "harbour")
	out, err = exec.Command(proving.Binary, "demo", dir).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.FileExists(t, filepath.Join(dir, "mossgate-east/open-gates.sh"))
	assert.Contains(t, string(out), "bin/freshkeel adopt mossgate-east")
	assert.Empty(t, proving.ProcessesIn(dir))
}

// The profile belongs to the operator: with a build that is named only the inventory is
// made anew, and a new profile that is asked for keeps the old one beside it.
func TestAProfileIsNeverLost(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.EditProfile(func(s string) string { return "# by hand\n" + s })
	mine := p.Read("freshkeel.toml")
	zip := filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip")
	assert.Regexp(t, `profile +left as it is`, p.OK("adopt", p.Install).Out)
	assert.Equal(t, mine, p.Read("freshkeel.toml"))
	r := p.OK("adopt", p.Install, "--build", zip)
	assert.Regexp(t, `profile +left as it is`, r.Out)
	assert.Equal(t, mine, p.Read("freshkeel.toml"))
	r = p.OK("adopt", p.Install, "--replace")
	assert.Contains(t, r.Out, "freshkeel.toml.before-1")
	assert.Equal(t, mine, p.Read("freshkeel.toml.before-1"))
	p.OK("adopt", p.Install, "--replace")
	assert.NotEqual(t, mine, p.Read("freshkeel.toml.before-2"))
}

// Installs of other kinds, and what adopt makes of them.
func TestAdoptOfOtherKindsOfInstall(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		files map[string]string
		want  []string
	}{
		"native program": {map[string]string{"slugserver": "\x7fELF" + strings.Repeat("x", 5000),
			"start.sh": "#!/bin/sh\ncd \"$(dirname \"$0\")\"\nexec ./slugserver --port 1\n", "maps/a.map": "m",
			"server.cfg": "x=1", "banned.txt": "", "stats.sqlite": "s"},
			[]string{"script = 'start.sh'", "its line 3 runs slugserver", "'server.cfg',",
				"'banned.txt',", "'stats.sqlite',   # guessed from: data, by its kind"}},
		"windows only": {map[string]string{"run.bat": "@echo off\r\njava -jar s.jar\r\n", "s.jar": "PK"},
			[]string{"script = 'run.bat'", "its line 2 runs s.jar"}},
		"two scripts": {map[string]string{"a-update.sh": "#!/bin/sh\necho hi\n",
			"z-run.sh": "#!/bin/sh\njava -jar s.jar\n", "s.jar": "PK"}, []string{"script = 'z-run.sh'"}},
		"stamped log": {map[string]string{"run.sh": "#!/bin/sh\njava -jar s.jar\n", "s.jar": "PK",
			"logs/latest.log": "[12:00:01] [main/INFO]: Starting server version 1.20\n[12:00:09] [main/INFO]: Done (8.2s)! listening on tcp port 25000\n[12:30:00] [main/INFO]: console: stop\n"},
			[]string{`version = '^Starting server version (\S+)'`,
				`line = '^Done \([\d.,]+s\)! listening on tcp port [\d.,]+'`, "ports = []", "send = 'stop'"}},
		"name and number": {map[string]string{"pond": "#!/bin/sh\necho pond v1.4.2\necho 'frogs may start; ready'\ncase $x in quit) exit;; esac\n"},
			[]string{"script = 'pond'", `version = '^pond v?(\S+)'`, "send = 'quit'"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := bare(t)
			for at, body := range c.files {
				p.Put(at, body)
			}
			p.OK("adopt", p.Install)
			for _, want := range c.want {
				assert.Contains(t, p.Read("freshkeel.toml"), want)
			}
			p.Exits(exitDown, "status")
		})
	}

	// What the running server writes is the operator's.
	p := bare(t)
	p.Put("run.sh", "#!/bin/sh\nsleep 1.5\nmkdir -p shells; echo 1 > shells/one.bin\nsleep 60\n")
	p.Outside("run.sh")
	proving.Until(t, "the server to write",
		func() bool { _, err := os.Stat(filepath.Join(p.Install, "shells/one.bin")); return err == nil })
	p.OK("adopt", p.Install)
	assert.Contains(t, p.Read("freshkeel.toml"),
		"'shells/**',   # guessed from: 1 file in it written while the server ran")
}
