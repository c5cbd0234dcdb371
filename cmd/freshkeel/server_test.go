//go:build unix

package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// scripted is an install whose server is the shell script given.
func scripted(t *testing.T, script string) *place {
	p := bare(t)
	p.Put("run.sh", "#!/bin/sh\n"+script)
	p.Put("freshkeel.toml", `[server]
name = "pond"
[launch]
script = "run.sh"
[stop]
send = "quit"
wait = "1s"
terminate = "1s"
[ready]
line = '^ready'
within = "5s"
steady = "50ms"
`)
	return p
}

const patient = "echo ready\nwhile read line; do echo \"heard $line\"; [ \"$line\" = quit ] && exit 0; done\n"

func TestConsoleIsReachableAndSurvivesItsCommand(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	p.OK("start")
	p.OK("send", "hello", "there")
	proving.Until(t, "the answer", func() bool { return strings.Contains(p.Run("log").Out, "heard hello there") })

	// log -f goes on as lines come, and ends when the server does.
	follow := p.Command("log", "-f", "-n", "1")
	var heard bytes.Buffer
	follow.Stdout = &heard
	require.NoError(t, follow.Start())
	proving.Until(t, "the follower to stand",
		func() bool { p.OK("send", "ping"); return p.Status().LastLine == "heard ping" })
	r := p.OK("stop")
	assert.Contains(t, r.Out, "(status 0)")
	require.NoError(t, follow.Wait())
	assert.Contains(t, heard.String(), "heard ping")
	assert.Contains(t, heard.String(), "heard quit")
	assert.Contains(t, p.OK("stop").Out, "it was not running", "safe to run twice")
	assert.Contains(t, p.Exits(exitFailed, "send", "anybody").Err, "not running")
	assert.Contains(t, p.Exits(exitDown, "status").Out, "as told (status 0)")
}

// P7: a second start is refused with the first one's process and age, however
// it was started; so is a second run at a time.
func TestSecondStartAndSecondRefitAreRefused(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	p.OK("start")
	pid := p.Status().Server.PID
	r := p.Exits(exitFailed, "start")
	assert.Regexp(
		t,
		fmt.Sprintf(
			`the server is running already: process %d, for \d+s, under its minder\ntry: freshkeel status`,
			pid,
		),
		r.Err,
	)
	assert.Equal(t, pid, p.Status().Server.PID)

	holder := p.Command("refit", "--from", filepath.Join(p.Dir, "pond-2.0"), "--accept", "drift")
	proving.Put(t, filepath.Join(p.Dir, "pond-2.0/run.sh"), "#!/bin/sh\n# 2.0\n"+patient)
	p.Hold("begun", holder)
	assert.NotEmpty(t, p.Status().Busy)
	r = p.Exits(exitFailed, "backup", "take")
	assert.Regexp(t, fmt.Sprintf(`another command is at work here: refit, process %d, since`, holder.Process.Pid),
		r.Err)
	require.NoError(t, holder.Process.Kill())
	holder.Wait()
	p.OK("stop")

	outside := exec.Command("sh", "run.sh")
	outside.Dir = p.Install
	in, err := outside.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, outside.Start())
	r = p.Exits(exitFailed, "start")
	assert.Contains(t, r.Err, fmt.Sprintf("process %d", outside.Process.Pid))
	assert.Contains(t, r.Err, "started outside Fresh Keel")
	in.Close()
	outside.Wait()
}

// A script of the operator's, in the install, that runs Fresh Keel is not taken
// for a server, however many shells stand between.
func TestOperatorsOwnScriptIsNoServer(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	p.Put("nightly.sh", "sh -c '"+proving.Binary+" -d . start; exit $?'\ncode=$?; exit $code\n")
	cmd := exec.Command("sh", "nightly.sh")
	cmd.Dir, cmd.Env = p.Install, p.Env
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.True(t, p.Status().Server.Running)
}

