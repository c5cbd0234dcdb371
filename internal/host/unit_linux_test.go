package host

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestUnitGroupsAreReadFromEitherHierarchy(t *testing.T) {
	for text, want := range map[string]string{
		"0::/system.slice/pond.service\n": "/system.slice/pond.service",
		"12:cpu:/\n1:name=systemd:/user.slice/user-7.slice/user@7.service/app.slice/pond.service\n0::/\n": "/user.slice/user-7.slice/user@7.service/app.slice/pond.service",
		"0::/user.slice/user-0.slice/session-3.scope\n":                                                   "",
		"0::/../x.service\n": "", "": "", "0:/x.service": "",
	} {
		assert.Equal(t, want, unitGroup(text), text)
	}
}

// What the manager says of a unit is read as systemd.service(5) and systemd.exec(5) mean it.
func TestAUnitIsReadAsItsManagerMeansIt(t *testing.T) {
	line := func(path string, argv ...string) []any { return []any{path, argv, false} }
	u := unitFrom("pond.service", false, map[string]any{"LoadState": "loaded", "ActiveState": "active",
		"MainPID": uint32(7), "NRestarts": uint32(2), "WorkingDirectory": "!/srv/pond", "User": "pond",
		"ExecStart":        [][]any{line("/usr/bin/java", "/usr/bin/java", "-Xmx${MEM}", "-jar", "pond.jar")},
		"ExecStartEx":      [][]any{{"/usr/bin/java", []string{"/usr/bin/java"}, []string{"ignore-failure"}}},
		"EnvironmentFiles": [][]any{{"/etc/default/pond", true}}, "StandardOutput": "append",
		"LimitNOFILESoft": uint64(300), "MemoryMax": ^uint64(0), "InvocationID": []byte{0xab, 1},
		"Job": []any{uint32(0), "/"}})
	assert.True(t, u.Known)
	assert.Equal(t, "/srv/pond", u.Dir)
	assert.Equal(t, [][]string{{"/usr/bin/java", "-Xmx${MEM}", "-jar", "pond.jar"}}, u.Lines)
	assert.True(t, u.Lenient)
	assert.Empty(t, u.Odd)
	assert.Equal(t, []string{"/etc/default/pond"}, u.EnvFiles)
	assert.True(t, u.Unheard())
	assert.Equal(t, []int{300, 0, 7, 2}, []int{u.Files, int(u.Memory), u.Main, u.Restarts})
	assert.Equal(t, "ab01", u.Runs)
	assert.False(t, u.Job)
	for odd, p := range map[string]map[string]any{
		"rules of its own: privileged": {"ExecStart": [][]any{line("/a", "/a")},
			"ExecStartEx": [][]any{{"/a", []string{"/a"}, []string{"privileged"}}}},
		"told another name": {"ExecStart": [][]any{line("/a", "b")}},
		"runs 2 lines":      {"ExecStart": [][]any{line("/a", "/a"), line("/b", "/b")}},
		"runs 0 lines":      {},
	} {
		assert.Contains(t, unitFrom("x.service", false, p).Odd, odd)
	}
	home := unitFrom("x.service", false, map[string]any{"WorkingDirectory": "~"})
	assert.Equal(t, "/root", home.Dir)
	gone := unitFrom("x.service", false, map[string]any{"LoadState": "not-found",
		"LoadError": []any{"a.b", "Unit x.service not found."}})
	assert.False(t, gone.Known)
	assert.Equal(t, "it is not-found: Unit x.service not found.", gone.Why)
}

// A drop-in is read back as it was written, whatever its words hold; one that somebody changed is
// not ours.
func TestADropInIsReadBack(t *testing.T) {
	for _, words := range [][]string{{"/usr/bin/java", "-Xmx4G"}, {"/a b", "%h", "$$X", "${Y}", `"`, "'", "\n", "\\", ";", ""}} {
		for _, lenient := range []bool{true, false} {
			text := dropIn(words, lenient, "-/x \"y\"\nz")
			back, base, ours := readDropIn(text)
			assert.True(t, ours)
			assert.Equal(t, words, back)
			assert.Equal(t, "-/x \"y\"\nz", base)
			for _, more := range []string{text + "Nice=5\n", strings.Replace(text, "ExecStart=\n", "", 1), "#\n" + text, ""} {
				_, _, ours := readDropIn(more)
				assert.False(t, ours, more)
			}
			assert.NotContains(t, text, "\nz")
		}
	}
	assert.Equal(t, "/b   -c ; /d", baseLines("[Service]\nExecStart=/a\n", "# ExecStart=/no\nExecStart=\nExecStart=/b \\\n -c\n",
		" ExecStart = /d\nExecStartPre=/e\n"))
}

// The files of a unit's environment are read as its manager reads them.
func TestTheFilesOfAnEnvironment(t *testing.T) {
	at := filepath.Join(t.TempDir(), "pond")
	require.NoError(t, os.WriteFile(at, []byte("# a word\n; another\nMEM=4G\nNAME = \"the lower fen\"\nWORDS=a b c\n"+
		"ONE='it''s'\nLONG=a\\\nb\nno line\nEMPTY=\n"), 0o600))
	u := &Unit{EnvFiles: []string{"/nowhere", at}}
	assert.Equal(t, []string{"MEM=4G", "NAME=the lower fen", "WORDS=a b c", "ONE=it''s", "LONG=ab", "EMPTY="}, u.EnvOfFiles())
}
