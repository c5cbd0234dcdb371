//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"freshkeel"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"
)

// pondOf is a server that runs pond.sh, and reads moss.zip, by a script at its top.
func pondOf(t *testing.T, files map[string]string) *place {
	t.Helper()
	p := scripted(t, "cd \"$(dirname \"$0\")\"\nexec sh ./pond.sh --with moss.zip\n")
	p.Put("pond.sh", "echo pond server 1.0\n"+patient)
	p.Put("moss.zip", "moss of 1.0")
	for at, body := range files {
		p.Put(at, body)
	}
	p.EditProfile(func(s string) string { return s + "version = '^pond server (\\S+)'\n" })
	p.OK("adopt", p.Install, "--version", "1.0")
	return p
}

// Files of a build are laid where the install has them, or the refit stops: a build that is laid as it is would
// stand beside the old one, which goes on running.
func TestABuildOfAnotherLayoutIsPlacedOrRefused(t *testing.T) {
	t.Parallel()
	p := pondOf(t, nil)
	next := filepath.Join(p.Dir, "next")
	proving.Put(t, filepath.Join(next, "program/pond.sh"), "echo pond server 2.0\n"+patient)
	proving.Put(t, filepath.Join(next, "program/lib/new.dat"), "new")
	proving.Put(t, filepath.Join(next, "data/moss.zip"), "moss of 2.0")
	p.OK("start")
	r := p.OK("refit", "--from", next, "--as", "2.0")
	assert.Contains(t, r.Err, "the folder program has 2 files of the build: laid in the install's own folder, where pond.sh stands")
	for at, want := range map[string]string{"pond.sh": "echo pond server 2.0\n" + patient, "lib/new.dat": "new", "moss.zip": "moss of 2.0"} {
		assert.Equal(t, want, p.Read(at))
	}
	assert.NoFileExists(t, filepath.Join(p.Install, "program/pond.sh"))
	assert.Equal(t, "2.0", p.Status().Version)
	// The next build of that layout finds the same way, though what was put where is known now.
	proving.Put(t, filepath.Join(next, "program/pond.sh"), "echo pond server 2.1\n"+patient)
	p.OK("refit", "--from", next, "--as", "2.1")
	assert.Equal(t, "2.1", p.Status().Version)

	q := pondOf(t, map[string]string{"notes.dll": "mine"})
	proving.Put(t, filepath.Join(q.Dir, "next/linux/pond.sh"), "two")
	proving.Put(t, filepath.Join(q.Dir, "next/extra/pond.sh"), "another")
	f := q.preflight(exitRefused, "--from", filepath.Join(q.Dir, "next"))["paths"]
	assert.Contains(t, f.Why, "the build has a file of that name elsewhere, extra/pond.sh, linux/pond.sh")
	assert.Contains(t, f.Do, "profile set place.extra/pond.sh pond.sh")
	require.NoError(t, os.RemoveAll(filepath.Join(q.Dir, "next/extra")))
	proving.Put(t, filepath.Join(q.Dir, "next/tools/notes.dll"), "theirs")
	f = q.preflight(exitRefused, "--from", filepath.Join(q.Dir, "next"))["paths"]
	assert.Equal(t, "notes.dll can't be exchanged", f.What, "whose it is is not known: it is not replaced by its name alone")
}

// A server that comes up beside new files, and is the old one, is no success.
func TestTheOldProgramThatComesUpIsNoSuccess(t *testing.T) {
	t.Parallel()
	sleep, err := exec.LookPath("sleep")
	require.NoError(t, err)
	b, err := os.ReadFile(sleep)
	require.NoError(t, err)
	p := scripted(t, "cd \"$(dirname \"$0\")\"\necho ready\nset -- pond-*\nexec \"./$1\" 600\n")
	p.Put("pond-1.0", string(b))
	require.NoError(t, os.Chmod(filepath.Join(p.Install, "pond-1.0"), 0o755))
	p.OK("adopt", p.Install, "--version", "1.0")
	p.OK("start")
	proving.Put(t, filepath.Join(p.Dir, "next/pond-2.0"), string(b)+"2")
	require.NoError(t, os.Chmod(filepath.Join(p.Dir, "next/pond-2.0"), 0o755))
	r := p.Exits(exitRolledBack, "refit", "--from", filepath.Join(p.Dir, "next"), "--as", "2.0", "--accept", "kind", "--now")
	assert.Contains(t, oneSpace(r.Out), "the server that came up runs pond-1.0, which is not of the new build: nobody runs the build's own pond-2.0")
	assert.NoFileExists(t, filepath.Join(p.Install, "pond-2.0"))
	assert.True(t, p.Status().Server.Running)
}