// Nor is there a second server when somebody starts one by hand in the middle
// of a refit: all goes back, and it is said who runs.
func TestServerStartedByHandInTheMiddleOfARefit(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	p.Put("by-hand.sh", "sleep 60; exit\n")
	p.OK("start")
	proving.Put(t, filepath.Join(p.Dir, "pond-2.0/new.txt"), "new")
	before := p.Tree()
	cmd := p.Command("refit", "--accept", "kind", "--from", filepath.Join(p.Dir, "pond-2.0"))
	var out bytes.Buffer
	cmd.Stdout = &out
	goOn := p.Hold("phase:watching", cmd)
	byHand := p.Outside("by-hand.sh")
	goOn()
	cmd.Wait()
	assert.Equal(t, exitHands, cmd.ProcessState.ExitCode())
	assert.Contains(t, out.String(), fmt.Sprintf("process %d", byHand.Process.Pid))
	assert.Equal(t, before, p.Tree())
	assert.False(t, p.Status().Server.Running)
}

// P4, and a launch script that puts its server in the background: the whole
// tree is known, ended, and nothing else is touched.
func TestStopReachesTheWholeTreeAndNothingElse(t *testing.T) {
	t.Parallel()
	p := scripted(
		t,
		"echo ready\n(trap '' TERM HUP; sh -c 'trap \"\" TERM; while :; do sleep 0.2; done' ) &\nsetsid sleep 300 &\nexit 0\n",
	)
	bystander := exec.Command("sleep", "300")
	bystander.Dir = p.Dir
	require.NoError(t, bystander.Start())
	t.Cleanup(func() { bystander.Process.Kill(); bystander.Wait() })
	p.OK("start")
	st := p.Status()
	assert.True(t, st.Server.Running, "the script has ended, the server has not")
	assert.GreaterOrEqual(t, len(st.Server.Processes), 2)
	assert.NotContains(t, st.Server.Processes, bystander.Process.Pid)
	r := p.OK("stop")
	assert.Contains(t, r.Err, "terminate signal to its processes")
	assert.Contains(t, r.Err, "killing its processes")
	for _, pid := range st.Server.Processes {
		proving.Until(t, "process "+strconv.Itoa(pid)+" to be gone", func() bool { return syscall.Kill(pid, 0) != nil })
	}
	assert.NoError(t, bystander.Process.Signal(syscall.Signal(0)))
	assert.Nil(t, bystander.ProcessState)
}

func TestStopWithoutLeaveToKillSaysWhatIsLeft(t *testing.T) {
	t.Parallel()
	stubborn := demo.Releases[0]
	stubborn.Behaviour = demo.Stubborn
	p := mossgate(t, stubborn, demo.Releases[1])
	p.EditProfile(func(s string) string {
		s = strings.Replace(s, "wait = '5s'", "wait = '300ms'", 1)
		return strings.NewReplacer("terminate = '2s'", "terminate = '300ms'", "kill = true", "kill = false").Replace(s)
	})
	p.OK("start")
	before, pid := p.Tree(), p.Status().Server.PID
	r := p.Exits(exitFailed, "refit", "3.5.0")
	assert.Contains(t, r.Err, "the profile does not allow killing it: processes")
	assert.Equal(t, before, p.Tree())
	assert.Equal(t, pid, p.Status().Server.PID)
	p.EditProfile(func(s string) string { return strings.Replace(s, "kill = false", "kill = true", 1) })
	p.OK("refit", "3.5.0")
}

// A second stop waits along with the first, and does not cut it short.
func TestSecondStopWaitsWithTheFirst(t *testing.T) {
	t.Parallel()
	p := scripted(t, "echo ready\nwhile read line; do [ \"$line\" = quit ] && { sleep 3; echo saved; exit 0; }; done\n")
	p.EditProfile(func(s string) string { return strings.Replace(s, `wait = "1s"`, `wait = "20s"`, 1) })
	p.OK("start")
	first := p.Command("stop")
	require.NoError(t, first.Start())
	proving.Until(t, "the first stop to be under way", func() bool { return p.Status().Server.Stopping })
	assert.True(t, strings.HasPrefix(p.Exits(exitBetween, "status").Out, "STOPPING  pond"))
	require.NoError(t, first.Process.Kill()) // the minder sees it through
	first.Wait()
	r := p.OK("stop")
	assert.Contains(t, r.Out, "(status 0)")
	assert.NotContains(t, r.Err, "terminate")
	assert.Contains(t, p.OK("log").Out, "saved")
}

