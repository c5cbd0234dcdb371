//go:build linux

package byservice

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"freshkeel/demo"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// straight is a unit that runs the server with no script between.
const straight = "WorkingDirectory=DIR\nExecStart=DIR/../runtimes/17/bin/java -Xms64M -Xmx256M -jar mossgate.jar\n"

// Where the unit's own line must change, a drop-in says it: the new server runs by it, and each way
// back takes it away, or has the one before it stand again.
func TestAUnitsOwnLineFollowsTheBuild(t *testing.T) {
	t.Parallel()
	p := settle(
		t,
		"lined",
		strings.Replace(straight, "ExecStart=", "ExecStart=-", 1)+"Restart=on-failure\n",
		demo.Releases...)
	dropIn := "/etc/systemd/system/" + p.unit + ".d/zz-freshkeel.conf"
	there := func() bool { _, code := p.run("test", "-e", dropIn); return code == 0 }
	runs := func() string {
		return strings.ReplaceAll(p.ok(t, "cat", fmt.Sprintf("/proc/%d/cmdline", p.status().Server.PID)), "\x00", " ")
	}
	p.ours(exitDone, "profile", "set", "launch.script", "")
	p.ours(exitDone, "profile", "set", "launch.memory", "512M")
	assert.Contains(t, p.ours(exitDone, "start", "--dry-run"), "the service lined.service in")
	p.ours(exitDone, "start")
	out := p.ours(exitDone, "launch")
	assert.Contains(t, out, "RUNS  the service lined.service")
	assert.Contains(t, out, "-Xmx256M → -Xmx512M")
	out = p.ours(exitDone, "preflight", "3.5.0")
	assert.Contains(t, out, "lined.service will run: "+p.dir)
	assert.Contains(t, out, dropIn)
	assert.False(t, there(), "a preflight writes nothing")

	p.ours(exitDone, "refit", "3.5.0")
	assert.Contains(t, runs(), "-Xmx512M -jar mossgate.jar")
	first := p.ok(t, "cat", dropIn)
	assert.Contains(t, first, "It stands over: \"-"+p.dir)
	assert.Contains(t, first, "\nExecStart=\nExecStart=-"+p.dir, "a failure of it is none, as before")
	// A build that dies takes its line with it: the one before stands again.
	p.ours(exitDone, "profile", "set", "launch.memory", "1G")
	p.ours(exitRolledBack, "refit", "3.6.0")
	assert.Equal(t, first, p.ok(t, "cat", dropIn))
	assert.Contains(t, runs(), "-Xmx512M")
	// One that needs another runtime gets it, and memory with it.
	p.ok(t, "mkdir", "-p", p.made+"/bin") // where the one that is taken has its program
	p.ok(t, "cp", "/usr/local/bin/freshkeel", p.made+"/bin/freshkeel")
	p.ours(exitDone, "runtimes", "take", "--for", "4.0.0")
	p.ours(exitDone, "refit", "4.0.0")
	assert.Contains(t, runs(), "-Xmx1G -jar mossgate.jar")
	assert.NotContains(t, runs(), "/runtimes/17/")
	p.ours(exitDone, "rollback")
	assert.Equal(t, first, p.ok(t, "cat", dropIn))
	// What somebody wrote into it is theirs: nothing is changed until they have taken it out.
	p.put(dropIn, first+"Nice=5\n", 0o644)
	assert.Contains(t, p.ours(exitFailed, "rollback"), "was written or changed by somebody else, and is not touched")
	assert.Contains(t, runs(), "-Xmx512M")
	p.put(dropIn, first, 0o644)
	p.ours(exitDone, "rollback")
	assert.False(t, there())
	assert.Contains(t, runs(), "-Xmx256M")
	// A whole backup has the line of its time; one file has none.
	old := regexp.MustCompile(`b\d{4}`).FindString(p.ours(exitDone, "backup", "take"))
	p.ours(exitDone, "refit", "3.5.0")
	p.ours(exitDone, "backup", "restore", old, "--only", "README.txt")
	assert.Contains(t, runs(), "-Xmx1G")
	p.ours(exitDone, "backup", "restore", old)
	assert.False(t, there())
	assert.Contains(t, runs(), "-Xmx256M")
	// The unit's own line, changed by hand meanwhile, is told of.
	p.ours(exitDone, "refit", "3.5.0")
	unit := p.ok(t, "cat", "/etc/systemd/system/"+p.unit)
	p.put("/etc/systemd/system/"+p.unit, strings.Replace(unit, "-Xms64M", "-Xms128M", 1), 0o644)
	p.ok(t, "systemctl", "daemon-reload")
	out = strings.Join(strings.Fields(p.ours(exitDone, "preflight", "3.6.0")), " ")
	assert.Contains(t, out, "the line of lined.service was changed since a refit wrote its own over it")
}

