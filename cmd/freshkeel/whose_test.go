//go:build unix

package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// at is the same place with another install.
func (p *place) at(dir string) *place {
	q := *p.Place
	q.Install = dir
	return &place{&q}
}

// A copied folder is an install of its own: it never has the original's server, run or world. One that was moved is
// what it was. To look at either changes nothing.
func TestACopiedFolderIsAnInstallOfItsOwn(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.OK("start")
	p.OK("backup", "take", "--label", "the first")
	two := p.at(filepath.Join(p.Dir, "two"))
	out, err := exec.Command("cp", "-a", p.Install, two.Install).CombinedOutput()
	require.NoError(t, err, string(out)) // its sockets and pipes, too
	pid := p.Status().Server.PID

	before := two.Tree()
	r := two.Exits(exitDown, "status")
	assert.Contains(t, r.Err, "this is a copy of "+p.Install+", which still stands there")
	two.OK("backup", "list")
	assert.Equal(t, before, two.Tree())
	assert.Equal(t, p.Read(".freshkeel/identity"), two.Read(".freshkeel/identity"), "a look changes nothing")
	assert.Contains(t, two.OK("stop").Out, "it was not running")
	assert.Equal(t, pid, p.Status().Server.PID)

	two.Put("world/map", "the world of two")
	two.OK("backup", "take")
	assert.NotEqual(t, p.Read(".freshkeel/identity"), two.Read(".freshkeel/identity"))
	assert.Equal(t, []string{"b0001"}, p.Backups(), "the original's list has its own alone")
	assert.Equal(t, []string{"b0001", "b0002"}, two.Backups(), "a copy keeps the history that it came with")
	assert.Regexp(t, `b0001 .* the first  srv\n.*b0002 .* two\n`, two.OK("backup", "list").Out)
	r = two.Exits(exitUsage, "backup", "restore", "b0001")
	assert.Contains(t, r.Err, "was taken of another folder, "+p.Install+": its world would come into this one")
	assert.Equal(t, "the world of two", two.Read("world/map"))
	two.OK("backup", "restore", "b0001", "--of", p.Install)
	assert.Equal(t, "the world", two.Read("world/map"))
	two.OK("start")
	two.OK("refit", "1.1")
	assert.Equal(t, pid, p.Status().Server.PID)
	assert.Equal(t, "1.0", p.Status().Version)
	two.OK("stop")

	three := p.at(filepath.Join(p.Dir, "three"))
	require.NoError(t, os.Rename(two.Install, three.Install))
	assert.Contains(t, three.Exits(exitDown, "status").Err, "this install stood in "+two.Install+", and was moved")
	id := three.Read(".freshkeel/identity")
	three.OK("backup", "take")
	assert.Equal(t, id, three.Read(".freshkeel/identity"))
	three.OK("backup", "restore", "b0002", "--only", "world") // of itself, where it stood
	assert.Equal(t, "the world of two", three.Read("world/map"))
	assert.Empty(t, three.Exits(exitDown, "status").Err, "it is told until something was changed")
	three.OK("rollback")
	assert.Equal(t, "1.0", three.Status().Version)
	assert.Equal(t, pid, p.Status().Server.PID)
}

// A folder that was copied while a refit was under way is told to be one, and has the refit's end from nobody.
func TestACopyInTheMiddleOfARefit(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.OK("start")
	refit := p.Command("refit", "2.0")
	goOn := p.Hold("swap:2", refit)
	two := p.at(filepath.Join(p.Dir, "two"))
	out, err := exec.Command("cp", "-a", p.Install, two.Install).CombinedOutput()
	require.NoError(t, err, string(out))
	r := two.OK("backup", "take")
	assert.Contains(t, r.Err, "it was copied while refit r0001 was under way there: files may be of two builds")
	assert.Equal(t, "left as it was", string(two.Entries()[0].Outcome))
	goOn()
	require.NoError(t, refit.Wait())
	assert.Equal(t, "2.0", p.Status().Version)
	assert.True(t, p.Status().Server.Running)
	assert.False(t, two.Status().Server.Running)
}

