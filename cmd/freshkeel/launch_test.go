//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// byMakersScript is a server that is run by its makers' script, which each build ships.
func byMakersScript(t *testing.T, scripts ...string) (p place, build func(i int) string) {
	p = place{proving.Bare(t)}
	build = func(i int) string { return filepath.Join(p.Dir, fmt.Sprintf("pond-1.%d.zip", i)) }
	for i, s := range scripts {
		zipOf(t, build(i), time.Now(), false, "start.sh", s, "server.sh", strings.ReplaceAll(pondServer, "VERSION",
			fmt.Sprintf("1.%d", i)))
	}
	p.Put("start.sh", scripts[0])
	p.Put("server.sh", strings.ReplaceAll(pondServer, "VERSION", "1.0"))
	p.Put("freshkeel.toml", "[server]\nname = 'pond'\n[launch]\nscript = 'start.sh'\n"+
		"[stop]\nsend = 'close'\n[ready]\nline = '^gates open'\nversion = '^pond (\\S+)'\nsteady = '60ms'\n")
	p.OK("adopt", p.Install, "--build", build(0), "--version", "1.0")
	return p, build
}

// The makers' new launch script keeps what the operator changed in the old one, and goes back
// with the build; what both changed stops the refit, with both sides and two ways out.
func TestTheMakersNewLaunchScriptKeepsTheOperatorsChanges(t *testing.T) {
	t.Parallel()
	p, build := byMakersScript(
		t,
		"#!/bin/sh\nFISH=4\nsh server.sh\n",
		"#!/bin/sh\nulimit -n 512\nFISH=4\nsh server.sh\n",
		"#!/bin/sh\nulimit -n 512\nFISH=4\nexec sh ./server.sh\n",
	)
	mine := "#!/bin/sh\nFISH=40\nsh server.sh # ours\n"
	p.Put("start.sh", mine)
	p.OK("start")
	pre := oneSpace(p.OK("preflight", "--from", build(1), "--all").Out)
	assert.Contains(t, pre, "start.sh: the makers' new script, with your changes in it")
	assert.Contains(t, pre, "+ulimit -n 512")
	p.OK("refit", "--from", build(1))
	merged := "#!/bin/sh\nulimit -n 512\nFISH=40\nsh server.sh # ours\n"
	assert.Equal(t, merged, p.Read("start.sh"))
	p.Put("start.sh", strings.Replace(merged, "sh server.sh", "nice sh server.sh", 1))
	changed := p.Read("start.sh")
	r := p.Exits(exitRefused, "refit", "--from", build(2))
	told := oneSpace(r.Out + r.Err)
	assert.Contains(t, told, "its makers and you both changed line 4, each in another way")
	assert.Contains(t, told, "new build exec sh ./server.sh")
	assert.Contains(t, told, "yours nice sh server.sh # ours")
	assert.Contains(t, told, "--accept drift; or keep yours: freshkeel profile set --add server.keep start.sh")
	assert.Equal(t, changed, p.Read("start.sh"))
	p.OK("refit", "--from", build(2), "--accept", "drift")
	assert.Equal(t, "#!/bin/sh\nulimit -n 512\nFISH=4\nexec sh ./server.sh\n", p.Read("start.sh"))
	p.OK("rollback")
	assert.Equal(t, changed, p.Read("start.sh"))
	p.OK("profile", "set", "--add", "server.keep", "start.sh")
	p.OK("refit", "--from", build(2))
	assert.Equal(t, changed, p.Read("start.sh"))
	p.OK("rollback")
	p.OK("rollback")
	assert.Equal(t, mine, p.Read("start.sh"), "byte for byte")
	p.OK("stop")
}

// What the profile asks of the launch script is written with the refit, shown before, and goes
// back with it; the runtime is the operator's choice where several fit.
func TestARefitWritesWhatTheProfileAsksOfTheLaunchScript(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	script := p.Read("open-gates.sh")
	newer := filepath.Join(p.Dir, "runtimes", "21", "bin", "java")
	java, err := os.ReadFile(filepath.Join(p.Dir, "runtimes", "17", "bin", "java"))
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Dir(newer), 0o755))
	require.NoError(t, os.WriteFile(newer, []byte(strings.ReplaceAll(string(java), "17.0.9", "21.0.2")), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(p.Dir, "runtimes", "21", "release"),
		[]byte("JAVA_VERSION=\"21.0.2\"\n"), 0o644))
	p.OK("profile", "set", "launch.memory", "300M")
	p.OK("profile", "set", "--add", "launch.flags", "--", "-Dpond.deep=true")
	p.OK("profile", "set", "--add", "launch.with", "--", "--lanterns 12")
	p.OK("profile", "set", "--add", "launch.without", "--", "--gardens")
	p.OK("profile", "set", "--add", "runtime.search", filepath.Join(p.Dir, "runtimes", "*"))
	told := oneSpace(p.OK("launch").Out)
	assert.Contains(t, told, "memory 64.0 MiB at first, 256.0 MiB at most")
	assert.Contains(t, told, "asks for more, which the next refit writes: -Xmx256M → -Xmx300M")
	p.OK("start")
	r := p.Exits(exitRefused, "preflight", "3.5.0", "--runtime", "16")
	assert.Contains(t, r.Out, "the runtime 16 was chosen, and none here is that")
	pre := oneSpace(p.OK("preflight", "3.5.0", "--runtime", "21", "--all").Out)
	assert.Contains(t, pre, "it will run Java 21.0.2")
	assert.Contains(t, pre, "21 was chosen, and mossgate.jar needs Java 17")
	assert.Contains(t, pre, "changes: with --lanterns 12")
	assert.Equal(t, script, p.Read("open-gates.sh"))
	p.OK("refit", "3.5.0", "--runtime", "21")
	now := p.Read("open-gates.sh")
	assert.Equal(t, strings.NewReplacer("-Xmx256M", "-Xmx300M", "\"$JAVA\"", newer+" -Dpond.deep=true",
		"-jar mossgate.jar --gardens gardens", "-jar mossgate.jar --lanterns 12 gardens").Replace(script), now)
	told = oneSpace(p.OK("launch").Out)
	assert.Contains(t, told, "Java 21.0.2")
	assert.NotContains(t, told, "asks for more")
	again := p.OK("preflight", "3.6.0", "--all").Out
	assert.NotContains(t, again, "open-gates.sh changes:", "what is there is not written again")
	p.OK("rollback")
	assert.Equal(t, script, p.Read("open-gates.sh"))
	p.OK("stop")
}

