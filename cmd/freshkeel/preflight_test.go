//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"freshkeel"
	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// preflight runs the checks with --json and returns the findings by check.
func (p *place) preflight(code int, args ...string) map[string]freshkeel.Finding {
	p.T.Helper()
	var pre struct {
		Outcome  string
		Findings []freshkeel.Finding
	}
	r := p.Exits(code, append([]string{"--json", "preflight"}, args...)...)
	require.NoError(p.T, json.Unmarshal([]byte(r.Out), &pre), r.Out)
	require.Equal(p.T, map[int]string{exitDone: "clear", exitRefused: "stopped"}[code], pre.Outcome)
	out := map[string]freshkeel.Finding{}
	for _, f := range pre.Findings {
		if old, ok := out[f.Check]; !ok || old.Level == freshkeel.OK {
			out[f.Check] = f
		}
	}
	return out
}

// republish has the makers publish 3.5.0 anew, changed.
func (p *place) republish(change func(*demo.Release)) {
	r := demo.Releases[1]
	change(&r)
	require.NoError(p.T, p.Harbour.Publish([]demo.Release{demo.Releases[0], r}))
}

// P6 and P8: what can be known to fail is refused while the old server runs,
// with what, where, why and what to do; and refit refuses it too.
func TestWhatCanBeKnownToFailIsRefusedWhileTheOldServerRuns(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		spoil func(p *place)
		args  []string
		check string
		level freshkeel.Level
		parts []string // in what, where, why, do
	}{
		"runtime too old": {nil, []string{"4.0.0"}, "runtime", freshkeel.Stop,
			[]string{"mossgate.jar needs Java 33, the launch script runs Java 17", "open-gates.sh:6: exec",
				"class file version 77; this runtime reads up to 61",
				"freshkeel runtimes take --for 4.0.0, which fetches the Java 33.0.1 that its makers name"}},
		"runtime not there": {func(p *place) {
			p.Put("open-gates.sh", strings.Replace(p.Read("open-gates.sh"), "runtimes/17", "runtimes/18", 1))
		}, nil, "runtime", freshkeel.Stop,
			[]string{"runtimes/18/bin/java is not found", "open-gates.sh:6", "release 17 or newer",
				"let open-gates.sh run "}},
		"the feed asks for more": {func(p *place) {
			p.editFeed(func(b map[string]any) { b["needs"] = map[string]any{"java": ">=19 <20"} })
		}, []string{"3.5.0"}, "runtime", freshkeel.Stop,
			[]string{"mossgate.jar needs Java >=19 <20, the launch script runs Java 17", "open-gates.sh:6",
				"the feed says so of this build; its class files alone would do with 17",
				"of version >=19 <20 (none is here)"}},
		"for trial only": {func(p *place) { p.republish(func(r *demo.Release) { r.Trial = true }) }, []string{"3.5.0"},
			"runtime", freshkeel.Stop,
			[]string{"uses what Java 17 has for trial only", "open-gates.sh:6",
				"mossgate/Gatehouse.class is a preview class file", "add --enable-preview"}},
		"for trial of another release": {func(p *place) {
			p.republish(func(r *demo.Release) {
				r.Trial, r.Java = true,
					16
			})
		}, []string{"3.5.0"}, "runtime", freshkeel.Stop,
			[]string{"needs exactly Java 16, the launch script runs Java 17", "open-gates.sh:6",
				"which that release alone reads", "release 16 exactly"}},
		"an agent that is not there": {func(p *place) {
			p.republish(func(r *demo.Release) { r.Manifest = "Launcher-Agent-Class: mossgate.Watch\r\n" })
		}, []string{"3.5.0"}, "runtime", freshkeel.Stop,
			[]string{"names the agent mossgate.Watch, and it does not hold it", "open-gates.sh:6", "refuse it, too",
				"ask the makers"}},
		"a class path that is not there": {func(p *place) {
			p.republish(func(r *demo.Release) { r.Manifest = "Class-Path: lib/lanterns.txt lib/slime.jar tracks/\r\n" })
		}, []string{"3.5.0"}, "runtime", freshkeel.Warn,
			[]string{"names 1 file beside it that will not exist: lib/slime.jar", "Class-Path of META-INF/MANIFEST.MF",
				"when it first needs it", "ask the makers"}},
		"name not there": {func(p *place) {
			p.EditProfile(func(s string) string { return strings.Replace(s, "'mossgate-server-*.jar' = ", "# ", 1) })
			p.Put("open-gates.sh", strings.ReplaceAll(p.Read("open-gates.sh"), "mossgate.jar", "gates.jar"))
		}, nil, "names", freshkeel.Stop,
			[]string{"gates.jar will not exist after the swap", "open-gates.sh:6", "runs it by this name",
				`profile set 'place.mossgate-server-*.jar' gates.jar`}},
		"pattern of no use": {func(p *place) {
			p.EditProfile(func(s string) string {
				return strings.Replace(s, "[place] ", "[place]\n'snail-*.bin' = 'snail.bin'\n# ", 1)
			})
		}, nil, "names", freshkeel.Warn,
			[]string{`'snail-*.bin' matches no file`, "freshkeel.toml", "rename files", "change the pattern"}},
		"step back": {nil, []string{"3.4.0"}, "direction", freshkeel.Stop,
			[]string{"3.4.0 is older than the installed 3.4.1", "feed.json", "can't read a world", "--back"}},
		"changed by both": {func(p *place) { p.Put("tracks/dew-loop.track", "my own bend") }, nil, "drift",
			freshkeel.Stop,
			[]string{"1 file was changed here, and the new build changes it too", "tracks/dew-loop.track",
				"lose what was changed", "--accept drift"}},
		"in the way": {func(p *place) {
			require.NoError(p.T, os.Mkdir(filepath.Join(p.Install, "lib"), 0o755))
			p.Put("lib/lanterns.txt/x", "")
		}, nil, "paths", freshkeel.Stop,
			[]string{"lib/lanterns.txt can't be exchanged", "lib/lanterns.txt", "the install has a folder",
				"give it another name: mv "}},
		"behind a link": {func(p *place) {
			require.NoError(p.T, os.Rename(filepath.Join(p.Install, "tracks"), filepath.Join(p.Dir, "tracks")))
			require.NoError(p.T, os.Symlink("../tracks", filepath.Join(p.Install, "tracks")))
		}, nil, "paths", freshkeel.Stop, []string{"can't be exchanged", "tracks/", "is a link to ../tracks", "keep"}},
		"world behind a link": {func(p *place) {
			require.NoError(p.T, os.Rename(filepath.Join(p.Install, "gardens"), filepath.Join(p.Dir, "gardens")))
			require.NoError(p.T, os.Symlink("../gardens", filepath.Join(p.Install, "gardens")))
		}, nil, "links", freshkeel.Warn,
			[]string{"gardens is a link to ../gardens, outside the install", "gardens",
				"neither backed up nor put back", "back it up yourself"}},
		"a folder of links": {func(p *place) {
			for _, name := range []string{"oak", "elm", "ash", "yew"} {
				p.Put("letters/"+name, "")
				require.NoError(p.T, os.Remove(filepath.Join(p.Install, "letters", name)))
				require.NoError(p.T, os.Symlink("/usr/share/"+name, filepath.Join(p.Install, "letters", name)))
			}
		}, nil, "links", freshkeel.Warn,
			[]string{"4 links in letters lead outside the install: ash to /usr/share/ash, elm to", "letters",
				"neither backed up nor put back", "back it up yourself"}},
		"no launch script": {func(p *place) {
			p.EditProfile(func(s string) string {
				return strings.Replace(s, "script = 'open-gates.sh'",
					"script = 'open.sh'", 1)
			})
		}, nil, "launch", freshkeel.Stop,
			[]string{"open.sh will not exist", "open.sh", "starts the server", "[launch] script"}},
		"windows line ends": {func(p *place) {
			p.Put("open-gates.sh", strings.ReplaceAll(p.Read("open-gates.sh"), "\n", "\r\n"))
		}, nil, "scripts", freshkeel.Stop,
			[]string{"has Windows line ends", "open-gates.sh:1", "carriage return", "sed -i"}},
		"no way to know": {func(p *place) {
			p.EditProfile(func(s string) string {
				s = strings.Replace(s, "line = '^gates", "# '^gates", 1)
				return strings.Replace(s, "ports = ['udp", "# 'udp", 1)
			})
			require.NoError(p.T, os.Remove(filepath.Join(p.Install, ".freshkeel/seen.json")))
		}, nil, "ready", freshkeel.Warn, []string{"no ready line and no port", "[ready]", "hangs", "adopt"}},
		"port taken": {func(p *place) {
			port := proving.FreePort(p.T)
			c, err := net.ListenPacket("udp", fmt.Sprintf("127.0.0.1:%d", port))
			require.NoError(p.T, err)
			p.T.Cleanup(func() { c.Close() })
			p.EditProfile(func(s string) string {
				s = strings.Replace(s, "strict = false", "strict = true", 1)
				return strings.Replace(s, fmt.Sprintf("'udp/%d'", p.Port), fmt.Sprintf("'udp/%d'", port), 1)
			})
		}, nil, "port", freshkeel.Stop, []string{"is held by another process", fmt.Sprintf("process %d, ", os.Getpid()),
			"could not bind", "stop that process"}},
		"started outside": {func(p *place) {
			p.Put("other.sh", "sleep 60; exit\n")
			p.Outside("other.sh")
		}, nil, "processes", freshkeel.Stop,
			[]string{"was not started by Fresh Keel", "other.sh", "two servers on one world",
				"stop it at its own console"}},
		"more memory than there is": {func(p *place) {
			p.Put("open-gates.sh", strings.Replace(p.Read("open-gates.sh"), "-Xmx256M", "-Xmx9000g", 1))
		}, []string{"3.5.0"}, "memory", freshkeel.Warn,
			[]string{"-Xmx9000g asks for more memory than there is", "open-gates.sh:6", "ended by the system",
				"give it less than"}},
		"it begins with more than it may have": {func(p *place) {
			p.Put("open-gates.sh", strings.Replace(p.Read("open-gates.sh"), "-Xms64M", "-Xms512M", 1))
		}, []string{"3.5.0"}, "memory", freshkeel.Stop,
			[]string{"-Xms512M begins with more memory than -Xmx256M allows", "open-gates.sh:6", "refuses to start",
				"-Xmx256M or smaller"}},
		"another script that disagrees": {func(p *place) {
			p.Put("start.sh", "#!/bin/sh\n../runtimes/17/bin/java -Xmx512M -jar mossgate-3.4.jar\n")
		}, []string{"3.5.0"}, "others", freshkeel.Warn,
			[]string{"open-gates.sh and start.sh disagree: open-gates.sh runs mossgate.jar, start.sh runs mossgate-3.4.jar, which will not exist; -Xmx256M and -Xmx512M",
				"start.sh:2: ../runtimes/17", "another server than this", "make start.sh say the same"}},
		"a batch script that disagrees": {func(p *place) {
			p.Put("start.bat", "@echo off\r\nset JAR=mossgate-3.4.jar\r\njava -Xms64M -Xmx256M -jar %JAR%\r\npause\r\n")
		}, []string{"3.5.0"}, "others", freshkeel.Warn,
			[]string{"open-gates.sh and start.bat disagree: open-gates.sh runs mossgate.jar, start.bat runs mossgate-3.4.jar", "start.bat:3: java", "another server", "start.bat"}},
		"a script that may not be run": {func(p *place) {
			p.Put("inner.sh", p.Read("open-gates.sh"))
			require.NoError(p.T, os.Chmod(filepath.Join(p.Install, "inner.sh"), 0o644))
			p.Put("open-gates.sh", "#!/bin/sh\n./inner.sh\n")
		}, []string{"3.5.0"}, "scripts", freshkeel.Stop,
			[]string{"inner.sh may not be run: it has no execute bit", "open-gates.sh:2: ./inner.sh",
				"permission denied", "chmod +x "}},
		"an interpreter that is not here": {func(p *place) {
			p.Put("inner.sh", strings.Replace(p.Read("open-gates.sh"), "#!/bin/sh", "#!/usr/bin/env fenshell", 1))
			require.NoError(p.T, os.Chmod(filepath.Join(p.Install, "inner.sh"), 0o755))
			p.Put("open-gates.sh", "#!/bin/sh\n./inner.sh\n")
		}, []string{"3.5.0"}, "scripts", freshkeel.Stop,
			[]string{"inner.sh is run by fenshell, which is not here", "inner.sh:1: #!/usr/bin/env fenshell",
				"not found", "install fenshell"}},
		"a runtime that the script does not run": {func(p *place) {
			p.editFeed(func(b map[string]any) { b["needs"] = map[string]any{"java": ">=17", "node": ">=20"} })
		}, []string{"3.5.0"}, "needs", freshkeel.Warn,
			[]string{"3.5.0 needs node >=20, and the launch script runs none", "feed.json", "can't be looked at",
				"by hand"}},
		"consent asked for": {func(p *place) {
			p.Put("consent.txt", "# Snails race at their own risk.\n\nagreed = no\n")
		}, []string{"3.5.0"}, "consent", freshkeel.Stop,
			[]string{"consent.txt asks for your consent, and says «agreed = no»",
				"consent.txt:3\nSnails race at their own risk.", "until that line says otherwise",
				"--consent consent.txt"}},
		"a file open elsewhere": {func(p *place) {
			f, err := os.Open(filepath.Join(p.Install, "mossgate.jar"))
			require.NoError(p.T, err)
			p.T.Cleanup(func() { f.Close() })
			cmd := exec.Command("sleep", "60")
			cmd.Stdin = f
			require.NoError(p.T, cmd.Start())
			p.T.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
		}, []string{"3.5.0"}, "open", freshkeel.Warn,
			[]string{"has 1 file open: mossgate.jar", "user ", "goes on with the file that was there", "let it end"}},
		"few files may be open": {func(p *place) {
			p.Shell = "ulimit -n 300 && "
		}, []string{"3.5.0"}, "limits", freshkeel.Warn,
			[]string{"may have 300 files open, which is few", "ulimit -n", "lose what they can't write",
				"ulimit -n 4096 before freshkeel"}},
		"another user's file": {func(p *place) {
			if os.Geteuid() != 0 {
				p.T.Skip("needs another user to be")
			}
			require.NoError(p.T, os.Chown(filepath.Join(p.Install, "gardens/fen-west.garden"), 65534, 65534))
		}, []string{"3.5.0"}, "strangers", freshkeel.Warn,
			[]string{"1 path is not the install's owner's: gardens/fen-west.garden", "mossgate-east",
				"can't write to them", "chown -R 0:0"}},
		"an immutable file": {func(p *place) {
			jar := filepath.Join(p.Install, "mossgate.jar")
			if err := exec.Command("chattr", "+i", jar).Run(); err != nil {
				p.T.Skip("nobody may set that here")
			}
			p.T.Cleanup(func() { exec.Command("chattr", "-i", jar).Run() })
		}, []string{"3.5.0"}, "frozen", freshkeel.Stop,
			[]string{"mossgate.jar is immutable", "mossgate.jar", "lets nobody exchange it", "chattr -ia "}},
		"a log folder that is another's": {func(p *place) {
			p.GiveTo(65534)
			require.NoError(p.T, os.Chown(filepath.Join(p.Install, "logs"), 0, 0))
		}, []string{"3.5.0"}, "logs", freshkeel.Warn,
			[]string{"the server can't write to ", "mossgate-east/logs", "end when they can't write their log",
				"chown the folder"}},
		"open to everybody": {func(p *place) {
			require.NoError(p.T, os.Chmod(filepath.Join(p.Install, "tracks"), 0o777))
		}, []string{"3.5.0"}, "everybody", freshkeel.Warn,
			[]string{"everybody on this machine may write to 1 path: tracks", "mossgate-east", "as the server's user",
				"chmod -R o-w "}},
		"a clock that is behind": {func(p *place) {
			p.editFeed(func(b map[string]any) { b["date"] = "2199-01-01" })
		}, []string{"3.5.0"}, "clock", freshkeel.Warn,
			[]string{"this machine's clock says ", "feed.json", "certificates", "set the clock"}},
		"build not known": {func(p *place) {
			require.NoError(p.T, os.Remove(filepath.Join(p.Install, ".freshkeel/inventory.json")))
		}, nil, "removals", freshkeel.Warn,
			[]string{"none will be removed", "inventory.json", "left-over files", "adopt --build"}},
	} {
		if !proving.TodayNamed(name) {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			older := demo.Releases[0]
			older.Version = "3.4.0"
			p := mossgate(t, demo.Releases[0], older, demo.Releases[1], demo.Releases[4])
			// The feed lists newest last; the installed build was made first.
			require.NoError(t, p.Harbour.Publish([]demo.Release{older, demo.Releases[0], demo.Releases[1],
				demo.Releases[4]}))
			p.OK("start")
			pid := p.Status().Server.PID
			if c.spoil != nil {
				c.spoil(p)
			}
			before := p.Tree()
			args := c.args
			if args == nil {
				args = []string{"3.5.0"}
			}
			code := map[freshkeel.Level]int{freshkeel.Stop: exitRefused, freshkeel.Warn: exitDone}[c.level]
			f := p.preflight(code, args...)[c.check]
			assert.Equal(t, c.level, f.Level, "%+v", f)
			for i, text := range []string{f.What, f.Where, f.Why, f.Do} {
				assert.Contains(t, text, c.parts[i])
			}
			if c.level == freshkeel.Stop {
				r := p.Exits(exitRefused, append([]string{"refit"}, args...)...)
				assert.True(t, strings.HasPrefix(r.Out, "REFUSED"), r.Out)
				assert.Contains(t, strings.Join(strings.Fields(r.Out), " "), c.parts[0])
			}
			assert.Equal(t, before, p.Tree(), "changes nothing")
			assert.Equal(t, pid, p.Status().Server.PID, "the server never noticed")
			assert.Empty(t, p.Entries())
		})
	}
}