// A copy whose profile names what runs the original stops nothing of it, and can be told what runs it.
func TestACopyLeavesTheOriginalsHostAlone(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	for at, body := range map[string]string{"up.sh": "touch up", "down.sh": "rm up", "how.sh": "test -e up"} {
		p.Put(at, "#!/bin/sh\ncd '"+p.Install+"' && "+body+"\n")
		require.NoError(t, os.Chmod(filepath.Join(p.Install, at), 0o755))
	}
	p.EditProfile(func(s string) string {
		return s + "[host]\nstart = ['./up.sh']\nstop = ['./down.sh']\nstatus = ['./how.sh']\n"
	})
	p.OK("backup", "take")
	p.Put("up", "")
	two := p.at(filepath.Join(p.Dir, "two"))
	out, err := exec.Command("cp", "-a", p.Install, two.Install).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.True(t, p.Status().Server.Running)
	assert.False(t, two.Status().Server.Running)
	for _, c := range []string{"stop", "start", "restart"} {
		assert.Contains(t, two.Exits(exitFailed, c).Err, "that server is the original's", c)
	}
	assert.FileExists(t, filepath.Join(p.Install, "up"))
	two.OK("profile", "set", "host.start=./other.sh", "host.stop=./other.sh", "host.status=false")
	two.OK("backup", "take")
	assert.Equal(t, []string{"b0001"}, p.Backups())
}

// The folder of ours was deleted: the backups of this folder, and the server that runs, are found again.
func TestTheDeletedStateIsFoundAgain(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.OK("start")
	p.OK("refit", "1.1")
	pid := p.Status().Server.PID
	require.NoError(t, os.RemoveAll(filepath.Join(p.Install, ".freshkeel")))
	r := p.OK("status")
	assert.Contains(t, r.Err, "the server that runs here was found by the mark on its processes")
	assert.Equal(t, pid, p.Status().Server.PID)
	r = p.OK("backup", "list")
	assert.Contains(t, r.Out, "b0001")
	assert.Contains(t, r.Err, "the locker has 1 backup of this folder, the newest b0001")
	assert.Contains(t, r.Err, "b0001 was taken for r0001 (before r0001: 1.0 → 1.1), and whether that ended is not known any more")
	proving.Hears(t, p.Command("log", "-f"), "heard still there", func() { p.OK("send", "still there") })
	p.OK("stop")
	assert.False(t, p.Status().Server.Running)
	p.OK("backup", "restore", "b0001", "--only", "lib")
	assert.Equal(t, "lib 0 of 1.0", p.Read("lib/0.dat"))

	// Its minder is gone too: what the mark says is written down again, and another takes over.
	p.OK("start")
	st := p.Status().Server
	minder, err := os.FindProcess(st.Minder)
	require.NoError(t, err)
	require.NoError(t, minder.Kill())
	require.NoError(t, os.RemoveAll(filepath.Join(p.Install, ".freshkeel")))
	proving.Until(t, "the server to be found", func() bool { return p.Status().Server.PID == st.PID })
	p.OK("stop")
}

// What is no server, or several, is not taken under care.
func TestWhatIsNoServerIsNotAdopted(t *testing.T) {
	t.Parallel()
	p := bare(t)
	run := "#!/bin/sh\ncd \"$(dirname \"$0\")\"\nexec java -jar pond.jar\n"
	for _, at := range []string{"east", "west"} {
		p.Put(at+"/start.sh", run)
		p.Put(at+"/pond.jar", "PK")
	}
	p.Put("notes/readme.txt", "of both")
	r := p.Exits(exitUsage, "adopt", p.Install)
	assert.Contains(t, r.Err, "holds 2 servers, each with a script of its own: east, west")
	assert.Contains(t, r.Err, "freshkeel adopt "+p.Install+"/east")
	assert.Contains(t, p.Exits(exitUsage, "adopt", filepath.Join(p.Install, "notes")).Err, "no script, jar or program is in")
	assert.NoFileExists(t, filepath.Join(p.Install, "freshkeel.toml"))
	p.OK("adopt", filepath.Join(p.Install, "east"))

	q := bare(t)
	for at, jar := range map[string]string{"start.sh": "pond.jar", "run.sh": "pond.jar", "start-songs.sh": "songs.jar"} {
		q.Put(at, strings.Replace(run, "pond.jar", jar, 1))
		q.Put(jar, "PK")
	}
	out := oneSpace(q.OK("adopt", q.Install).Out)
	assert.Contains(t, out, "other scripts start something else: start-songs.sh (runs songs.jar)")
	assert.Regexp(t, `run.sh is taken for what starts the server; start.sh does too`, out)
	assert.Contains(t, q.Read("freshkeel.toml"), "# [[part]]\n# name = 'songs'\n# [part.launch]\n# script = 'start-songs.sh'\n")
	// The proposal works as it stands, without its signs.
	q.EditProfile(func(s string) string {
		head, parts, _ := strings.Cut(s, "# [[part]]")
		return regexp.MustCompile(`(?m)^script = 'run.sh'$`).ReplaceAllString(head, "") + strings.ReplaceAll("# [[part]]"+parts, "\n# ", "\n")[2:]
	})
	q.OK("profile", "check")
}