// The minder is away from the terminal: hanging up ends neither it nor the server.
func TestMinderSurvivesTheTerminal(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	session := exec.Command("setsid", "-w", "sh", "-c", proving.Binary+" -d "+p.Install+" start; kill -HUP 0; sleep 5")
	session.Env = p.Env
	session.Run()
	require.True(t, p.Status().Server.Running)
	p.OK("send", "still", "there")
}

// A terminal that goes away in the middle of a refit does not leave the server
// down: the refit goes on. And the server is not deaf to the signals.
func TestRefitGoesOnWhenItsTerminalGoesAway(t *testing.T) {
	t.Parallel()
	p := scripted(t, "trap 'echo hung up' HUP\n"+
		strings.Replace(patient, "while read line; do", "while read line || [ $? -gt 128 ]; do", 1))
	p.OK("start")
	proving.Put(t, filepath.Join(p.Dir, "pond-2.0/run.sh"), p.Read("run.sh")+"# 2.0\n")
	p.EditProfile(func(s string) string { return strings.Replace(s, `steady = "50ms"`, `steady = "900ms"`, 1) })
	cmd := p.Command("refit", "--from", filepath.Join(p.Dir, "pond-2.0"))
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = cmd.Stdout
	require.NoError(t, cmd.Start())
	proving.Until(t, "the new server to be watched", func() bool {
		b, _ := os.ReadFile(filepath.Join(p.Install, ".freshkeel/logbook/r0001.json"))
		return strings.Contains(string(b), `"watching"`)
	})
	out.Close()
	require.NoError(t, cmd.Process.Signal(syscall.SIGHUP))
	cmd.Wait()
	assert.EqualValues(t, "confirmed", p.LastEntry().Outcome)
	require.NoError(t, syscall.Kill(p.Status().Server.PID, syscall.SIGHUP))
	proving.Until(t, "the server to hear it", func() bool { return strings.Contains(p.Run("log").Out, "hung up") })
}

func TestServerThatDoesNotComeUpIsStoppedAndTold(t *testing.T) {
	t.Parallel()
	p := scripted(t, "echo no water in the pond; exit 7\n")
	var r proving.Ran
	for range 5 { // it may have ended before anybody asks since when it runs
		r = p.Exits(exitFailed, "start")
		assert.Contains(t, r.Out, "ended (status 7) before it was ready")
	}
	assert.True(t, strings.HasPrefix(r.Out, "NOT UP"), r.Out)
	assert.Contains(t, r.Out, "no water in the pond")
	assert.False(t, p.Status().Server.Running)
	p.Put("run.sh", "#!/no/such/interpreter\n")
	r = p.Exits(exitFailed, "start")
	assert.Contains(t, r.Err, "run run.sh")
}

