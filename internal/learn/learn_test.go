package learn

import (
	"regexp"
	"strings"
	"testing"

	"freshkeel/internal/logline"
	"freshkeel/internal/profile"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What differs from start to start is loose in a pattern, and what stands before a line's own
// words is no part of it.
func TestPatternsHoldNothingOfOneStart(t *testing.T) {
	for line, other := range map[string]string{
		"Thu Nov 26 01:02:03 2026: server is ready":                              "Fri Jan  2 11:22:33 2027: server is ready",
		"[12:00:01] [main/INFO]: Done (8.2s)! open":                              "[00:00:59] [main/INFO]: Done (18s)! open",
		"2026-11-26T01:02:03.123Z INFO ready on 10.0.0.7:27015":                  "2027-01-01T00:00:00.000Z INFO ready on 127.0.0.1:9",
		"26 Nov 2026 10:20:30 - pond[4711]: ready, seed 0xdeadbeef":              "1 Dec 2026 01:02:03 - pond[12]: ready, seed 0x1",
		"ready: pid 4711, world /srv/pond/world.db, [::]:2000":                   "ready: pid 9, world /home/ada/world.db, [::1]:4",
		"ready at Thursday, 2026-11-26, id 0b5b7f4e-90a1-4a52-9d9e-1e1e1e1e1e1e": "ready at Monday, 2027-01-02, id aaaaaaaa-bbbb-cccc-dddd-eeeeeeeeeeee",
	} {
		r := Ready(Start{Lines: []string{"loading", line}})
		require.NotNil(t, r, line)
		re := regexp.MustCompile(r.Pattern)
		found := func(l string) bool { return new(logline.Reader).Read(l).Find(re) != nil }
		assert.True(t, found(line) && found(other), "%s: %s", line, r.Pattern)
		assert.Equal(t, "^", r.Pattern[:1])
		assert.False(t, re.MatchString("loading the world: not ready"), r.Pattern)
		assert.NotRegexp(t, `\d{3}|Thu|Nov|/srv`, strings.ReplaceAll(r.Pattern, `\d`, ""), line)
	}
}

func TestTheVersionIsTheServersOwn(t *testing.T) {
	boot := []string{
		"OpenSSL 3.0.11 19 Sep 2023",
		"Protocol version 47.2",
		"listening on 192.168.0.17",
		"started 2026.11.26",
		"Pond dedicated server v2.3.1.",
		"zlib version 1.3.1",
	}
	r := Version(boot, "")
	require.NotNil(t, r)
	assert.Equal(t, "2.3.1", r.Version)
	m := regexp.MustCompile(r.Pattern).FindStringSubmatch("Pond dedicated server v2.10.0.")
	assert.Equal(t, "2.10.0", m[1])
	assert.Nil(t, Version([]string{"OpenSSL 3.0.11", "Protocol version 47.2", "bound to 10.1.2.3:4", "jvm 21.0.2"}, ""))
	assert.Equal(t, Sure, Version(boot, "2.3.1").Sure)
	assert.Nil(t, Version(boot, "9.9"), "what says another version than is installed is not the rule")
	assert.Equal(t, "1.9.2", Version([]string{"frogpond 1.9.2 (c) nobody"}, "", "frogpond.sh").Version)
}

func TestStopLinesAreReadFromTexts(t *testing.T) {
	for text, want := range map[string]string{
		"screen -S pond -X stuff 'stop\\n'":                   "stop",
		"tmux send-keys -t pond \"quit\" Enter":               "quit",
		"echo shutdown > /run/pond.in":                        "shutdown",
		"Type \"/exit\" to leave the pond":                    "/exit",
		"  quit      saves and ends the server":               "quit",
		"enter 'close' to shut the gates":                     "close",
		"case $line in\n  end) exit 0;;\nesac":                "end",
		"2026-01-01 10:00:00 > stop":                          "stop",
		"tadpoles never stop growing, and frogs close an eye": "",
	} {
		got := ""
		if w := WordsIn("x.log", text); len(w) > 0 {
			got = w[0].Line
		}
		assert.Equal(t, want, got, text)
	}
	assert.Equal(t, "feed-and-end", WordsIn("stop-pond.sh", "screen -S pond -X stuff 'feed-and-end\\n'")[0].Line)
}

func TestPortsAreReadWhereTheyAreNamed(t *testing.T) {
	for text, want := range map[string]int{
		"./pond --port 27750 --rconport 99": 27750, "server-port=25000": 25000, "  \"gamePort\": 27001,": 27001,
		"# port = 1000": 0, "support = 12345": 0, "./pond -p 28000": 28000, "net.bind = 0.0.0.0:4000": 4000, "rcon.port=4000": 0,
	} {
		got := 0
		if p := PortsIn("x", text, false); len(p) > 0 {
			got = p[0].Number
		}
		assert.Equal(t, want, got, text)
	}
	assert.Equal(t, "udp", PortsIn("log", "bound udp port 27750", true)[0].Net)
}

// What was learned goes in with its evidence, leaves what was written by hand, and comes out again.
func TestLessonsGoInAndComeOut(t *testing.T) {
	text := profile.Text(
		"[server]\nname = 'p'\nkeep = []\n[stop]\nsend = 'bye' # mine\n[ready]\n# guessed from: a log\nline = '^old'\n# not found; set it: x\nversion = ''\n",
	)
	p, err := profile.Parse("x", text)
	require.NoError(t, err)
	o := Observation{
		Console: []string{"pond server 1.0", "the pond is ready"},
		Version: "1.0",
		Stop:    &StopSeen{Line: "quit"},
		Ports: []profile.Port{
			{Net: "udp", Number: 27750},
			{Net: "udp", Number: 45123},
		},
		Twice:   []profile.Port{{Net: "udp", Number: 27750}},
		OfBuild: func(string) bool { return false },
	}
	list := Propose(text, p, &Seen{}, o)
	got, edits, err := Apply(text, list)
	require.NoError(t, err)
	assert.Contains(t, string(got), "send = 'bye' # mine", "a line by hand stays, whatever was seen")
	assert.Contains(
		t,
		string(got),
		"# learned from: line 2 of the console: the pond is ready\nline = '^the pond is ready'",
	)
	assert.Contains(t, string(got), "ports = ['udp/27750']")
	assert.NotContains(t, string(got), "45123", "a port that the system chose is none of the server's")
	_, err = profile.Parse("x", got)
	require.NoError(t, err)
	back, left, gone, stays, err := Forget(got, edits, "")
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.Len(t, gone, len(list))
	assert.Empty(t, stays)
	assert.Equal(t, string(text), string(back))
	edited := profile.Text(strings.Replace(string(got), "'^the pond is ready'", "'^mine'", 1))
	_, _, _, stays, err = Forget(edited, edits, "ready.line")
	require.NoError(t, err)
	assert.Equal(t, []string{"ready.line"}, stays, "what was edited since is not taken out")
}