// Lists of people are the operator's own, by name or by what is in them, and no rollback brings yesterday's back.
func TestListsOfPeopleAreNoSettings(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.Put("crew.json", `[{"name":"ada","level":4}]`)
	p.Put("banned-players.json", `[]`)
	p.Put("web.json", `{"port":1}`)
	p.OK("adopt", p.Install, "--replace", "--build", filepath.Join(p.Dir, "feed", "pond-1.0.zip"))
	text := p.Read("freshkeel.toml")
	keep, settings, _ := strings.Cut(text, "settings = ")
	for _, at := range []string{"crew.json", "banned-players.json"} {
		assert.Contains(t, keep, "'"+at+"'")
	}
	assert.Contains(t, settings, "'web.json'")

	q := scripted(t, "echo '[{\"uuid\":\"1\",\"name\":\"ada\"}]' > crew.json\necho '{\"a\":1}' > web.json\n"+patient)
	q.OK("adopt", q.Install, "--version", "1")
	q.OK("start", "--learn")
	assert.Regexp(t, `keep = \[[^\]]*crew.json`, q.Read("freshkeel.toml"))
	assert.Regexp(t, `settings = \[[^\]]*web.json`, q.Read("freshkeel.toml"))
	assert.Contains(t, q.Read("freshkeel.toml"), "file = 'web.json'\ndefaults = 'written'", "such a file is carried once it was learned")
	q.OK("stop")
	q.EditProfile(func(s string) string {
		return strings.ReplaceAll(strings.Replace(s, "settings = [", "settings = ['crew.json', ", 1), "keep = [", "skip = [")
	})
	assert.Contains(t, oneSpace(q.OK("profile", "check").Out), "crew.json is a list of people: as settings, a rollback brings yesterday's list back")
}