// Of a server of two services a refit stops the one whose files and line change; the other runs on,
// also where the new build dies, and a whole restore has each as it was.
func TestPartsThatAreServicesAreRefittedAlone(t *testing.T) {
	t.Parallel()
	p := settle(t, "parted", straight)
	bell := p.dir + "/mossgate-east/bell.sh"
	p.put(bell, "#!/bin/sh\necho bell ready\nexec sleep 1000\n", 0o755)
	p.put("/etc/systemd/system/parted-bell.service", "[Service]\nUser=pond\nExecStart="+bell+"\n", 0o644)
	t.Cleanup(func() { p.run("systemctl", "stop", "parted-bell.service") })
	p.ok(t, "chown", "pond:pond", bell)
	p.ok(t, "systemctl", "daemon-reload")
	text := p.text("freshkeel.toml")
	cut := func(from, to string) string { return text[strings.Index(text, from):strings.Index(text, to)] }
	p.put(p.dir+"/mossgate-east/freshkeel.toml", text[:strings.Index(text, "[launch]")]+
		"\n[[part]]\nname = 'bell'\n[part.host]\nunit = 'parted-bell.service'\n[part.ready]\nline = '^bell ready'\nsteady = '50ms'\n"+
		"[[part]]\nname = 'gates'\nafter = ['bell']\nfiles = ['mossgate*', 'open-gates.sh', 'README.txt', 'lib/**', 'tracks/**', "+
		"'assets/**', 'gardens/**']\n[part.host]\nunit = '"+p.unit+"'\n[part.launch]\nmemory = '512M'\n"+
		strings.Replace(cut("[ready]", "[host]"), "[ready]", "[part.ready]", 1), 0o644)
	p.ours(exitDone, "start")
	pid := func(unit string) string { return p.ok(t, "systemctl", "show", "-P", "MainPID", unit) }
	bells, gates := pid("parted-bell.service"), pid(p.unit)
	out := p.ours(exitDone, "preflight", "3.5.0")
	assert.Contains(t, out, "gates; no file of another part changes, and the others run on")
	out = p.ours(exitDone, "refit", "3.5.0")
	assert.Contains(t, out, "still running: bell")
	assert.NotEqual(t, gates, pid(p.unit))
	assert.Contains(t, p.shows("ExecStart"), "-Xmx512M")
	p.ours(exitRolledBack, "refit", "3.6.0")
	assert.Contains(t, p.text("README.txt"), "3.5.0")
	p.ours(exitDone, "rollback")
	assert.Contains(t, p.shows("ExecStart"), "-Xmx256M")
	assert.Equal(t, bells, pid("parted-bell.service"), "all that time")
	assert.Equal(t, "active", p.shows("ActiveState"))
	p.ours(exitDone, "stop")
	assert.Equal(t, "inactive", strings.TrimSpace(p.ok(t, "systemctl", "show", "-P", "ActiveState", "parted-bell.service")))
}