// What is taken by hand is a whole build, or is said to be none.
func TestAnIncrementIsNotTakenForAWholeBuild(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.OK("start")
	before := p.Tree()
	step := filepath.Join(p.Dir, "pond-update-1.0-to-1.1.zip")
	writeZip(t, step, map[string]string{"run.sh": "#!/bin/sh\necho 'pond server 1.1'\n" + patient, "lib/0.dat": "0 of 1.1"})
	r := p.Exits(exitRefused, "refit", "--from", step)
	assert.Contains(t, oneSpace(r.Out), "it may be an increment, and no whole build: it would remove 3 files")
	assert.Contains(t, oneSpace(r.Out), "add --over: it is laid over what is installed; if it is the whole build, say so: --accept removals")
	assert.Equal(t, before, p.Tree())
	assert.Contains(t, oneSpace(p.Exits(exitRefused, "preflight", "--from", step).Out), "removes lib/ (3 files)", "each stands there by name")
	p.OK("refit", "--over", "--from", step)
	assert.Equal(t, "1.1", p.Status().Version)
	assert.Equal(t, "same", p.Read("lib/same.dat"))

	whole := filepath.Join(p.Dir, "pond-step-2.0.zip")
	files := map[string]string{"run.sh": "#!/bin/sh\necho 'pond server 2.0'\n" + patient, "lib/same.dat": "same"}
	for i := range 3 {
		files[fmt.Sprintf("lib/%d.dat", i)] = "2.0"
	}
	writeZip(t, whole, files)
	assert.Equal(t, "pond-step-2.0.zip is an increment by its name", p.preflight(exitDone, "--from", whole)["removals"].What)
	assert.Contains(t, p.Exits(exitUsage, "refit", "--as", "3").Err, "there is none")
}

// A pattern holds nothing back in silence, and what is laid over a build stays through the builds after it.
func TestALoaderIsLaidFromAFileAndStays(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	loader := func(v string) string {
		at := filepath.Join(p.Dir, "loader-"+v+".zip")
		writeZip(t, at, map[string]string{"loader/core.jar": "loader " + v, "loader/" + v + ".txt": v})
		return at
	}
	p.Put("loader/core.jar", "loader 0.1")
	p.EditProfile(func(s string) string {
		return strings.Replace(s, `keep = ["world/**"]`, `keep = ["world/**", "loader/**"]`, 1)
	})
	for _, how := range [][]string{{"--layer", "loader"}, {"--over"}} {
		r := p.Exits(exitRefused, append([]string{"refit", "--from", loader("0.2")}, how...)...)
		assert.Contains(t, oneSpace(r.Out), "held back by your profile, and programs that people do not write: loader/core.jar", how)
		assert.Contains(t, oneSpace(r.Out), "profile set --drop server.keep 'loader/**'", how)
	}
	p.OK("profile", "set", "--drop", "server.keep", "loader/**")
	p.OK("refit", "--layer", "loader", "--from", loader("0.2"))
	assert.Equal(t, "loader 0.2", p.Read("loader/core.jar"))
	assert.Equal(t, "1.0", p.Status().Version, "its number is its own")
	p.OK("refit", "1.1")
	assert.Equal(t, "loader 0.2", p.Read("loader/core.jar"), "a layer stays")
	p.OK("refit", "--layer", "loader", "--from", loader("0.3"))
	assert.NoFileExists(t, filepath.Join(p.Install, "loader/0.2.txt"))
	assert.Contains(t, p.Exits(exitUsage, "refit", "--layer", "loader").Err, "take it from a file: --layer loader --from PATH")
	p.OK("rollback")
	assert.Equal(t, "0.2", p.Read("loader/0.2.txt"))
	p.OK("refit", "--without", "loader")
	assert.NoFileExists(t, filepath.Join(p.Install, "loader/core.jar"))
	r := p.OK("refit", "--over", "--from", loader("0.3"))
	assert.Contains(t, r.Err, "2.0 stays the server's version")
	assert.Equal(t, "loader 0.3", p.Read("loader/core.jar"), "in its own folder")

	// A native program has no ending that tells of it: neither is it held back, nor guessed to be the operator's.
	elf, err := os.ReadFile(proving.Binary)
	require.NoError(t, err)
	n := scripted(t, "cd \"$(dirname \"$0\")\"\n./bin/pond &\n"+patient)
	n.Put("bin/pond", string(elf[:4096])+"old")
	n.Put("bin/notes", "mine")
	n.OK("adopt", n.Install, "--replace", "--version", "1")
	assert.NotRegexp(t, `'bin/(pond|\*)`, n.Read("freshkeel.toml"))
	n.EditProfile(func(s string) string { return strings.Replace(s, "keep = [", "keep = ['bin/**', ", 1) })
	proving.Put(t, filepath.Join(n.Dir, "next/bin/pond"), string(elf[:4096])+"new")
	proving.Put(t, filepath.Join(n.Dir, "next/news.txt"), "new")
	f := n.preflight(exitRefused, "--from", filepath.Join(n.Dir, "next"), "--as", "2")["held"]
	assert.Contains(t, f.What, "held back from the build's newer one by your profile: bin/pond")

	// What adopt guesses to be the operator's own is no program of other makers'.
	q := versioned(t)
	q.Put("loader/core.jar", "loader")
	q.Put("loader/lib.so", "lib")
	q.OK("adopt", q.Install, "--replace", "--build", filepath.Join(q.Dir, "feed", "pond-1.0.zip"))
	assert.NotContains(t, q.Read("freshkeel.toml"), "'loader")
	assert.Contains(t, q.Read("freshkeel.toml"), "'world/**'")
}

