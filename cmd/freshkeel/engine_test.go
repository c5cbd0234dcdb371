//go:build unix

package main

import (
	"bytes"
	"debug/elf"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"freshkeel"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tool writes a program that says a version, into a folder that the test has on
// PATH.
func (p *place) tool(at, says string) {
	full := filepath.Join(p.Dir, at)
	proving.Put(p.T, full, "#!/bin/sh\necho '"+says+"'\n")
	require.NoError(p.T, os.Chmod(full, 0o755))
}

// parts holds a finding to its level and to what each of its four parts says.
func (p *place) parts(f freshkeel.Finding, level freshkeel.Level, parts ...string) {
	p.T.Helper()
	assert.Equal(p.T, level, f.Level, "%+v", f)
	for i, part := range parts {
		assert.Contains(p.T, []string{f.What, f.Where, f.Why, f.Do}[i], part)
	}
}

// Interpreters and frameworks are held against what the build says in its own
// files, while the old server runs.
func TestInterpretersAndFrameworksAreHeldAgainstTheBuild(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	p.Env = append(p.Env, "PATH="+filepath.Join(p.Dir, "bin")+":/bin:/usr/bin")
	p.tool("bin/node", "v20.11.1")
	p.tool("bin/python3", "Python 3.11.7")
	p.tool("bin/dotnet", "")
	p.tool("more/node/bin/node", "v22.4.0")
	p.tool("more/deaf/bin/node", "?")
	for _, v := range []string{"6.0.25", "8.0.4"} {
		proving.Put(t, filepath.Join(p.Dir, "bin/shared/Fen.Core", v, "core.dll"), "x")
	}
	p.EditProfile(func(s string) string {
		return s + "\n[runtime]\nsearch = ['" + filepath.Join(p.Dir, "more") +
			"/*']\n"
	})
	p.OK("start")
	pid := p.Status().Server.PID
	n := 0
	build := func(files map[string]string) string {
		n++
		files["pads/lily"] = "x"
		at := filepath.Join(p.Dir, fmt.Sprintf("pond-2.%d.zip", n))
		writeZip(t, at, files)
		return at
	}
	app := func(framework, version, rule string) string {
		return fmt.Sprintf(`{"runtimeOptions":{"rollForward":%q,"framework":{"name":%q,"version":%q}}}`, rule,
			framework, version)
	}
	for name, c := range map[string]struct {
		line  string
		files map[string]string
		check string
		level freshkeel.Level
		parts []string
	}{
		"node too old": {"node --max-old-space-size=512 pond.js",
			map[string]string{"pond.js": "", "package.json": `{"engines":{"node":">=22 <23"}}`}, "engine",
			freshkeel.Stop,
			[]string{"pond.js needs Node >=22 <23, the launch script runs Node 20.11.1", "run.sh:3: node --max",
				"no other runs it", "let run.sh run " + filepath.Join(p.Dir, "more/node/bin/node") +
					" (version 22.4.0)"}},
		"node fits": {"node pond.js", map[string]string{"pond.js": "", "package.json": `{"engines":{"node":"^20.9"}}`},
			"engine", freshkeel.OK,
			[]string{"Node 20.11.1 is what pond.js asks for: ^20.9 (package.json, engines.node)"}},
		"node's file is broken": {"node pond.js", map[string]string{"pond.js": "", "package.json": `{"engines":`},
			"engine", freshkeel.Warn,
			[]string{"what pond.js needs of Node can't be told", "run.sh:3", "end it at once", "ask the makers"}},
		"no such interpreter": {"python4 pond.py", map[string]string{"pond.py": ""}, "engine", freshkeel.Stop,
			[]string{"python4 is not found", "run.sh:3: python4 pond.py", "pond.py is run by it", "let run.sh run "}},
		"python too old": {"cd server && exec python3 main.py",
			map[string]string{"server/main.py": "", "pyproject.toml": "[project]\nrequires-python = '>=3.12,<4'\n"},
			"engine", freshkeel.Stop,
			[]string{"server/main.py needs Python >=3.12,<4, the launch script runs Python 3.11.7",
				"the range is from pyproject.toml, project.requires-python", "no other runs it", ""}},
		"python fits": {"python3 -u main.py",
			map[string]string{"main.py": "", "setup.cfg": "[options]\npython_requires = ~=3.10\n"}, "engine",
			freshkeel.OK, []string{"Python 3.11.7 is what main.py asks for: ~=3.10"}},
		"framework too old": {"dotnet pond.dll",
			map[string]string{"pond.dll": "MZ", "pond.runtimeconfig.json": app("Fen.Core", "8.1.0", "Minor")}, "engine",
			freshkeel.Stop,
			[]string{"it needs the framework Fen.Core 8.1.0, and here is 6.0.25, 8.0.4",
				"run.sh:3: dotnet pond.dll\npond.runtimeconfig.json",
				"the same major version, and not older (roll forward Minor)", "install Fen.Core 8.1.0"}},
		"framework not here": {"dotnet pond.dll",
			map[string]string{"pond.dll": "MZ", "pond.runtimeconfig.json": app("Fen.Web", "8.0.0", "")}, "engine",
			freshkeel.Stop,
			[]string{"it needs the framework Fen.Web 8.0.0, and none of that name is here", "pond.runtimeconfig.json",
				"before the server's first line", "shared/Fen.Web"}},
		"framework rolls forward": {"dotnet pond.dll",
			map[string]string{"pond.dll": "MZ", "pond.runtimeconfig.json": app("Fen.Core", "7.0.0", "Major")}, "engine",
			freshkeel.OK,
			[]string{"pond.runtimeconfig.json: Fen.Core 7.0.0 is run with 8.0.4"}},
	} {
		p.Put("run.sh", "#!/bin/sh\n# the pond\n"+c.line+"\n")
		at := build(c.files)
		code := exitDone
		if c.level == freshkeel.Stop {
			code = exitRefused
		}
		t.Log(name)
		p.parts(p.preflight(code, "--from", at)[c.check], c.level, c.parts...)
		if c.level == freshkeel.Stop {
			p.Exits(exitRefused, "refit", "--from", at)
		}
	}
	p.Put("run.sh", "#!/bin/sh\n# the pond\ndotnet pond.dll\n")
	r := p.OK("runtimes", "--from",
		build(map[string]string{"pond.dll": "MZ", "pond.runtimeconfig.json": app("Fen.Core", "7.0.0", "Major")}))
	assert.Contains(t, r.Out, "FITS  pond.runtimeconfig.json of 2.")
	assert.Contains(t, r.Out, "needs Fen.Core 7.0.0, the launch script runs Fen.Core 8.0.4")
	assert.Regexp(t, `6\.0\.25 +does not fit +too old`, r.Out)
	p.Put("run.sh", "#!/bin/sh\n# the pond\nnode pond.js\n")
	r = p.OK("runtimes", "--from",
		build(map[string]string{"pond.js": "", "package.json": `{"engines":{"node":">=22 <23"}}`}))
	assert.Contains(t, r.Out, "DOES NOT FIT  pond.js of 2.")
	assert.Regexp(t, `22\.4\.0 +fits +recommended: the lowest version here that will do`, r.Out)
	assert.Contains(t, r.Out, "does not say its version")
	assert.Equal(t, pid, p.Status().Server.PID, "the server was never stopped")
}

// cross builds a small program for another machine, with the Go that runs this.
func cross(t *testing.T, os_, arch string) []byte {
	t.Helper()
	dir := t.TempDir()
	proving.Put(t, filepath.Join(dir, "main.go"), "package main\n\nfunc main() { println(\"ready\") }\n")
	proving.Put(t, filepath.Join(dir, "go.mod"), "module pond\n\ngo 1.24\n")
	cmd := exec.Command("go", "build", "-ldflags=-s -w", "-o", "pond", ".")
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "GOOS="+os_, "GOARCH="+arch, "CGO_ENABLED=0", "GOFLAGS=")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	b, err := os.ReadFile(filepath.Join(dir, "pond"))
	require.NoError(t, err)
	return b
}