// Root writes a unit's line for a user whose own file it runs, and no other; a user who may not
// write it is told the line.
func TestAUnitsLineThatCantBeWrittenIsTold(t *testing.T) {
	t.Parallel()
	p := settle(t, "unlined", straight)
	out := strings.Join(strings.Fields(p.ours(exitDone, "preflight", "3.5.0")), " ")
	assert.Contains(t, out, "the profile names open-gates.sh as the launch script, and the service does not run it")
	p.ok(t, "mv", p.dir+"/mossgate-east/freshkeel.toml", p.dir+"/before.toml")
	out = p.ours(exitDone, "adopt", p.dir+"/mossgate-east", "--dry-run")
	assert.Contains(t, out, "unit = 'unlined.service'")
	assert.Contains(t, out, "script = ''\n", "it runs none, whatever lies beside it")
	p.ok(t, "mv", p.dir+"/before.toml", p.dir+"/mossgate-east/freshkeel.toml")
	p.ours(exitDone, "profile", "set", "launch.script", "")
	p.ours(exitDone, "profile", "set", "launch.memory", "512M")
	p.ours(exitDone, "start")
	for _, c := range []struct{ name, unit, says string }{
		{"a shell's", "WorkingDirectory=DIR\nExecStart=/bin/sh -c 'exec ../runtimes/17/bin/java -jar mossgate.jar'\n", ""},
		{"somebody else's file", straight, "was written or changed by somebody else, and is not touched"},
	} {
		text := "[Service]\nUser=pond\n" + strings.ReplaceAll(c.unit, "DIR", p.dir+"/mossgate-east")
		p.put("/etc/systemd/system/"+p.unit, text, 0o644)
		if c.name == "somebody else's file" {
			p.put("/etc/systemd/system/"+p.unit+".d/zz-freshkeel.conf", "[Service]\nNice=5\n", 0o644)
		}
		p.ok(t, "systemctl", "daemon-reload")
		out = strings.Join(strings.Fields(p.ours(exitDone, "preflight", "3.5.0")), " ")
		if assert.Contains(t, out, c.says, c.name); c.says != "" {
			assert.Contains(t, out, "ExecStart="+p.dir)
			assert.Contains(t, out, "-Xmx512M -jar mossgate.jar")
		}
		assert.NotContains(t, out, "will run:", c.name)
	}
	p.ours(exitDone, "refit", "3.5.0") // with the line that it has
	assert.Equal(t, "5", p.shows("Nice"))
	p.put("/etc/systemd/system/"+p.unit+".d/zz-freshkeel.conf", "[Service]\nExecStart=\nExecStart=+"+p.dir+
		"/mossgate-east/../runtimes/17/bin/java -jar mossgate.jar\n", 0o644)
	p.ok(t, "systemctl", "daemon-reload")
	out = strings.Join(strings.Fields(p.ours(exitRefused, "preflight", "3.6.0")), " ")
	assert.Contains(t, out, "(ExecStart= with the rule privileged): root does not touch it for pond")
	assert.Contains(t, out, "by hand: sudo systemctl stop "+p.unit)
	p.run("rm", "-rf", "/etc/systemd/system/"+p.unit+".d")
}