// A file in the place of which another build's was put by hand is that build's, and no change of the operator's.
func TestAFileOfAnotherBuildIsThatBuilds(t *testing.T) {
	t.Parallel()
	p := pondOf(t, map[string]string{"pond.jar": "jar of 1.0"})
	for _, v := range []string{"1.0", "1.1", "1.2"} {
		proving.Put(t, filepath.Join(p.Dir, v, "pond.sh"), "echo pond server "+v+"\n"+patient)
		proving.Put(t, filepath.Join(p.Dir, v, "pond.jar"), "jar of "+v)
		proving.Put(t, filepath.Join(p.Dir, v, "moss.zip"), "moss")
		p.OK("refit", "--from", filepath.Join(p.Dir, v), "--as", v)
	}
	p.Put("pond.jar", "jar of 1.1")
	f := p.preflight(exitDone, "1.1", "--back")["drift"]
	assert.NotContains(t, f.What, "changed here")
	p.Put("pond.jar", "jar of 1.0")
	f = p.preflight(exitDone, "1.1", "--back")["drift"]
	assert.Contains(t, f.What, "pond.jar is that of 1.0: it was put there by hand, and is replaced like any file of a build")
	r := p.OK("refit", "1.1", "--back")
	assert.Contains(t, r.Err, "1.1 is taken out of the locker", "without a source")
	assert.Equal(t, "jar of 1.1", p.Read("pond.jar"))
}

// A value that is to be set is set wherever its file comes from.
func TestAValueIsSetInAFileThatTheBuildDoesNotShip(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.Put("web.properties", "title=pond\nversion=0.9\n")
	p.EditProfile(func(s string) string {
		return s + "[[carry]]\nfile = 'web.properties'\nalways = { version = '{version}', build = '{build}' }\n" +
			"[[carry]]\nfile = 'wep.conf'\nalways = { a = '1' }\n"
	})
	out := oneSpace(p.OK("refit", "1.1").Err)
	assert.Contains(t, out, "web.properties: build is to be the build's own number, and the source says none of 1.1")
	assert.Contains(t, out, "[[carry]] file = 'wep.conf' names no file")
	assert.Equal(t, "title=pond\nversion=1.1\n", p.Read("web.properties"))
}