// Root over somebody else's install becomes that user before it reads anything
// there: the server, and all that a refit puts there, is the user's.
func TestRootBecomesTheInstallsOwner(t *testing.T) {
	t.Parallel()
	const owner = 54321
	p := scripted(t, "id -u; "+patient)
	p.GiveTo(owner)
	r := p.OK("start")
	assert.Contains(t, r.Err, "belongs to user 54321: working as that user, not as root")
	assert.Contains(t, p.OK("log").Out, "54321")
	proving.Put(t, filepath.Join(p.Dir, "pond-2.0/run.sh"), "#!/bin/sh\nid -u; # two\n"+patient)
	proving.Put(t, filepath.Join(p.Dir, "pond-2.0/deep/new.txt"), "new")
	p.OK("refit", "--from", filepath.Join(p.Dir, "pond-2.0"))
	require.NoError(t, filepath.WalkDir(p.Install, func(at string, _ fs.DirEntry, err error) error {
		require.NoError(t, err)
		fi, err := os.Lstat(at)
		require.NoError(t, err)
		assert.EqualValues(t, owner, fi.Sys().(*syscall.Stat_t).Uid, at)
		return nil
	}))
	fi, err := os.Stat(filepath.Join(p.Install, ".freshkeel/run/minder.sock"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, fi.Mode().Perm(), "the console is the owner's alone")
}

// An install may stand at a path longer than a socket's address can be.
func TestMinderAnswersAtTheEndOfALongPath(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	long := filepath.Join(p.Dir, strings.Repeat("a-long-way-down-", 12))
	require.NoError(t, os.Rename(p.Install, long))
	p.Install = long
	p.OK("start")
	p.OK("send", "hello")
	proving.Until(t, "the answer", func() bool { return strings.Contains(p.Run("log").Out, "heard hello") })
	start := time.Now()
	p.OK("stop")
	assert.Less(t, time.Since(start), 20*time.Second)
}

// Who asks after a caller that died with its stop just sent is told of that
// stop: else a recovery would take the server for one that runs on.
func TestStopIsHeardBeforeWhatIsAskedAfterIt(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	p.OK("start")
	talk := func() *net.UnixConn {
		c, err := net.DialUnix("unix", nil,
			&net.UnixAddr{Net: "unix", Name: filepath.Join(p.Install, ".freshkeel/run/minder.sock")})
		require.NoError(t, err)
		return c
	}
	for range 20 {
		stop := talk()
		fmt.Fprintln(stop, `{"do":"stop","stop":{"send":"flush","wait":100000000}}`)
		ask := talk()
		fmt.Fprintln(ask, `{"do":"status"}`)
		var said struct{ Status struct{ Stopping bool } }
		require.NoError(t, json.NewDecoder(ask).Decode(&said))
		require.True(t, said.Status.Stopping)
		ask.Close()
		_, err := io.Copy(io.Discard, stop)
		require.NoError(t, err, "the stop ends, with the server left running")
	}
	late := talk() // who says nothing for long holds nobody up for good
	defer late.Close()
	assert.False(t, p.Status().Server.Stopping)
}

// A minder whose caller died before it held the install starts nothing: what
// came after that caller found no server, and may be moving files.
func TestMinderThatNobodyWaitsForStartsNothing(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	require.NoError(t, os.MkdirAll(filepath.Join(p.Install, ".freshkeel/run"), 0o700))
	order, err := json.Marshal(map[string]any{"install": p.Install, "script": "run.sh",
		"run_dir": filepath.Join(p.Install, ".freshkeel/run"), "uid": -1, "gid": -1})
	require.NoError(t, err)
	cmd := p.Command("status")
	cmd.Args = []string{cmd.Path, minderWord}
	cmd.Stdin = bytes.NewReader(order)
	out, _ := cmd.Output()
	assert.Contains(t, string(out), `{"held":true}`)
	assert.Contains(t, string(out), "who ordered the start is gone")
	assert.NotContains(t, p.Run("log").Out, "ready")
	p.OK("start")
}

// A minder that is killed takes no server with it: the next command knows the
// server as ours by its mark, has another minder take over, console and all, and
// starts no second one (P7). Its command line names no file of the install.
func TestAKilledMindersServerIsTakenOver(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("its console ends with its minder here")
	}
	for name, how := range map[string]string{"by its mark": "cd / && exec sh -c",
		"by its session": "exec env -i PATH=\"$PATH\" sh -c"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := scripted(
				t,
				how+" 'echo ready; while read line; do echo \"heard $line\"; [ \"$line\" = quit ] && exit 0; done'\n",
			)
			p.OK("start")
			was := p.Status().Server
			require.NoError(t, syscall.Kill(was.Minder, syscall.SIGKILL))
			proving.Until(t, "the minder to be gone", func() bool { return syscall.Kill(was.Minder, 0) != nil })
			r := p.Exits(exitFailed, "start")
			assert.Contains(t, r.Err, "the server's minder had been killed: another one has taken over")
			assert.Contains(t, r.Err, "the server is running already: process "+fmt.Sprint(was.PID))
			now := p.Status().Server
			assert.Equal(t, was.PID, now.PID)
			assert.NotEqual(t, was.Minder, now.Minder)
			p.OK("send", "still", "there")
			proving.Until(t, "the answer",
				func() bool { return strings.Contains(p.Run("log").Out, "heard still there") })
			p.OK("stop")
			assert.False(t, p.Status().Server.Running)
			assert.Empty(t, p.Status().Outside)
			p.OK("start")
		})
	}
}