// The process that stays root does what is asked for the user's own unit, and says nothing that
// the manager would take for more than that unit's program and its words.
func TestRootWritesNothingForAUserBeyondTheLine(t *testing.T) {
	t.Parallel()
	p := settle(t, "asked", straight)
	uid := strings.TrimSpace(p.ok(t, "id", "-u", "pond"))
	p.put("/etc/systemd/system/asked-else.service", "[Service]\nUser=pond\nWorkingDirectory="+p.dir+
		"/mossgate-east\nExecStart=/bin/sleep 1000\n", 0o644)
	p.put("/etc/systemd/system/asked-root.service", strings.ReplaceAll("[Service]\n"+straight, "DIR", p.dir+"/mossgate-east"), 0o644)
	p.ok(t, "systemctl", "daemon-reload")
	ask := func(unit, do string, words ...string) (said string) {
		q, err := json.Marshal(map[string]any{"unit": unit, "do": do, "words": words})
		require.NoError(t, err)
		cmd := p.command("freshkeel", "answer-as-root", uid, p.dir+"/mossgate-east")
		cmd.Stdin = bytes.NewReader(append(q, '\n'))
		out, err := cmd.Output()
		require.NoError(t, err, string(out))
		return string(out)
	}
	guards := func(unit, mark, home string) string {
		q, err := json.Marshal(map[string]any{"unit": unit, "do": "guard", "guard": map[string]any{"mark": mark, "home": home,
			"need": []string{"x.service\nExecStart=/bin/true"}}})
		require.NoError(t, err)
		cmd := p.command("freshkeel", "answer-as-root", uid, p.dir+"/mossgate-east")
		cmd.Stdin = bytes.NewReader(append(q, '\n'))
		out, _ := cmd.Output()
		return string(out)
	}
	mark := p.dir + "/mossgate-east/.freshkeel/guard/asked.service.moving"
	assert.Contains(t, guards("asked-else.service", mark, "/srv"), "root does not touch it")
	assert.Contains(t, guards(p.unit, "/etc/passwd", "/srv"), "is no mark of")
	assert.Contains(t, guards(p.unit, p.dir+"/mossgate-east/.freshkeel/../../x", "/srv"), "is no mark of")
	assert.Contains(t, guards(p.unit, mark, "/srv\nExecStart=/bin/sh"), "a unit can't say")
	assert.NotContains(t, guards(p.unit, mark, `/srv" "LD_PRELOAD=/x`), "error")
	text := p.ok(t, "cat", "/etc/systemd/system/freshkeel-settle-"+p.unit)
	assert.Contains(t, text, `Environment="FRESHKEEL_HOME=/srv\" \"LD_PRELOAD=/x"`, "one variable, whatever it holds")
	assert.NotContains(t, text, "x.service", "no unit that the user names")
	ask(p.unit, "unguard")
	run := p.dir + "/mossgate-east/../runtimes/17/bin/java"
	// Rights that pond has not, a program that is not pond's: such a unit is nobody's but root's, whatever
	// of pond's its line names besides.
	theirs := "User=pond\n" + strings.ReplaceAll(straight, "DIR", p.dir+"/mossgate-east")
	units := map[string]struct{ unit, why string }{
		"group":   {theirs + "SupplementaryGroups=adm\n", "has the group adm"},
		"primary": {theirs + "Group=shadow\n", "has the group shadow"},
		"caps":    {theirs + "AmbientCapabilities=CAP_NET_ADMIN\n", "AmbientCapabilities="},
		"pam":     {theirs + "PAMName=login\n", "PAMName="},
		"secret":  {theirs + "SetCredential=key:word\n", "SetCredential="},
		"mounts":  {theirs + "BindPaths=/root\n", "BindPaths="},
		"bits":    {theirs + "SecureBits=keep-caps\n", "SecureBits="},
		"before":  {theirs + "ExecStartPre=+/bin/true\n", "ExecStartPre= with the rule privileged"},
		"after":   {theirs + "ExecStopPost=!/bin/true\n", "ExecStopPost= with the rule no-setuid"},
		"tool":    {"User=pond\nExecStart=/usr/bin/tail -f " + p.dir + "/mossgate-east/mossgate.conf\n", "runs /usr/bin/tail"},
		"beside":  {"User=pond\nExecStart=/backup" + p.dir + "/mossgate-east/open-gates.sh\n", "runs /backup/srv"},
		"spoken":  {"User=pond\nExecStart=/bin/sh -c 'tail " + p.dir + "/mossgate-east/x; exec " + p.dir + "/mossgate-east/open-gates.sh'\n", "tail"},
		"agent":   {"User=pond\nExecStart=" + run + " -jar /opt/tool.jar " + p.dir + "/mossgate-east/x\n", "runs /opt/tool.jar"},
	}
	for name, c := range units {
		p.put("/etc/systemd/system/asked-"+name+".service", "[Service]\n"+c.unit, 0o644)
		defer p.run("rm", "-f", "/etc/systemd/system/asked-"+name+".service")
	}
	p.ok(t, "systemctl", "daemon-reload")
	for name, c := range units {
		for _, do := range []string{"start", "stop", "kill", "may write", "write", "journal"} {
			said := ask("asked-"+name+".service", do, run, "-javaagent:x.jar", "-jar", "mossgate.jar")
			assert.Contains(t, said, c.why, name+" "+do)
			assert.Contains(t, said, "root does not touch it for pond", name+" "+do)
			assert.Contains(t, said, "by hand: sudo ", name+" "+do)
		}
	}
	assert.Contains(t, ask(p.unit, "write", "/opt/tool", "mossgate.jar"), "runs /opt/tool, which is no file of")
	for _, c := range []struct{ unit, word, why string }{
		{"asked-root.service", run, "root does not touch it"},
		{"asked-else.service", run, "runs /bin/sleep, which is no file of"},
		{"dbus.service", run, "root does not touch it"},
		{"../../x.service", run, "neither a valid"},
		{"nothere.service", run, "not-found"},
		{p.unit, "+/bin/sh", "is no full path"},
		{p.unit, "java", "is no full path"},
		{p.unit, "", "is no full path"},
	} {
		said := ask(c.unit, "write", c.word, "-jar", "mossgate.jar")
		assert.Contains(t, said, "error", c.unit+c.word)
		assert.Contains(t, said, c.why, c.unit+c.word)
	}
	assert.NotContains(t, ask(p.unit, "may write"), "error")
	odd := []string{run, "-jar", "mossgate.jar", "a\nUser=root\nExecStart=+/bin/sh", "%h", ";", "b\\", `"`, "'", "#", "", "tab\t"}
	assert.NotContains(t, ask(p.unit, "write", odd...), "error")
	text = p.ok(t, "cat", "/etc/systemd/system/"+p.unit+".d/zz-freshkeel.conf")
	assert.Equal(t, 2, strings.Count(text, "\nExecStart="), text)
	assert.NotContains(t, text, "\nUser=")
	assert.Equal(t, "pond", p.shows("User"))
	var line struct{ Data []any }
	require.NoError(t, json.Unmarshal([]byte(p.ok(t, "busctl", "--json=short", "get-property", "org.freedesktop.systemd1",
		"/org/freedesktop/systemd1/unit/asked_2eservice", "org.freedesktop.systemd1.Service", "ExecStart")), &line))
	require.Len(t, line.Data, 1)
	var words []string
	for _, w := range line.Data[0].([]any)[1].([]any) {
		words = append(words, w.(string))
	}
	assert.Equal(t, odd, words, "each word as it was asked for")
	assert.NotContains(t, ask(p.unit, "write", []string{}...), "error")
	_, code := p.run("test", "-e", "/etc/systemd/system/"+p.unit+".d")
	assert.NotZero(t, code, "taken away again, with its folder")
	p.run("rm", "-f", "/etc/systemd/system/asked-else.service", "/etc/systemd/system/asked-root.service")
}