// naming are the options by which somebody names something, each with a command line on which it matches nothing and
// what is said; nameless are those that name nothing that could be missing.
var (
	naming = map[string][2]string{
		"adopt --build":            {"adopt INSTALL --build nix.zip", "nix.zip"},
		"adopt --source":           {"adopt INSTALL --replace --source nix.json", "the source nix.json is neither here"},
		"adopt --runtime":          {"adopt INSTALL --runtime 99", ""},
		"lay --at":                 {"lay DIR/new --like INSTALL --at nix", "nix: there is no backup"},
		"lay --like":               {"lay DIR/new --like DIR/nix", "nix"},
		"lay --port":               {"lay DIR/new --like INSTALL --port 4711=4712 --no-start", "no line of the settings or scripts says that 4711 is a port"},
		"refit --from":             {"refit --from nix.zip", "nix.zip"},
		"refit --as":               {"refit --as 9", "there is none"},
		"refit --layer":            {"refit --layer nix", `there is no layer "nix"`},
		"refit --without":          {"refit --without nix", `there is no layer "nix"`},
		"refit --consent":          {"preflight 1.1 --consent nix.txt", "--consent nix.txt: there is no such file"},
		"refit --runtime":          {"refit 1.1 --runtime nix", "nix"},
		"refit --data-has":         {"refit 1.1 --data-has nix", "nix"},
		"refit --data-lacks":       {"refit 1.1 --data-lacks nix", "nix"},
		"refit --hold-back":        {"refit 1.1 --hold-back nix", "does not say which files are add-ons"},
		"refit --overwrite":        {"preflight 1.1 --overwrite run.sh", "--overwrite run.sh: nothing there is held back from the build"},
		"refit --accept":           {"preflight 1.1 --accept disk", "--accept disk has nothing to accept"},
		"backup take --only":       {"backup take --only wrold", "there is a folder world/"},
		"backup take --leave":      {"backup take --leave wrold", "there is a folder world/"},
		"backup restore --only":    {"backup restore b0001 --only werld", "there is a folder world/"},
		"backup restore --of":      {"backup restore b0001 --of DIR/nix", "and not of"},
		"backup restore --from":    {"backup restore b0001 --from DIR/nix", "nix"},
		"audit --only":             {"audit --only lip", "there is a folder lib/"},
		"compare --only":           {"compare b0001 now --only wordl", "there is a folder world/"},
		"compare --leave":          {"compare b0001 now --leave wordl/**", "there is a folder world/"},
		"settings --against":       {"settings --against 9.9", "9.9"},
		"backup restore --to last": {"backup restore yesterday --to DIR/out", "yesterday: there is no backup"},
		"settings FILE":            {"settings nix.conf", `nothing matches "nix.conf"`},
		"profile set --drop":       {"profile set --drop server.keep nix/**", "nix/**"},
		"profile set KEY":          {"profile set server.keep wrold/**", "'wrold/**' matches no file of the install"},
	}
	nameless = strings.Fields("lay:new-folders:name,version,channel,strip adopt:texts:name,version,strip backup:label,last,days,weeks,months,identity," +
		"owners,to,from stop:reason,at-most log:n,since lay:source launch:write compare:list backup:server,sample feed:key runtimes:for,digest unit:write feed:name,notes")
)

// P13: whatever somebody names, and nothing answers to, is told before anything stops.
func TestWhatIsNamedInVainIsTold(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.OK("start")
	p.OK("backup", "take")
	pid := p.Status().Server.PID
	for option, c := range naming {
		line := strings.NewReplacer("INSTALL", p.Install, "DIR", p.Dir).Replace(c[0])
		if strings.HasPrefix(option, "profile set KEY") {
			continue // the last, since it changes something
		}
		r := p.Run(strings.Fields(line)...)
		assert.Contains(t, r.Said(), c[1], "%s: %s", option, line)
		assert.Equal(t, pid, p.Status().Server.PID, "%s: before anything stops", option)
		assert.NotContains(t, r.Out, "NOTHING TO DO", option)
		assert.NotContains(t, r.Out, "THE SAME", option)
	}
	assert.NoDirExists(t, filepath.Join(p.Dir, "out"))
	assert.NoDirExists(t, filepath.Join(p.Dir, "new"))
	assert.Contains(t, p.OK("profile", "set", "server.keep", "wrold/**").Said(), naming["profile set KEY"][1])
	f := p.preflight(exitDone, "1.1")["vain"]
	assert.Equal(t, "server.keep 'wrold/**' matches no file; there is world", f.What)

	var walk func(path string, list []*cli.Command)
	walk = func(path string, list []*cli.Command) {
		for _, c := range list {
			name := strings.TrimSpace(path + " " + c.Name)
			for _, flag := range c.Flags {
				if _, is := flag.(*cli.BoolFlag); is {
					continue
				}
				key := name + " --" + flag.Names()[0]
				shared := "refit --" + flag.Names()[0] // preflight, fetch, runtimes and unit take the same
				_, own := naming[key]
				_, like := naming[shared]
				assert.True(t, own || like || slices.ContainsFunc(nameless, func(w string) bool {
					return slices.Contains(strings.FieldsFunc(w, func(r rune) bool { return r == ':' || r == ',' }), flag.Names()[0])
				}), "%s: say what is told where it matches nothing", key)
			}
			walk(name, c.Commands)
		}
	}
	walk("", (&program{}).commands())
}