// Real programs for other machines: refused, or read as they stand.
func TestProgramsForOtherMachinesAreTold(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	p.OK("start")
	pid := p.Status().Server.PID
	p.Put("run.sh", "#!/bin/sh\n./pondserver\n")
	at := filepath.Join(p.Dir, "pond-2.0.zip")
	other := "arm64"
	if want := elfOf(t, proving.Binary); want == elf.EM_AARCH64 {
		other = "amd64"
	}
	writeZip(t, at, map[string]string{"pondserver": string(cross(t, "linux", other)), "pads/lily": "x"})
	p.parts(p.preflight(exitRefused, "--from", at)["kind"], freshkeel.Stop, "it is a build for linux/"+other+
		" (pondserver), and this server wants linux/", "pond-2.0.zip", "can't run it",
		"take the dedicated server's file")
	p.Exits(exitRefused, "refit", "--from", at)
	if other == "arm64" {
		writeZip(t, at, map[string]string{"pondserver": string(cross(t, "linux", "386")), "pads/lily": "x"})
		assert.Equal(t, freshkeel.OK, p.preflight(exitDone, "--from", at)["kind"].Level, "this processor runs it")
	}

	// A Windows program is read here too; what runs it may have more libraries.
	exe := cross(t, "windows", "amd64")
	p.Put("run.sh", "#!/bin/sh\n../bridge pond.exe\n")
	p.parts(p.preflight(exitRefused, "--from", at)["names"], freshkeel.Stop, "../bridge is not there",
		"run.sh:2: ../bridge pond.exe", "runs it", "put it there")
	p.tool("bridge", "")
	p.EditProfile(func(s string) string { return s + "\n[source]\nfor = 'windows/amd64'\n" })
	writeZip(t, at, map[string]string{"pond.exe": string(exe), "pads/lily": "x"})
	f := p.preflight(exitDone, "--from", at)["windows"]
	p.parts(f, freshkeel.OK, "pond.exe finds its ")
	lacking := bytes.ReplaceAll(exe, []byte("kernel32.dll"), []byte("kernfen2.dll"))
	writeZip(t, at, map[string]string{"pond.exe": string(lacking), "pads/lily": "x"})
	p.parts(p.preflight(exitDone, "--from", at)["windows"], freshkeel.Warn,
		"pond.exe needs kernfen2.dll: neither the build nor Windows itself has it", "run.sh:2: ../bridge pond.exe",
		"shows a window", "put it beside the program")
	writeZip(t, at, map[string]string{"pond.exe": string(lacking), "KernFen2.dll": "MZ", "pads/lily": "x"})
	assert.Equal(t, freshkeel.OK, p.preflight(exitDone, "--from", at)["windows"].Level,
		"the build brings it, in any case of letters")
	assert.Equal(t, pid, p.Status().Server.PID, "the server was never stopped")
}