// A unit's own line that was changed below ours is told at the next start; what is given back takes ours away.
func TestALineBelowOursIsTold(t *testing.T) {
	t.Parallel()
	p := settle(t, "below", straight)
	p.ours(exitDone, "profile", "set", "launch.script", "")
	p.ours(exitDone, "profile", "set", "launch.memory", "512M")
	p.ours(exitDone, "start")
	p.ours(exitDone, "refit", "3.5.0")
	p.ours(exitDone, "stop")
	p.ok(t, "sed", "-i", "s/-Xmx256M/-Xmx300M/", "/etc/systemd/system/"+p.unit)
	p.ok(t, "systemctl", "daemon-reload")
	out := oneSpace(p.ours(exitDone, "start"))
	assert.Contains(t, out, "the line of below.service was changed since a refit wrote its own over it, and does not count")
	p.ours(exitDone, "profile", "set", "stop.tell", "say the gates close")
	out = p.ours(exitDone, "stop")
	assert.Contains(t, out, "nobody on the server was warned of the stop", "it has no console")
	assert.Less(t, strings.Index(out, "nobody on"), strings.Index(out, "STOPPED"))
	out = p.ours(exitDone, "adopt", p.dir+"/mossgate-east", "--release", "--keep-backups", "--yes")
	assert.Contains(t, out, "zz-freshkeel.conf")
	assert.Contains(t, p.shows("ExecStart"), "-Xmx300M")
	left, _ := p.run("sh", "-c", "ls -d /etc/systemd/system/"+p.unit+".d")
	assert.NotContains(t, strings.ReplaceAll(left, "cannot access '/etc/systemd/system/"+p.unit+".d'", ""), p.unit)
}

// A service that no script starts is booted apart for the defaults that a build writes; and where its runtime
// stands in the file of its environment, the line that mends it is told, and does.
func TestAServiceWithoutAScript(t *testing.T) {
	t.Parallel()
	p := settle(t, "scriptless", "EnvironmentFile=/srv/scriptless/env\nWorkingDirectory=DIR\n"+
		"ExecStart=/bin/sh -c 'exec $${RUN} -Xms64M -Xmx256M -jar DIR/mossgate.jar'\n", demo.Releases...)
	p.ok(t, "chown", "-R", "root:root", p.dir) // of a variable root knows no owner
	p.ok(t, "sed", "-i", "/^User=/d", "/etc/systemd/system/"+p.unit)
	p.ok(t, "systemctl", "daemon-reload")
	p.put(p.dir+"/env", "# what runs it\nRUN="+p.dir+"/runtimes/17/bin/java\n", 0o644)
	p.ours(exitDone, "profile", "set", "launch.script", "")
	p.put(p.dir+"/mossgate-east/freshkeel.toml",
		p.text("freshkeel.toml")+"\n[[carry]]\nfile = 'course.conf'\ndefaults = 'written'\n", 0o644)
	p.ours(exitDone, "start")
	out := p.ours(exitDone, "preflight", "3.5.0")
	assert.Contains(t, out, "first start: 3.5.0 in a folder apart: it wrote no settings")
	assert.NotContains(t, out, "are not known")
	p.ok(t, "mkdir", "-p", p.made+"/bin") // where the one that is taken has its program
	p.ok(t, "cp", "/usr/local/bin/freshkeel", p.made+"/bin/freshkeel")
	p.ours(exitDone, "runtimes", "take", "--for", "4.0.0")
	out = oneSpace(p.ours(exitRefused, "preflight", "4.0.0"))
	line := regexp.MustCompile(`in (\S+), write (RUN=\S+) \(Java 33`).FindStringSubmatch(out)
	require.Len(t, line, 3, out)
	require.Equal(t, p.dir+"/env", line[1])
	p.put(line[1], line[2]+"\n", 0o644)
	p.ours(exitDone, "refit", "4.0.0")
	assert.Contains(t, p.ok(t, "cat", fmt.Sprintf("/proc/%d/cmdline", p.status().Server.PID)), "33.0.1")
}