// What the operator's shell knows is not handed to the server, but for what servers
// need and what the profile names.
func TestTheServerGetsNoSecretsOfTheShell(t *testing.T) {
	t.Parallel()
	p := scripted(t, "env\n"+patient)
	p.EditProfile(func(s string) string {
		return strings.Replace(s, `script = "run.sh"`, "script = \"run.sh\"\npass = [\"POND_*\"]", 1)
	})
	p.Env = append(p.Env, "POND_DEPTH=3", "CLOUD_TOKEN=do-not-tell", "JAVA_HOME=/opt/java", "LC_ALL=C.UTF-8")
	p.OK("start")
	out := p.OK("log", "-n", "200").Out
	assert.NotContains(t, out, "do-not-tell")
	for _, want := range []string{"POND_DEPTH=3", "JAVA_HOME=/opt/java", "LC_ALL=C.UTF-8", "PATH="} {
		assert.Contains(t, out, want)
	}
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", p.Status().Server.Minder))
	if err == nil {
		assert.NotContains(t, string(b), "do-not-tell", "nor to the minder")
	}
}

// A server's console can't take a terminal over, however it is looked at; JSON has
// what it said as it is. A line without an end is cut, a flood loses neither the
// ready line nor the server.
func TestAHostileConsole(t *testing.T) {
	t.Parallel()
	p := scripted(t, `printf '\033]0;owned\007\033[2J\033[1;31mred\033[8m hidden\r\n'
head -c 300000 /dev/zero | tr '\0' x; echo
echo "first after"
i=0; while [ $i -lt 5 ]; do yes 'a line of the flood, as long as lines of servers are, with a date and a word or two' | head -c 9000000; echo; i=$((i+1)); done
echo ready
while read line; do echo "heard $line"; printf '\033[31m%s\n' tail; [ "$line" = quit ] && exit 0; done
`)
	p.EditProfile(func(s string) string {
		return strings.NewReplacer(`within = "5s"`, `within = "50s"`, `name = "pond"`,
			`name = "po\u001b[31mnd"`).Replace(s)
	})
	p.OK("start")
	p.OK("send", "x")
	proving.Until(t, "the answer", func() bool { return strings.Contains(p.Run("log").Out, "heard x") })
	for _, args := range [][]string{{"log"}, {"status"}, {"log", "-n", "5000"}} {
		r := p.OK(args...)
		assert.NotContains(t, r.Out+r.Err, "\x1b", "%v", args)
	}
	assert.Contains(t, p.Status().Name, "\x1b[31m", "in JSON it is as it is")
	for _, name := range []string{"console.log", "console.1.log", "console.2.log", "console.3.log", "console.4.log"} {
		fi, err := os.Stat(filepath.Join(p.Install, ".freshkeel/run", name))
		require.NoError(t, err)
		assert.Less(t, fi.Size(), int64(9<<20), "%s stays within its bound", name)
	}
}

// A word too many is wrong usage, everywhere: it might be meant for another server.
func TestAWordTooManyIsWrongUsage(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	p.OK("start")
	pid := p.Status().Server.PID
	for _, args := range [][]string{{"stop", "pond2"}, {"start", "other"}, {"status", "pond2"},
		{"rollback", "r0003", "r0004"}, {"backup", "take", "world"}, {"backup", "list", "b0001"}, {"recover", "r0001"},
		{"logbook", "r0001", "r0002"}, {"log", "50"}, {"refit", "1", "2"}, {"builds", "x"}, {"audit", "x"}} {
		r := p.Exits(exitUsage, args...)
		assert.Regexp(t, `a word too many|one version at a time`, r.Err, "%v", args)
		assert.Contains(t, r.Err, "try: freshkeel", "%v", args)
	}
	assert.Equal(t, pid, p.Status().Server.PID)
}

// Every word after send is the server's.
func TestEveryWordAfterSendIsTheServers(t *testing.T) {
	t.Parallel()
	p := scripted(t, patient)
	p.OK("start")
	for _, words := range [][]string{{"help"}, {"h"}, {"--", "help"}, {"kick", "--all"}, {"-v"}, {"say", "--", "hello"},
		{"--", "--help"}} {
		p.OK(append([]string{"send"}, words...)...)
		want := "heard " + strings.TrimPrefix(strings.Join(words, " "), "-- ")
		proving.Until(t, want, func() bool { return strings.Contains(p.Run("log").Out, want+"\n") })
	}
	assert.Contains(t, p.OK("send", "--dry-run", "quit").Out, "WOULD SEND  quit")
	assert.Contains(t, p.OK("send", "--help").Out, "type a line at the server's console")
	assert.True(t, p.Status().Server.Running)
}