func elfOf(t *testing.T, at string) elf.Machine {
	f, err := elf.Open(at)
	if err != nil {
		t.Skip("no ELF system")
	}
	defer f.Close()
	return f.Machine
}

// A consent that the makers ask for is shown, given by name alone, and recorded:
// where the file is there, and where the new server writes it and ends.
func TestAConsentIsGivenByNameAlone(t *testing.T) {
	t.Parallel()
	asking := fixed[1]
	asking.Asks = true
	p := mossgate(t, fixed[0], asking)
	p.OK("start")
	before := p.Tree()
	r := p.Exits(exitRolledBack, "refit", asking.Version)
	flat := strings.Join(strings.Fields(r.Out), " ")
	assert.Contains(t, flat, "its makers want a consent: consent.txt, line 3 says «agreed=false»")
	assert.Contains(t, flat, "the server asks in consent.txt: Snails race at their own risk, and so do their keepers. Say true here if you agree to the rules of the course.")
	assert.Contains(t, flat, "to accept it by name: freshkeel refit "+asking.Version+" --consent consent.txt")
	assert.Equal(t, before, p.Tree())
	assert.Empty(t, p.LastEntry().Consents)

	p.Exits(exitRolledBack, "refit", asking.Version, "--consent", "other.txt")
	r = p.OK("refit", asking.Version, "--consent", "consent.txt")
	assert.Contains(t, r.Err, "consent.txt: line 3 is now «agreed=true», as accepted; the server is started once more")
	assert.Contains(t, p.Read("consent.txt"), "\nagreed=true\n")
	assert.Equal(t, []string{"consent.txt"}, p.LastEntry().Consents)
	assert.Contains(t, p.OK("logbook", p.LastEntry().ID).Out, "given in consent.txt")
	p.OK("rollback")
	require.NoError(t, os.Remove(filepath.Join(p.Install, "consent.txt"))) // the server's own, so it stayed
	assert.Equal(t, before, p.Tree())

	// One that is there is changed with the build, by the profile's word too.
	asked := "# The rules of the course.\r\nagreed: false\r\n"
	p.Put("consent.txt", asked)
	p.Exits(exitRefused, "refit", asking.Version)
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "[server]\n", "[server]\nconsent = ['consent.txt']\n", 1)
	})
	f := p.preflight(exitDone, asking.Version)["consent"]
	p.parts(f, freshkeel.Warn, "consent.txt is accepted by [server] consent",
		"consent.txt:2\n- agreed: false\n+ agreed: true", "before the server runs", "nothing, if you agree")
	assert.Equal(t, asked, p.Read("consent.txt"), "a preflight changes nothing")
	p.Exits(exitRolledBack, "refit", asking.Version) // this server wants "agreed=true"
	assert.Equal(t, asked, p.Read("consent.txt"))
	p.Put("consent.txt", strings.Replace(asked, ": ", "=", 1))
	p.OK("refit", asking.Version)
	assert.Equal(t, "# The rules of the course.\r\nagreed=true\r\n", p.Read("consent.txt"),
		"that one word, and nothing else")
	assert.Equal(t, []string{"consent.txt"}, p.LastEntry().Consents)
}

