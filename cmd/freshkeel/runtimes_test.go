//go:build unix

package main

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"freshkeel"
	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What runtimes are here: which fit what is installed or is to come, which one
// the script really runs and by which line, which one to take and why.
func TestRuntimesAreHeldAgainstWhatTheScriptRuns(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	for _, r := range []string{"29.0.1", "32.0.2", "33.0.1", "33.0.4", "34.0.1"} {
		proving.Put(t, filepath.Join(p.Dir, "more", r, "release"),
			fmt.Sprintf("JAVA_VERSION=%q\nIMPLEMENTOR=\"Lower Fen\"\nOS_ARCH=\"x86_64\"\n", r))
		proving.Put(t, filepath.Join(p.Dir, "more", r, "bin", "java"), "#!/bin/sh\n")
		require.NoError(t, os.Chmod(filepath.Join(p.Dir, "more", r, "bin", "java"), 0o755))
	}
	proving.Put(t, filepath.Join(p.Dir, "more", "mute", "bin", "java"), "#!/bin/sh\nexit 1\n")
	require.NoError(t, os.Chmod(filepath.Join(p.Dir, "more", "mute", "bin", "java"), 0o755))
	p.EditProfile(func(s string) string {
		return s + "\n[runtime]\nsearch = ['" + filepath.Join(p.Dir, "more") + "/*']\n"
	})
	ask := func(args ...string) (r freshkeel.Runtimes, by map[string]freshkeel.Runtime) {
		require.NoError(t, json.Unmarshal([]byte(p.OK(append([]string{"--json", "runtimes"}, args...)...).Out), &r))
		by = map[string]freshkeel.Runtime{}
		for _, rt := range r.All {
			if strings.HasPrefix(rt.Path, p.Dir) { // the machine has others
				by[filepath.Base(rt.Home)] = rt
			}
		}
		return r, by
	}
	r, by := ask()
	assert.Equal(t, []string{"3.4.1", "mossgate.jar", "Java 17"}, []string{r.For, r.Runs, r.Need})
	assert.Contains(t, r.Where, "open-gates.sh:6: exec \"$JAVA\"")
	assert.True(t, by["17"].Fits)
	assert.Equal(t, "open-gates.sh:6", by["17"].Used)
	assert.False(t, slices.ContainsFunc(r.All, func(rt freshkeel.Runtime) bool { return rt.Best }),
		"what fits needs no other")
	assert.Contains(t, by["mute"].Broken, "does not say its version")
	assert.Equal(t, []string{"Lower Fen", "x86_64"}, []string{by["33.0.1"].Vendor, by["33.0.1"].Arch})
	assert.Contains(t, p.OK("runtimes").Out,
		"FITS  mossgate.jar of 3.4.1 needs Java 17, the launch script runs Java 17.0.9")

	r, by = ask("4.0.0")
	assert.Equal(t, "Java 33", r.Need)
	assert.Equal(t, "too old", by["32.0.2"].Why)
	assert.True(t, by["33.0.4"].Best, "the lowest long-term release that will do, and of that the newest")
	assert.Equal(t, "the lowest long-term release here that will do", by["33.0.4"].Why)
	out := p.OK("runtimes", "4.0.0").Out
	assert.Contains(t, out, "DOES NOT FIT  mossgate.jar of 4.0.0 needs Java 33, the launch script runs Java 17.0.9")
	flat := func(s string) string { return strings.Join(strings.Fields(s), " ") } // a long path has a row of its own
	assert.Contains(t, flat(out), "to run "+filepath.Join(p.Dir, "more/33.0.4/bin/java"))
	assert.Contains(t, p.preflight(exitDone, "4.0.0")["runtime"].What,
		"line 6 of open-gates.sh is changed: it will run Java 33.0.4", "preflight takes the same one")

	p.editFeed(func(b map[string]any) {
		if b["version"] == "4.0.0" {
			b["needs"] = map[string]any{"java": ">=34"}
		}
	})
	_, by = ask("4.0.0")
	assert.True(t, by["34.0.1"].Best, "the build's own word first")
	assert.Equal(t, "not in >=34", by["33.0.4"].Why)

	p.Put("open-gates.sh", strings.Replace(p.Read("open-gates.sh"), "runtimes/17", "runtimes/18", 1))
	assert.Contains(t, p.OK("runtimes").Out,
		"NOT THERE  mossgate.jar of 3.4.1 needs Java 17, and ../runtimes/18/bin/java, which the launch script runs, is not there")
}

