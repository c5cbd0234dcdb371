package host

import (
	"net"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A unit is a user's by its user, its groups, its properties and its own program: each of them alone makes
// it somebody else's.
func TestWhoseAUnitIs(t *testing.T) {
	pond := Owner{UID: 54321, GID: 54321, Groups: []int{54321, 54322}, Name: "pond"}
	plain := func() *Unit {
		return &Unit{Name: "pond.service", Known: true, Owner: "pond", Dir: "/srv/pond",
			Lines: [][]string{{"/usr/bin/java", "-jar", "pond.jar"}}}
	}
	require.NoError(t, theirs(plain(), pond, "/srv/pond", "/srv/pond"))
	for name, c := range map[string]struct {
		change func(u *Unit)
		why    string
	}{
		"by number":        {func(u *Unit) { u.Owner = "54321" }, ""},
		"its own group":    {func(u *Unit) { u.Groups = []string{"54322"} }, ""},
		"root's":           {func(u *Unit) { u.Owner = "" }, `runs as ""`},
		"another's":        {func(u *Unit) { u.Owner = "alice" }, "alice"},
		"another group":    {func(u *Unit) { u.Groups = []string{"disk"} }, "has the group disk"},
		"a right":          {func(u *Unit) { u.Gives = "PAMName=" }, "(PAMName=)"},
		"no line":          {func(u *Unit) { u.Lines = nil }, "runs nothing"},
		"another program":  {func(u *Unit) { u.Lines = [][]string{{"/usr/bin/tail", "/srv/pond/x"}} }, "runs /usr/bin/tail"},
		"one of two lines": {func(u *Unit) { u.Lines = append(u.Lines, []string{"/bin/true"}) }, "runs /bin/true"},
		"a longer name":    {func(u *Unit) { u.Dir = "/srv/ponds" }, "/srv/ponds/pond.jar"},
		"on a search path": {func(u *Unit) { u.Lines = [][]string{{"/bin/sh", "-c", "pond.jar"}} }, "runs pond.jar"},
		"not there":        {func(u *Unit) { u.Known, u.Why = false, "it is not-found" }, "not-found"},
	} {
		u := plain()
		c.change(u)
		err := theirs(u, pond, "/srv/pond", "/srv/pond")
		if c.why == "" {
			assert.NoError(t, err, name)
			continue
		}
		assert.ErrorContains(t, err, c.why, name)
	}
	u := plain()
	u.Dir = "/data/pond"
	assert.NoError(t, theirs(u, pond, "/srv/pond", "/data/pond"), "the folder without links")
	assert.Equal(t, "sudo systemctl start x.service", byHand("start", "x.service"))
	assert.Equal(t, "sudo systemctl edit x.service", byHand("write", "x.service"))
	assert.Equal(t, "sudo journalctl -u x.service", byHand("journal", "x.service"))
}

// A property that is on no list must say nothing, whatever it is called and whenever it came.
func TestAPropertyThatIsNotKnownMustSayNothing(t *testing.T) {
	for name, v := range map[string]any{"Nice": int32(5), "Delegate": false, "NeverHeardOf": "", "AndOf": uint64(1<<64 - 1),
		"Lists": []string{}, "Rows": [][]any{}, "Several": []any{false, ""}, "SetCredential": [][]any(nil), "SecureBits": int32(0),
		"ExecStartEx": [][]any{{"/a", []string{"/a"}, []string{"ignore-failure", "no-env-expand"}}}} {
		assert.Empty(t, gives(map[string]any{name: v}), name)
	}
	for name, v := range map[string]any{"Delegate": true, "NeverHeardOf": "x", "AndOf": uint64(7), "Lists": []string{"a"},
		"Rows": [][]any{{"a"}}, "Several": []any{false, "a"}, "AmbientCapabilities": uint64(4096), "RootDirectory": "/x",
		"SELinuxContext": []any{false, "x"}, "JoinsNamespaceOf": []string{"x.service"}, "OfAnotherType": 1.5,
		"ExecStopPostEx": [][]any{{"/a", []string{"/a"}, []string{"privileged"}}}} {
		assert.NotEmpty(t, gives(map[string]any{name: v}), name)
	}
}

// The environment of an owner is a list; whatever else root has stays with root.
func TestTheEnvironmentOfAnOwner(t *testing.T) {
	got := OwnerEnv([]string{"PATH=/bin", "SECRET=x", "SUDO_USER=ada", "HOME=/root", "LC_ALL=C", "JAVA_TOOL_OPTIONS=-Dp=x", "BASH_ENV=/x",
		"FRESHKEEL_HOME=/h", "LD_PRELOAD=x", "DBUS_SESSION_BUS_ADDRESS=x", "TERM=xterm"}, Owner{Name: "pond", Home: "/home/pond"})
	assert.Equal(t, []string{"PATH=/bin", "LC_ALL=C", "FRESHKEEL_HOME=/h", "TERM=xterm", "USER=pond", "LOGNAME=pond", "SHELL=/bin/sh",
		"HOME=/home/pond"}, got)
}

// Those who are connected to a port of the server are known by their addresses, each once.
func TestPeersOfAPort(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	port := Port{"tcp", l.Addr().(*net.TCPAddr).Port}
	assert.Empty(t, Peers([]int{os.Getpid()}, []Port{port}))
	for range 2 {
		c, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		defer c.Close()
		s, err := l.Accept()
		require.NoError(t, err)
		defer s.Close()
	}
	assert.Equal(t, []string{"127.0.0.1"}, Peers([]int{os.Getpid()}, []Port{port}))
	assert.Equal(t, []string{"127.0.0.1"}, Peers([]int{os.Getpid()}, nil))
	assert.Empty(t, Peers([]int{os.Getpid()}, []Port{{"tcp", 1}}))
}