// Each command that is advised does, as it is printed, what it says: from the install, from beside it, and from
// elsewhere, of a folder with blanks in its name.
func TestAdviceRunsAsItStandsFromAnywhere(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	blank := filepath.Join(p.Dir, "my pond")
	require.NoError(t, os.Rename(p.Install, blank))
	bin := filepath.Join(p.Dir, "bin")
	require.NoError(t, os.Mkdir(bin, 0o755))
	require.NoError(t, os.Symlink(proving.Binary, filepath.Join(bin, "freshkeel")))
	env := append(os.Environ(), "FRESHKEEL_HOME="+p.Home, "PATH="+bin+":"+os.Getenv("PATH"), "NO_COLOR=1")
	sh := func(dir, line string) (string, error) {
		cmd := exec.Command("sh", "-c", line)
		cmd.Dir, cmd.Env = dir, env
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	advised := regexp.MustCompile(`(?m)(?:next|undo|do|try:) +(freshkeel [^\n(;]*?)(?: *\(.*)?$`)
	for dir, named := range map[string]string{blank: "", p.Dir: "-d 'my pond' ", filepath.Join(p.Dir, "home"): "-d '" + blank + "' "} {
		for _, c := range [][2]string{{"status", "start"}, {"refit 1.1", "rollback"}, {"preflight 1.1", "refit 1.1"}, {"backup restore b0099", "backup list"}} {
			out, _ := sh(dir, "freshkeel "+named+c[0])
			m := advised.FindStringSubmatch(out)
			require.NotNil(t, m, "%s: %s\n%s", dir, c[0], out)
			assert.Contains(t, m[1], c[1])
			out, err := sh(dir, m[1])
			assert.NoError(t, err, "%s: %s\n%s", dir, m[1], out)
		}
		sh(dir, "freshkeel "+named+"stop && freshkeel "+named+"rollback")
	}
	// What a preflight was asked for is in the command that it advises, too.
	step := filepath.Join(p.Dir, "a step.zip")
	writeZip(t, step, map[string]string{"lib/0.dat": "stepped"})
	out, _ := sh(p.Dir, "freshkeel -d 'my pond' preflight --over --from 'a step.zip' --as 1.0.1")
	require.Contains(t, out, "freshkeel -d 'my pond' refit --from 'a step.zip' --as 1.0.1 --over")
	out, err := sh(p.Dir, "freshkeel drop")
	assert.Error(t, err)
	assert.NotContains(t, out, "stop", "what acts on the server is never guessed")
	out, _ = sh(p.Dir, "freshkeel backp")
	assert.Contains(t, out, "did you mean backup?")
}

// Keys that need each other are set at once, or not at all; a source that can't be read is not followed.
func TestAProfileWorksAfterEachCommandThatWritesIt(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	before := p.Read("freshkeel.toml")
	p.Exits(exitUsage, "profile", "set", "host.start", "./up.sh")
	p.Exits(exitUsage, "profile", "set", "host.start=./up.sh", "host.stop=./down.sh", "host.stats=./how.sh")
	assert.Equal(t, before, p.Read("freshkeel.toml"), "all of it or none")
	p.OK("profile", "set", "host.start=./up.sh", "host.start=now", "host.stop=./down.sh", "host.status=./how.sh")
	assert.Contains(t, p.Read("freshkeel.toml"), "start = ['./up.sh', 'now']")
	p.OK("profile", "set", "--unset", "host.start", "host.stop", "host.status")
	p.OK("adopt", p.Install, "--replace", "--source", "http://127.0.0.1:9/feed.json")
	assert.Contains(t, p.Read("freshkeel.toml"), "\nfeed = ''\n")
	assert.Contains(t, p.Exits(exitFailed, "refit").Err, "the profile names no source of builds")
}

// A port other than the one that is expected is told at once, with the line that names it.
func TestAnotherPortIsToldAtOnce(t *testing.T) {
	t.Parallel()
	program, err := exec.LookPath("python3")
	if err != nil {
		t.Skip("python3 holds the port here")
	}
	was, now := proving.FreePort(t), proving.FreePort(t)
	p := scripted(t, "cd \"$(dirname \"$0\")\"\necho ready\nexec "+program+" -c 'import socket,sys,re\ns=socket.socket(); s.bind((\"127.0.0.1\", "+
		"int(re.search(\"port=(.*)\", open(\"pond.properties\").read()).group(1)))); s.listen()\nsys.stdin.read()'\n")
	p.Put("pond.properties", fmt.Sprintf("# pond\nserver-port=%d\n", was))
	p.EditProfile(func(s string) string {
		return strings.Replace(s, `within = "5s"`, `within = "2m"`, 1) + fmt.Sprintf("ports = ['tcp/%d']\n", was)
	})
	p.OK("adopt", p.Install, "--version", "1")
	p.OK("start")
	p.OK("stop", "--now")
	p.Put("pond.properties", fmt.Sprintf("# pond\nserver-port=%d\n", now))
	began := time.Now()
	r := p.Exits(exitFailed, "start")
	assert.Contains(t, r.Err, fmt.Sprintf("it holds port tcp/%d, and not tcp/%d, which [ready] expects; pond.properties:2: server-port=%d", now, was, now))
	assert.Less(t, time.Since(began), time.Minute, "and not waited for")
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", now))
	require.NoError(t, err, "it was stopped again")
	l.Close()
}

// A server that runs is restarted by one command, one player's file comes back without a stop where that is said, and
// a backup has a name by its day.
func TestBackupsByDayAndAFileBroughtBackWhileItRuns(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.Put("world/players/ada.dat", "ada, rich")
	p.Put("stop-all.sh", "#!/bin/sh\nkillall sh\n")
	p.OK("start")
	r := p.OK("backup", "take")
	assert.Contains(t, r.Err, "nothing holds its world still meanwhile")
	pid := p.Status().Server.PID
	p.Put("world/players/ada.dat", "ada, robbed")
	today := time.Now().Format(time.DateOnly)
	assert.Contains(t, p.Exits(exitUsage, "backup", "restore", today, "--while-running").Err, "none is named")
	assert.Contains(t, p.Exits(exitUsage, "backup", "restore", today, "--while-running", "--only", "run.sh").Err, "is none of your own files")
	r = p.OK("backup", "restore", today, "--while-running", "--only", "world/players/ada.dat")
	assert.Contains(t, r.Out, "from backup b0001")
	assert.Contains(t, oneSpace(r.Out), "what it has of these files in its memory, it may write over them")
	assert.Equal(t, "ada, rich", p.Read("world/players/ada.dat"))
	assert.Equal(t, pid, p.Status().Server.PID)
	for name, id := range map[string]string{"last": "b0002", "last-good": "b0002", "today": "b0002"} {
		assert.Contains(t, p.OK("backup", "show", name).Out, id+"  ", name)
	}
	assert.Contains(t, p.Exits(exitFailed, "backup", "show", "yesterday").Err, "there are backups of "+today)
	p.OK("restart")
	assert.NotEqual(t, pid, p.Status().Server.PID)
	assert.True(t, p.Status().Server.Running)
	p.EditProfile(func(s string) string { return s + "[backup]\nbefore = ['save']\n" })
	assert.NotContains(t, p.OK("backup", "take").Err, "nothing holds its world still")
}

// Scripts beside it that would end this server with every other one are told.
func TestAScriptThatEndsEveryServerIsTold(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.Put("night.sh", "#!/bin/sh\n# every night\nsudo killall -9 \"java\"\n")
	p.Put("other.sh", "#!/bin/sh\nkillall something-else\n")
	f := p.preflight(exitDone, "3.5.0")["others"]
	assert.Equal(t, "night.sh ends every java of this machine, this server and others", f.What)
	assert.Contains(t, f.Where, "night.sh:3")
}

// A start that does not come up offers the world after what the console says, with its backup's age.
func TestAWorldThatCantBeReadIsOffered(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.EditProfile(func(s string) string { return strings.Replace(s, "within = \"5s\"", "within = \"3s\"", 1) })
	for _, v := range []string{"1.0", "2.0"} {
		files := map[string]string{"lib/same.dat": "same", "run.sh": "#!/bin/sh\necho 'pond server " + v + "'\n" +
			"echo frogs=$(date +%N) > pond.properties\n" +
			"case \"" + v + " $(cat world/map)\" in '1.0 two'*) echo 'unknown format'; exit 3;; 2.0*) echo two > world/map;; esac\n" + patient}
		for i := range 3 {
			files[fmt.Sprintf("lib/%d.dat", i)] = v
		}
		writeZip(t, filepath.Join(p.Dir, "x-"+v+".zip"), files)
	}
	p.OK("profile", "set", "server.settings", "pond.properties")
	p.OK("refit", "--from", filepath.Join(p.Dir, "x-1.0.zip"), "--as", "1.0", "--start")
	p.OK("refit", "--from", filepath.Join(p.Dir, "x-2.0.zip"), "--as", "2.0")
	r := p.Exits(exitRolledBack, "rollback")
	assert.Contains(t, r.Out, "NOT DONE  the rollback did not end well")
	assert.Regexp(t, `to go back with the world as it was on [\d: -]+, [\w. ]+ ago, without what was played since: freshkeel rollback r\d+ --world`, oneSpace(r.Out))
	assert.NotContains(t, r.Out, "pond.properties", "what the server writes at each start is no edit")
	assert.Contains(t, p.OK("logbook").Out, "not done")
	p.OK("rollback", "--world")
	assert.Equal(t, "the world", p.Read("world/map"))
	p.OK("stop")
	p.Put("world/map", "two")
	p.OK("profile", "set", "--add", "server.keep", "not there yet/**") // which no backup has
	r = p.Exits(exitFailed, "start")
	offer := regexp.MustCompile(`freshkeel backup restore (b\d+) --only 'world/\*\*' \(`).FindStringSubmatch(oneSpace(r.Out))
	require.NotNil(t, offer, r.Out)
	p.OK("backup", "restore", offer[1], "--only", "world/**", "--dry-run")
	assert.Regexp(t, `or freshkeel backup restore b\d+ --only 'world/\*\*' \(if the world is what it can't read: as it was .* ago`, oneSpace(r.Out))
}