// Add-ons say in their own descriptor what they fit; one that does not stops a
// refit, or is held back by name and comes back with the rollback.
func TestAddonsAreHeldAgainstTheVersionThatIsToRun(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	addon := func(at, name, fits string) {
		describe, err := json.Marshal(map[string]any{"name": name, "version": "1.2",
			"needs": map[string]any{"mossgate": fits}})
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(filepath.Join(p.Install, "addons"), 0o755))
		writeZip(t, filepath.Join(p.Install, at), map[string]string{"addon.json": string(describe), "song.class": "x"})
	}
	addon("addons/song.jar", "Snail Song", ">=3.4 <3.5")
	addon("addons/lamps.jar", "Lamps", "[3.4,4.0)")
	writeZip(t, filepath.Join(p.Install, "addons/mute.jar"), map[string]string{"x.class": "x"})
	p.Put("addons/trail/addon.json", `{"name":"Trail","needs":{"mossgate":["3.4.1","3.4.2"]}}`)
	p.Put("addons/trail/a/b.txt", "slime")
	p.EditProfile(func(s string) string {
		return s + "\n[addons]\nfiles = ['addons/*.jar', 'addons/*']\ndescriptor = 'addon.json'\nname = 'name'\nfits = 'needs.mossgate'\n"
	})
	p.OK("start")
	pid := p.Status().Server.PID
	before := p.Tree()
	r := p.Exits(exitRefused, "preflight", "3.5.0")
	flat := strings.Join(strings.Fields(r.Out), " ")
	for _, s := range []string{"Snail Song (addons/song.jar) says that it fits >=3.4 <3.5, and not 3.5.0",
		"song.jar, addon.json: needs.mossgate = >=3.4 <3.5", "may end, or go on without it",
		"--hold-back addons/song.jar",
		"Trail (addons/trail) says that it fits 3.4.1 or 3.4.2, and not 3.5.0",
		"1 add-on does not tell which versions they fit: addons/mute.jar (it has no addon.json)"} {
		assert.Contains(t, flat, s)
	}
	p.Exits(exitRefused, "refit", "3.5.0", "--hold-back", "song.jar")
	assert.Contains(t, p.Exits(exitUsage, "refit", "3.5.0", "--hold-back", "bell.jar").Err,
		"these are here: lamps.jar, mute.jar, song.jar, trail")
	assert.Equal(t, pid, p.Status().Server.PID)

	r = p.OK("refit", "3.5.0", "--hold-back", "Snail Song", "--hold-back", "addons/trail")
	assert.Contains(t, r.Err, "Snail Song (addons/song.jar) is held back")
	assert.NoFileExists(t, filepath.Join(p.Install, "addons/song.jar"))
	assert.NoDirExists(t, filepath.Join(p.Install, "addons/trail"))
	assert.FileExists(t, filepath.Join(p.Install, "addons/lamps.jar"))
	e := p.LastEntry()
	assert.Equal(t, []string{"addons/song.jar", "addons/trail"}, e.HeldBack)
	// What the outcome says brings one back does so.
	advice := regexp.MustCompile(`held back: addons/trail; once it fits: freshkeel backup restore (\S+) --only '(\S+)'`).FindStringSubmatch(r.Said())
	require.NotNil(t, advice, r.Out)
	p.OK("backup", "restore", advice[1], "--only", advice[2])
	assert.FileExists(t, filepath.Join(p.Install, "addons/trail/a/b.txt"))
	p.OK("rollback")
	assert.Equal(t, before, p.Tree(), "what was held back is back")

	p.OK("refit", "3.5.0", "--accept", "addons")
	assert.FileExists(t, filepath.Join(p.Install, "addons/song.jar"))

	// The build stays: an add-on that does not say it fits is no reason against another
	// layer. A version alone may mean "that or newer", which can be said.
	writeZip(t, filepath.Join(p.Dir, "bells-1.0.zip"), map[string]string{"bells/one.txt": "ding"})
	profile := p.Read("freshkeel.toml")
	p.EditProfile(func(s string) string {
		return s + "\n[[layer]]\nname = 'bells'\n[layer.source]\narchives.in = '..'\narchives.full = '^bells-(?P<version>[\\d.]+)\\.zip$'\n"
	})
	f := p.preflight(exitDone, "--layer", "bells")["addons"]
	assert.Equal(t, freshkeel.Warn, f.Level)
	assert.Contains(t, f.Why, "nothing of that changes now")
	p.Put("freshkeel.toml", profile)
	p.OK("rollback")
	p.Put("addons/trail/addon.json", `{"name":"Trail","needs":{"mossgate":"3.4.1"}}`)
	require.NoError(t, os.Remove(filepath.Join(p.Install, "addons/song.jar")))
	assert.Contains(t, p.preflight(exitRefused, "3.5.0")["addons"].Do, `bare = "at-least" under [addons]`)
	p.EditProfile(func(s string) string { return s + "bare = 'at-least'\n" })
	p.preflight(exitDone, "3.5.0")
}