// vainKeys are keys of the profile that name something, each with a value that nothing answers to and what is said of
// it; textKeys name nothing that could be missing, or say so by themselves as soon as they are used.
var vainKeys = map[string][2]string{
	"server.keep":       {"keep = ['nix/**']", "server.keep: nothing matches 'nix/**'"},
	"server.settings":   {"settings = ['nix.conf']", "server.settings: nothing matches 'nix.conf'"},
	"server.skip":       {"skip = ['nix/**']", "server.skip: nothing matches 'nix/**'"},
	"server.consent":    {"consent = ['nix.txt']", "server.consent: nothing matches 'nix.txt'"},
	"source.take":       {"[source]\nfeed = '../feed/feed.json'\ntake = ['**', 'nix/**']", "[source] has patterns that match nothing of the build: nix/**"},
	"source.leave":      {"[source]\nfeed = '../feed/feed.json'\nleave = ['nix/**']", "[source] has patterns that match nothing of the build: nix/**"},
	"source.moved":      {"[source]\nfeed = '../feed/feed.json'\nmoved = { 'nix.dat' = 'a.dat' }", "[source] has patterns that match nothing of the build: nix.dat"},
	"source.channel":    {"[source]\nfeed = '../feed/feed.json'\nchannel = 'nix'", "source.channel 'nix': the source has no such channel"},
	"place":             {"[place]\n'nix-*.jar' = 'nix.jar'", "the [place] pattern 'nix-*.jar' matches no file of the build"},
	"addons.files":      {"[addons]\nfiles = ['nix/*.jar']\ndescriptor = 'a.json'\nfits = 'fits'", "addons.files: nothing matches 'nix/*.jar'"},
	"launch.script":     {"[launch]\nscript = 'nix.sh'", "nix.sh"},
	"runtime.search":    {"[runtime]\nsearch = ['/nix/*']", "runtime.search '/nix/*': nothing stands there"},
	"carry.file":        {"[[carry]]\nfile = 'nix.conf'\nalways = { a = '1' }", "[[carry]] file = 'nix.conf' names no file"},
	"login.host":        {"[[login]]\nhost = 'nix.example'\nfrom = 'env:NIX'", "[[login]] host 'nix.example': no address of the profile is of that host"},
	"players.proxies":   {"[players]\nproxies = ['10.0.0.1']", "players.proxies is set, and players.ask is not"},
	"ready.log":         {"log = 'nix.log'", "ready.log 'nix.log': there is no such log"},
	"elsewhere":         {"[elsewhere]\nnix = '/nix/store'", "nix"},
	"host.unit":         {"[host]\nkind = 'service'\nunit = 'nix.service'", "[host] unit"},
	"part.after":        {"[[part]]\nname = 'a'\nafter = ['nix']\n[part.launch]\nscript = 'run.sh'", "nix"},
	"part.files":        {"[[part]]\nname = 'a'\nfiles = ['nix/**']\n[part.launch]\nscript = 'run.sh'\n[[part]]\nname = 'b'\nafter = ['a']\nfiles = ['lib/**']\n[part.launch]\nscript = 'run.sh'", "part.files of a: nothing matches 'nix/**'"},
	"source.key":        {"[source]\nfeed = '../feed/feed.json'\nkey = 'nix.pub'", "[source] key"},
	"source.feed":       {"[source]\nfeed = '../nix.json'", "nix.json"},
	"copy.to":           {"[copy]\nto = '/nix/store'", ""}, // said by each push
	"runtime.use":       {"[runtime]\nuse = 'nix'", "nix"},
	"carry.defaults":    {"[[carry]]\nfile = 'lib/0.dat'\ndefaults = 'nix.conf'", "[[carry]] defaults = 'nix.conf': the build has no such file"},
	"source.variant":    {"[source]\nfeed = '../feed/feed.json'\nvariant = 'nix'", "source.variant 'nix' chooses nothing"},
	"migration.run":     {"[[migration]]\nname = 'm'\nwhen = '<1.1 -> >=1.1'\nrun = ['nix.sh']", "nix.sh"},
	"data.dump":         {"[[data]]\nname = 'd'\ndump = ['nix-dump']\nload = ['cat']", "nix-dump"},
	"launch.without":    {"[launch]\nscript = 'run.sh'\nwithout = ['-Xnix']", "launch.without '-Xnix': the launch script has no such flag"},
	"addons.descriptor": {"[addons]\nfiles = ['lib/*.dat']\ndescriptor = 'nix.json'\nfits = 'fits'", "do not tell which versions they fit"},
}