// The script follows a jar that has its version in its name; nothing says a version that is not
// in the file.
func TestTheLaunchScriptFollowsTheJarsName(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	old, now := "mossgate-server-3.4.1.jar", "mossgate-server-3.5.0.jar"
	require.NoError(t, os.Rename(filepath.Join(p.Install, "mossgate.jar"), filepath.Join(p.Install, old)))
	p.Put("open-gates.sh", strings.NewReplacer("exec", "JAR="+old+"\nexec", "mossgate.jar", "\"$JAR\"").
		Replace(p.Read("open-gates.sh")))
	require.NoError(t, os.Chmod(filepath.Join(p.Install, "open-gates.sh"), 0o755))
	before := p.Read("open-gates.sh")
	p.EditProfile(func(s string) string {
		return strings.ReplaceAll(s, "'mossgate-server-*.jar' = 'mossgate.jar'", "")
	})
	p.OK("adopt", p.Install, "--build", filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip"))
	p.OK("start")
	pre := oneSpace(p.OK("preflight", "3.5.0", "--all").Out)
	assert.Contains(t, pre, "the build calls "+old+" "+now)
	p.OK("refit", "3.5.0")
	assert.Equal(t, strings.ReplaceAll(before, old, now), p.Read("open-gates.sh"))
	assert.NoFileExists(t, filepath.Join(p.Install, old))
	assert.FileExists(t, filepath.Join(p.Install, now))
	p.OK("rollback")
	assert.Equal(t, before, p.Read("open-gates.sh"))
	assert.FileExists(t, filepath.Join(p.Install, old))
	p.OK("stop")
}

// Where there is no script one is written, for either system, and never over one that is there.
func TestALaunchScriptIsWritten(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("profile", "set", "launch.memory", "300M")
	r := p.OK("launch", "--write", "mine.sh")
	text := p.Read("mine.sh")
	assert.Contains(t, text, "exec ../runtimes/17/bin/java -Xms64M -Xmx300M -jar mossgate.jar --gardens gardens\n")
	assert.Contains(t, text, "# Written by freshkeel launch --write: it runs what open-gates.sh runs, line 6.")
	assert.Contains(t, r.Out, "freshkeel profile set launch.script 'mine.sh'")
	r = p.Exits(exitFailed, "launch", "--write", "open-gates.sh")
	assert.Contains(t, r.Err, "is there already, and is left as it is")
	p.OK("profile", "set", "launch.script", "mine.sh")
	p.OK("start")
	p.OK("stop")
	p.OK("launch", "--write", "mine.bat")
	assert.Contains(t, p.Read("mine.bat"), "..\\runtimes\\17\\bin\\java -Xms64M -Xmx300M -jar mossgate.jar")
	p.EditProfile(func(s string) string { return strings.ReplaceAll(s, "script = 'mine.sh'", "script = ''") })
	r = p.OK("launch", "--write", "new.sh", "--dry-run")
	assert.Contains(t, r.Out, "exec java -Xmx300M -jar mossgate.jar")
	assert.NoFileExists(t, filepath.Join(p.Install, "new.sh"))
}

// What a server may take is held against the machine, less what other servers of the same user
// may take.
func TestMemoryIsHeldAgainstWhatOtherServersTake(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("start")
	assert.NotContains(t, p.OK("preflight", "3.5.0").Out, "of other servers")
	other := place{proving.Bare(t)}
	other.Env = append(other.Env, "FRESHKEEL_HOME="+p.Home)
	all, err := os.ReadFile("/proc/meminfo")
	require.NoError(t, err)
	var total int64
	_, err = fmt.Sscanf(string(all), "MemTotal: %d kB", &total)
	require.NoError(t, err)
	other.Put("start.sh", fmt.Sprintf("#!/bin/sh\nexec java -Xmx%dM -jar pond.jar\n", total>>10-100))
	other.Put("freshkeel.toml", "[server]\nname = 'big pond'\n[launch]\nscript = 'start.sh'\n")
	other.OK("adopt", other.Install)
	other.OK("backup", "take")
	told := oneSpace(p.OK("preflight", "3.5.0").Out)
	assert.Regexp(
		t,
		`256\.0 MiB of heap here and [\d.]+ GiB of other servers are more than (the machine|its control group) has`,
		told,
	)
	assert.Contains(t, told, "big pond, "+other.Install[:20])
	p.OK("stop")
}