func TestReadOnlyFolderIsFoundBeforeAnythingStops(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("needs another user to be")
	}
	p := mossgate(t)
	ro := filepath.Join(p.Install, "tracks")
	if out, err := exec.Command("mount", "--bind", "-o", "ro", ro, ro).CombinedOutput(); err != nil {
		t.Skipf("this machine lets nobody mount: %s", out)
	}
	t.Cleanup(func() { exec.Command("umount", "-l", ro).Run() })
	if out, err := exec.Command("mount", "-o", "remount,ro,bind", ro).CombinedOutput(); err != nil {
		t.Skipf("this machine lets nobody mount: %s", out)
	}
	f := p.preflight(exitRefused, "3.5.0")["writable"]
	assert.Contains(t, f.What, "tracks can't be written to: read-only file system")
}

// mounted lays a small file system over a folder, where the machine lets tests
// do that.
func (p *place) mounted(at, options string) {
	p.T.Helper()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", options, "tmpfs", at).CombinedOutput(); err != nil {
		p.T.Skipf("this machine lets nobody mount: %s", out)
	}
	p.T.Cleanup(func() { exec.Command("umount", "-l", at).Run() })
}

func TestAFileSystemWithoutRoomIsFoundBeforeAnythingStops(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("start")
	pid := p.Status().Server.PID
	p.editFeed(func(b map[string]any) {
		if b["version"] == "3.7.0-pre1" {
			b["parts"].([]any)[0].(map[string]any)["size"] = 1 << 50
		}
	})
	assert.Regexp(t, `the download needs 1\.0 PiB, and .*incoming has .* free\ntry: free space there`,
		p.Exits(exitFailed, "refit", "3.7.0-pre1").Err)
	p.mounted(filepath.Join(p.Install, "logs"), "size=1m")
	p.parts(p.preflight(exitDone, "3.5.0")["logs"], freshkeel.Warn, "logs is on a file system with 1.0 MiB and ",
		"mossgate-east/logs", "may end, or lose", "old logs first")
	p.mounted(p.Home, "nr_inodes=70")
	p.parts(p.preflight(exitRefused, "3.5.0")["disk"], freshkeel.Stop, " inodes needed, ", "home/locker",
		"whatever their size", "old logs and caches first")
	p.Exits(exitRefused, "refit", "3.5.0")
	p.mounted(p.Home, "size=2m")
	p.parts(p.preflight(exitRefused, "3.5.0")["disk"], freshkeel.Stop, " needed, 1.", "home/locker",
		"for the backup (at most)", "free space there")
	assert.Equal(t, pid, p.Status().Server.PID, "the server was never stopped")
}

