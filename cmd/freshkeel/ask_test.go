//go:build linux

package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"freshkeel"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asks is what "launch --ask" tells: the words of what would start, and why nothing could be asked.
func (p *place) asks() (argv []string, folder string, why []string) {
	p.T.Helper()
	var said struct {
		Asked    []freshkeel.LaunchLine
		NotAsked []string `json:"not_asked"`
	}
	require.NoError(p.T, json.Unmarshal([]byte(p.OK("--json", "launch", "--ask").Out), &said))
	if len(said.Asked) == 0 {
		return nil, "", said.NotAsked
	}
	one := said.Asked[0]
	assert.Equal(p.T, "asked", one.Known)
	return append([]string{filepath.Base(one.Program)}, one.Args...), one.Folder, said.NotAsked
}

// A launch script that is run apart tells what it would start, whatever it makes its words of; the server does not run, and the
// install stays as it is.
func TestALaunchScriptIsAskedWhatItStarts(t *testing.T) {
	t.Parallel()
	p := scripted(t, "cd \"$(dirname \"$0\")/live\" || exit 1\necho was here > wrote\nsleep 600\n"+
		"until ping -c 1 pond.example; do break; done\nfor w in $(sed -n 2p ../words); do set -- \"$@\" \"$w\"; done\n"+
		"exec ../bin/pond --day \"$(date +%Y)\" \"$@\"\n")
	p.Put("words", "no\none two\n")
	p.Put("live/.keep", "")
	program, err := os.ReadFile("/usr/bin/touch")
	require.NoError(t, err)
	p.Put("bin/pond", string(program))
	p.Put("data/secret", "a secret")
	require.NoError(t, os.Chmod(filepath.Join(p.Install, "bin/pond"), 0o755))
	require.NoError(t, os.Chmod(filepath.Join(p.Install, "data/secret"), 0o600))
	before := p.Tree()
	argv, folder, why := p.asks()
	require.Len(t, argv, 5, "%v %v", argv, why)
	assert.Equal(t, []string{"pond", "--day"}, argv[:2])
	assert.Regexp(t, `^\d{4}$`, argv[2])
	assert.Equal(t, []string{"one", "two"}, argv[3:])
	assert.Equal(t, filepath.Join(p.Install, "live"), folder)
	assert.Equal(t, before, p.Tree(), "nothing of the server ran, and what the script wrote is thrown away")

	// One that starts nothing says how it ended; one that takes too long is ended.
	p.Put("run.sh", "#!/bin/sh\nexit 3\n")
	_, _, why = p.asks()
	require.Len(t, why, 1)
	assert.Contains(t, why[0], "it started no server: it ended with exit status 3")
	r := p.OK("launch", "--ask")
	assert.Contains(t, r.Out, "NOT ASKED  run.sh: it started no server")
}

// A wish is proven by what the script starts with its old and its new text: what reading can't know is written where that bears
// it out, and a wish that has no effect is taken back and told.
func TestAWishIsProvenByWhatTheScriptStarts(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("java"); err != nil {
		require.Empty(t, os.Getenv(envMustJava), "java is missing")
		t.Skip("no Java runtime")
	}
	p := scripted(t, "cd \"$(dirname \"$0\")\"\nDAY=$(date +%Y)\nexec java -Xmx64M $(sed -n 1p flags) -jar pond.jar $DAY\n")
	p.Put("flags", "\n")
	p.Put("pond.jar", "PK")
	p.OK("profile", "set", "launch.memory", "96M")
	p.OK("adopt", p.Install, "--version", "1.0")
	next := filepath.Join(p.Dir, "next")
	proving.Put(t, filepath.Join(next, "pond.jar"), "PK2")
	script := func() (edited bool, lacking string) {
		var pre struct {
			Findings []freshkeel.Finding
			Plan     struct {
				Texts map[string]string
				Edits []struct{ Path, New string }
			}
		}
		r := p.Run("--json", "preflight", "--from", next)
		require.NoError(t, json.Unmarshal([]byte(r.Out), &pre), r.Out)
		for _, f := range pre.Findings {
			if f.Level == freshkeel.Warn {
				lacking += oneSpace(f.What)
			}
		}
		for _, e := range pre.Plan.Edits {
			edited = edited || e.Path == "run.sh"
		}
		return edited, lacking
	}
	edited, lacking := script()
	assert.True(t, edited, lacking)
	assert.NotContains(t, lacking, "-Xmx96M")

	p.Put("flags", "-Xmx80M\n") // the last one counts, and stands where nobody edits
	edited, lacking = script()
	assert.False(t, edited)
	assert.Contains(t, lacking, "run apart, starts")
	assert.Contains(t, lacking, "-Xmx64M -Xmx80M")
}