// Where a runtime that fits is here, the launch script's one word is changed
// with the build, shown before, and put back with it.
func TestTheLaunchScriptIsEditedForTheBuildAndPutBackWithIt(t *testing.T) {
	t.Parallel()
	releases := append(slices.Clone(demo.Releases[:1]), demo.Releases[4],
		demo.Release{Version: "4.1.0", Channel: "stable", Behaviour: demo.Dies, Java: 33})
	p := mossgate(t, releases...)
	home := filepath.Join(p.Dir, "more", "33")
	proving.Put(t, filepath.Join(home, "release"), "JAVA_VERSION=\"33.0.1\"\n")
	proving.Put(t, filepath.Join(home, "bin", "java"), "#!/bin/sh\nexec '"+p.Harbour.Program+
		"' simulated-runtime 33.0.1 \"$@\"\n")
	require.NoError(t, os.Chmod(filepath.Join(home, "bin", "java"), 0o755))
	p.EditProfile(func(s string) string { return s + "\n[runtime]\nsearch = ['" + home + "']\n" })
	script := p.Read("open-gates.sh")
	p.OK("start")
	before := p.Tree()

	f := p.preflight(exitDone, "4.0.0")["runtime"]
	assert.Equal(t, freshkeel.Warn, f.Level)
	assert.Contains(t, f.What, "line 6 of open-gates.sh is changed: it will run Java 33.0.1")
	assert.Equal(t, "open-gates.sh:6\n- exec \"$JAVA\" $MEMORY -jar mossgate.jar --gardens gardens\n+ exec "+home+
		"/bin/java $MEMORY -jar mossgate.jar --gardens gardens", f.Where)
	assert.Contains(t, f.Why, "mossgate.jar needs Java 33; it ran Java 17.0.9")
	assert.Equal(t, script, p.Read("open-gates.sh"), "a preflight changes nothing")

	p.OK("refit", "4.0.0")
	assert.Equal(t, strings.Replace(script, `"$JAVA" $MEM`, home+"/bin/java $MEM", 1), p.Read("open-gates.sh"),
		"that one word, and nothing else")
	fi, err := os.Stat(filepath.Join(p.Install, "open-gates.sh"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o755, fi.Mode().Perm())
	assert.Equal(t, "4.0.0", p.Status().Version)
	p.OK("rollback")
	assert.Equal(t, before, p.Tree())
	assert.True(t, p.Status().Server.Running)

	p.Exits(exitRolledBack, "refit", "4.1.0")
	assert.Equal(t, before, p.Tree(), "what fails takes the edit back with it")

	// A word that can't be told is left to hands.
	p.Put("open-gates.sh", strings.Replace(script, "exec \"$JAVA\" $MEMORY", "RUN=\"$JAVA $MEMORY\"\nexec $RUN", 1))
	f = p.preflight(exitRefused, "4.0.0")["runtime"]
	assert.Contains(t, f.Do, "let open-gates.sh run "+home+"/bin/java")
}

// A runtime is taken in without touching the system's, makes the refit that
// needs it go through, and goes when no server runs it.
func TestARuntimeIsTakenInUsedAndDropped(t *testing.T) {
	t.Parallel()
	p := mossgate(t, append(slices.Clone(demo.Releases[:2]), demo.Releases[4])...)
	archive := filepath.Join(p.Harbour.Builds, "runtimes", demo.RuntimeArchive("33.0.1"))
	b, err := os.ReadFile(archive)
	require.NoError(t, err)
	own := func() (out []string) {
		list, err := os.ReadDir(filepath.Join(p.Home, "runtimes"))
		if err == nil {
			for _, d := range list {
				if d.IsDir() {
					out = append(out, d.Name())
				}
			}
		}
		return
	}
	f := p.preflight(exitRefused, "4.0.0")["runtime"]
	assert.Contains(t, f.Do, "freshkeel runtimes take --for 4.0.0")

	// What is no runtime, or none for here, is not taken in.
	writeZip(t, filepath.Join(p.Dir, "empty.zip"), map[string]string{"readme": "x"})
	writeZip(t, filepath.Join(p.Dir, "ill.zip"),
		map[string]string{"j/bin/java": "#!/bin/sh\necho 'no such processor' >&2\nexit 1\n",
			"j/release": "JAVA_VERSION=\"40\"\n"})
	writeZip(t, filepath.Join(p.Dir, "evil.zip"), map[string]string{"../../bin/java": "#!/bin/sh\n"})
	for args, says := range map[string]string{
		"empty.zip": "it holds no bin/java: it is no Java runtime",
		"ill.zip":   "it does not start on this machine: exit status 1: no such processor",
		"evil.zip":  "the archive is refused whole", "nothing.zip": "no such file",
	} {
		r := p.Exits(exitFailed, "runtimes", "take", filepath.Join(p.Dir, args))
		assert.Contains(t, r.Err, says, args)
		assert.Empty(t, own(), args)
	}
	r := p.Exits(exitFailed, "runtimes", "take", archive, "--digest", "sha256:"+strings.Repeat("00", 32))
	assert.Contains(t, r.Err, "its sha256 is ")
	p.Exits(exitUsage, "runtimes", "take", archive, "--digest", "crc:00")
	assert.Empty(t, own())

	// What the feed names with a build is fetched by its digest.
	p.editFeed(func(b map[string]any) {
		if rt, ok := b["runtimes"].([]any); ok {
			rt[0].(map[string]any)["digests"].(map[string]any)["sha256"] = strings.Repeat("11", 32)
		}
	})
	assert.Contains(t, p.Exits(exitFailed, "runtimes", "take", "--for", "4.0.0").Err, "its sha256 is ")
	assert.Contains(t, p.Exits(exitFailed, "runtimes", "take", "--for", "3.5.0").Err,
		"names no runtime of this machine for 3.5.0")
	p.Exits(exitUsage, "runtimes", "take", archive, "--for", "4.0.0")
	assert.Empty(t, own())
	require.NoError(t, p.Harbour.Publish(append(slices.Clone(demo.Releases[:2]), demo.Releases[4])))
	assert.Contains(t, p.OK("runtimes", "take", "--for", "4.0.0").Out, "TAKEN IN  Java 33.0.1")
	p.OK("runtimes", "drop", "33.0.1")

	r = p.OK("runtimes", "take", archive, "--digest", fmt.Sprintf("sha256:%x", sha256.Sum256(b)))
	assert.Contains(t, r.Out, "TAKEN IN  Java 33.0.1")
	assert.Equal(t, []string{"java-33.0.1"}, own())
	assert.Contains(t, p.OK("runtimes", "take", archive).Out, "TAKEN IN BEFORE  Java 33.0.1")
	assert.Contains(t, p.OK("runtimes", "4.0.0").Out, "recommended: the lowest long-term release here that will do")

	script := p.Read("open-gates.sh")
	p.OK("start")
	r = p.OK("refit", "4.0.0")
	assert.Contains(t, r.Out, "REFITTED  3.4.1 → 4.0.0 and runs")
	assert.Contains(t, p.Read("open-gates.sh"), "exec "+p.Home+"/runtimes/java-33.0.1/bin/java $MEMORY")
	r = p.Exits(exitFailed, "runtimes", "drop", "33.0.1")
	assert.Contains(t, r.Err, "java-33.0.1 is in use: "+filepath.Join(p.Install, "open-gates.sh")+", line 6 runs it")
	assert.Regexp(t, `runtime +java-33.0.1, [\s\S]*open-gates.sh, line\s+6\s+runs\s+it`, p.OK("builds", "--kept").Out)
	p.OK("rollback")
	assert.Equal(t, script, p.Read("open-gates.sh"))
	// The backup that the rollback took runs it: to go forward again needs it.
	assert.Contains(t, p.Exits(exitFailed, "runtimes", "drop", "java-33.0.1").Err, "runs it in 1 backup: b0002")
	assert.Contains(t, p.OK("runtimes", "drop", "java-33.0.1", "--anyway").Out, "DROPPED")
	assert.Empty(t, own())
	assert.Contains(t, p.Exits(exitUsage, "runtimes", "drop", "33.0.1").Err, `no runtime "33.0.1" was taken in`)
}