var textKeys = strings.Fields(`server.name source.api source.page source.address source.folder source.archives source.command source.listing source.for
	source.order source.version source.sums source.silence source.as source.strip source.into source.rename source.inside source.removals layer login.from
	login.user login.header login.plain host.kind host.user host.console host.say host.start host.stop host.status host.restart host.pause host.crashes
	host.within host.rights host.follow launch.args launch.pass launch.memory launch.first_memory launch.flags launch.with launch.folder launch.background
	launch.pause addons.name addons.version addons.fits addons.bare carry.merge carry.always carry.never carry.rename carry.stop backup copy.recipients
	copy.by_hand copy.last copy.days copy.weeks copy.months data.name data.load data.check data.env data.limit part.name part.outside part.host part.launch
	part.stop part.ready migration.name migration.when migration.docs migration.file migration.page migration.choice migration.form migration.secrets
	migration.success migration.fail migration.limit migration.env migration.up migration.down migration.done migration.must_go_back stop players.ask
	players.answer players.wait ready.line ready.version ready.fail ready.within ready.steady ready.port ready.ports ready.strict`)

func TestAKeyThatNothingAnswersToIsTold(t *testing.T) {
	t.Parallel()
	for _, key := range freshkeel.ProfileKeys() {
		_, row := vainKeys[key]
		assert.True(t, row || slices.ContainsFunc(textKeys, func(k string) bool { return key == k || strings.HasPrefix(key, k+".") }),
			"%s: say what is told where nothing answers to it", key)
	}
	first := versioned(t)
	first.OK("start")
	for key, c := range vainKeys {
		if c[1] == "" {
			continue
		}
		text := first.Read("freshkeel.toml")
		section, _, whole := strings.Cut(c[0], "\n")
		switch {
		case !whole: // one key of [server] or [ready]
			name, _, _ := strings.Cut(key, ".")
			lines := strings.Split(text, "\n")
			lines = slices.DeleteFunc(lines, func(l string) bool { return strings.HasPrefix(l, strings.Split(c[0], " ")[0]+" ") })
			i := slices.Index(lines, "["+name+"]")
			text = strings.Join(slices.Insert(lines, i+1, c[0]), "\n")
		case section == "[[part]]":
			text = strings.Replace(text, "[launch]\nscript = \"run.sh\"\n", "", 1) + "\n" + c[0] + "\n"
		case strings.HasPrefix(section, "[["):
			text += "\n" + c[0] + "\n"
		default:
			if i := strings.Index(text, "\n"+section+"\n"); i >= 0 { // in place of the section that is there
				j := strings.Index(text[i+2:], "\n[")
				text = text[:i+1] + text[i+2+j+1:]
			}
			text += "\n" + c[0] + "\n"
		}
		before := first.Read("freshkeel.toml")
		first.Put("freshkeel.toml", text)
		r := first.Run("preflight", "1.1")
		assert.Contains(t, r.Said(), c[1], "%s: %s", key, c[0])
		first.Put("freshkeel.toml", before)
	}
	assert.True(t, first.Status().Server.Running)
}

// An archive that somebody made of an install under care can be taken in, pipes of ours and all.
func TestAnArchiveOfAnInstallUnderCareIsTakenIn(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.OK("start")
	require.NoError(t, syscall.Mkfifo(filepath.Join(p.Install, ".freshkeel/run/by-hand"), 0o600))
	tar := filepath.Join(p.Dir, "by-hand.tar.gz")
	out, _ := exec.Command("tar", "czf", tar, "-C", p.Dir, "srv").CombinedOutput() // which says that it leaves the socket out
	require.FileExists(t, tar, string(out))
	r := p.OK("backup", "import", tar)
	assert.Contains(t, r.Err, "since they are Fresh Keel's own")
	assert.NotContains(t, p.OK("backup", "show", p.Backups()[0], "--all").Out, ".freshkeel")
	p.OK("backup", "restore", p.Backups()[0], "--only", "world")
}