func TestAcceptedCheckIsGonePastAndRecorded(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.Put("tracks/dew-loop.track", "my own bend")
	assert.Contains(t, p.Exits(exitUsage, "refit", "3.5.0", "--accept", "port").Err, `check "port" can't be accepted`)
	p.OK("refit", "3.5.0", "--accept", "drift")
	assert.Contains(t, p.Read("tracks/dew-loop.track"), "surveyed for 3.5.0")
	e := p.LastEntry()
	assert.Equal(t, []string{"drift"}, e.Accepted)
	kept, err := os.ReadFile(filepath.Join(p.Install, ".freshkeel/refits", e.ID, "displaced/tracks/dew-loop.track"))
	require.NoError(t, err)
	assert.Equal(t, "my own bend", string(kept))
}

// A build file that the operator changed and the maker did not stays changed.
func TestOperatorsChangeToAnUnchangedBuildFileStays(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.Put("tracks/fern-mile.track", "shorter, since the storm")
	p.Put("tracks/old-mill.track", "mine now")
	p.OK("refit", "3.5.0")
	assert.Equal(t, "shorter, since the storm", p.Read("tracks/fern-mile.track"))
	assert.Equal(t, "mine now", p.Read("tracks/old-mill.track"), "not removed with the build's")
	p.OK("rollback")
	assert.Equal(t, "shorter, since the storm", p.Read("tracks/fern-mile.track"))
}