// A batch script is read like a shell script: which runtime it would run, from
// which line, and how that line would be changed, CRLF and all else untouched.
func TestABatchScriptIsCheckedAndItsEditShown(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	home := filepath.Join(p.Dir, "more", "33")
	proving.Put(t, filepath.Join(home, "release"), "JAVA_VERSION=\"33.0.1\"\n")
	p.tool("more/33/bin/java", "")
	text := "@echo off\r\nrem Opens the gates.\r\nset JAVA=..\\runtimes\\17\\bin\\java\r\n\"%JAVA%\" -Xmx256M -jar mossgate.jar --gardens gardens\r\npause\r\n"
	p.Put("open-gates.bat", text)
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "script = 'open-gates.sh'", "script = 'open-gates.bat'", 1)
	})
	assert.Contains(t, p.preflight(exitRefused, "4.0.0")["scripts"].What, "is a batch script, which Windows alone runs")
	f := p.preflight(exitRefused, "4.0.0", "--accept", "scripts")["runtime"]
	p.parts(f, freshkeel.Stop, "mossgate.jar needs Java 33, the launch script runs Java 17",
		`open-gates.bat:4: "%JAVA%" -Xmx256M -jar mossgate.jar`, "class file version 77", "runtimes take --for 4.0.0")
	p.EditProfile(func(s string) string { return s + "\n[runtime]\nsearch = ['" + home + "']\n" })
	f = p.preflight(exitDone, "4.0.0", "--accept", "scripts")["runtime"]
	p.parts(f, freshkeel.Warn, "line 4 of open-gates.bat is changed: it will run Java 33.0.1", "+ "+home+
		"/bin/java -Xmx256M -jar mossgate.jar --gardens gardens", "needs Java 33", "puts the old line back")
	assert.Equal(t, text, p.Read("open-gates.bat"), "a preflight changes nothing")
	p.Put("open-gates.bat", strings.Replace(text, "-Xmx256M", "-Xms1G -Xmx256M", 1))
	assert.Equal(t, freshkeel.Stop, p.preflight(exitRefused, "3.5.0")["memory"].Level)
	assert.Contains(t, p.OK("runtimes").Out,
		"FITS  mossgate.jar of 3.4.1 needs Java 17, the launch script runs Java 17.0.9")
}