// What a server says of its version, by the profile's rule, is kept where none was
// known; a length of time without a unit is an error that proposes one.
func TestAVersionHeardIsKeptAndABareNumberIsNoTime(t *testing.T) {
	t.Parallel()
	p := scripted(t, "echo pond server 1.7\n"+patient)
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "[ready]", "[ready]\nversion = '^pond server (\\S+)'", 1)
	})
	assert.Contains(t, p.OK("start").Err, "the server says that it is 1.7")
	assert.Equal(t, "1.7", p.Status().Version)
	p.OK("stop")
	p.EditProfile(func(s string) string { return strings.Replace(s, `within = "5s"`, `within = 90`, 1) })
	r := p.Exits(exitUsage, "start")
	assert.Regexp(t, `freshkeel.toml:\d+: .*within: 90 is a number without a unit: write it as "90s"`, r.Err)
}

// A port that somebody else holds is named before the server is started.
func TestAHeldPortIsNamedAtTheStart(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.EditProfile(func(s string) string { return strings.Replace(s, "strict = false", "strict = true", 1) })
	other, err := net.ListenPacket("udp", fmt.Sprintf("127.0.0.1:%d", p.Port))
	require.NoError(t, err)
	defer other.Close()
	r := p.Exits(exitFailed, "start")
	assert.Regexp(t, fmt.Sprintf(`port udp/%d, which the server wants, is held already by process %d, `, p.Port,
		os.Getpid()), r.Err)
	assert.Contains(t, r.Err, "try: stop that process")
	other.Close()
	p.OK("start")
}

// Root that has become the install's owner still sees whose process holds a port: that
// one question is answered by a process that stayed root.
func TestWhoHoldsAPortIsSeenWithRootsEyes(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.EditProfile(func(s string) string { return strings.Replace(s, "strict = false", "strict = true", 1) })
	p.GiveTo(54321)
	other, err := net.ListenPacket("udp", fmt.Sprintf("127.0.0.1:%d", p.Port)) // root's own
	require.NoError(t, err)
	defer other.Close()
	r := p.Exits(exitFailed, "start")
	assert.Contains(t, r.Err, fmt.Sprintf("is held already by process %d, ", os.Getpid()))
	other.Close()
	p.OK("start")
}

// Players are told before the server stops, and given the notice.
func TestPlayersAreToldBeforeTheStop(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "[stop]", "[stop]\ntell = 'say the gates close'\nnotice = '700ms'", 1)
	})
	p.OK("start")
	r := p.OK("stop")
	assert.Contains(t, r.Err, "players were told: say the gates close")
	assert.Regexp(t, `(?s)to everybody: the gates close.*> close.*good night`, p.OK("log").Out)
	var ended float64
	_, err := fmt.Sscanf(r.Out[strings.Index(r.Out, "after")+6:], "%f", &ended)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, ended, 0.7, r.Out)
}

// A launch script that puts its server in the background is common: the server
// has no console then, and is still refitted and rolled back.
func TestServerInTheBackgroundIsRefittedToo(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[1], demo.Releases[2])
	p.Put("open-gates.sh", strings.Replace(p.Read("open-gates.sh"),
		"exec \"$JAVA\" $MEMORY -jar mossgate.jar --gardens gardens",
		"\"$JAVA\" $MEMORY -jar mossgate.jar --gardens gardens &", 1))
	p.EditProfile(func(s string) string { return strings.Replace(s, "wait = '5s'", "wait = '200ms'", 1) })
	p.OK("start")
	p.OK("refit", "3.5.0")
	assert.Equal(t, "3.5.0", p.Status().Version)
	before := p.Tree()
	p.Exits(exitRolledBack, "refit", "3.6.0")
	assert.Equal(t, before, p.Tree())
	st := p.Status()
	assert.True(t, st.Server.Running)
	assert.NotContains(t, st.Server.Processes, st.Server.PID, "the script itself has ended")
}
