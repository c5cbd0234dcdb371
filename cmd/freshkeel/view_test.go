//go:build unix

package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshkeel"
	"freshkeel/proving"

	"github.com/clipperhouse/displaywidth"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWrapKeepsEveryWordAndNoRowIsTooWide(t *testing.T) {
	for _, text := range []string{"", "one", "a few words that go on for a while",
		"/a/path/that/is/longer/than/any/row/could/ever/be/on/this/terminal and more", "first\nsecond",
		"wide 蝸牛蝸牛蝸牛蝸牛蝸牛蝸牛 snails", "double  space"} {
		for n := 8; n < 40; n += 5 {
			rows := wrap(text, n)
			for _, r := range rows {
				if !strings.Contains(r, "/") { // a path stays whole
					assert.LessOrEqual(t, displaywidth.String(r), n, "%q in %d", text, n)
				}
			}
			squash := func(s string) string { return strings.Join(strings.Fields(s), "") }
			assert.Equal(t, squash(text), squash(strings.Join(rows, "")), "%q in %d", text, n)
		}
	}
}

func TestACommandToCopyIsNotBroken(t *testing.T) {
	rows := wrap(
		"which files are its own is not known, so: freshkeel -d /srv/a-long-name/of-a-server adopt --learn; then look at it",
		40,
	)
	assert.Equal(t, []string{"which files are its own is not known,", "so:",
		"freshkeel -d /srv/a-long-name/of-a-server adopt --learn;", "then look at it"}, rows)
}

func TestProgressSaysBytesRateAndTimeLeft(t *testing.T) {
	v := &screen{began: time.Now()}
	start := time.Now()
	for i := range 5 {
		at := start.Add(time.Duration(i) * 500 * time.Millisecond)
		v.moved = freshkeel.Event{At: at, Done: int64(i) * 5 << 20, Total: 100 << 20}
		v.rate.add(at, v.moved.Done)
	}
	assert.Equal(t, "[====----------------]  20%  20.0 MiB of 100.0 MiB  10.0 MiB/s  8.0 s left", v.progress())
	v.moved.Total = 0
	assert.Equal(t, "20.0 MiB, 10.0 MiB/s", v.progress())
	v.moved = freshkeel.Event{}
	assert.Regexp(t, `^\d+ ms$`, v.progress())
}

func TestTableFitsTheTerminal(t *testing.T) {
	var out bytes.Buffer
	v := &screen{p: &program{out: &out}, width: 60}
	v.table([]string{"a", "long head", "notes"},
		[][]string{{"1", "x", strings.Repeat("word ", 30)}, {"22", "y", "short"}}, nil)
	lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
	require.Len(t, lines, 3)
	assert.Equal(t, "  a   long head  notes", lines[0])
	assert.Equal(t, "  22  y          short", lines[2])
	assert.True(t, strings.HasSuffix(lines[1], "…"))
	assert.LessOrEqual(t, displaywidth.String(lines[1]), 60)
}

// onTerminal runs a command with a terminal of its own, of 100 columns.
func (p *place) onTerminal(args ...string) string {
	p.T.Helper()
	if _, err := exec.LookPath("script"); err != nil {
		p.T.Skip("no script(1) here to make a terminal")
	}
	line := "stty cols 100 rows 40; exec " + proving.Binary + " -d " + p.Install + " " + strings.Join(args, " ")
	cmd := exec.Command("script", "-qec", line, "/dev/null")
	cmd.Env = append([]string{"TERM=xterm"}, p.Env...)
	cmd.Env = append(cmd.Env, "NO_COLOR=")
	cmd.Dir = p.Dir
	out, _ := cmd.CombinedOutput()
	return string(out)
}

// On a terminal the steps are live, the server's own lines are seen while it
// boots, nothing is wider than the terminal, and no live line is left behind.
func TestRefitOnATerminalIsLive(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.Env = append(p.Env, "FRESHKEEL_DEMO_PACE=100")
	p.OK("start")
	out := p.onTerminal("refit", "3.5.0")
	assert.Contains(t, out, "refit mossgate-east")
	assert.Contains(t, out, "│ mossgate server 3.5.0", "the server's own line")
	assert.Contains(t, out, "\x1b[32m", "colour")
	assert.Regexp(t, `\r\x1b\[K`, out, "a line that is drawn again")
	final := ""
	for _, line := range strings.Split(out, "\n") {
		parts := strings.Split(strings.TrimRight(line, "\r"), "\r\x1b[K")
		final += plain(parts[len(parts)-1]) + "\n"
		for _, drawn := range parts {
			assert.LessOrEqual(t, displaywidth.String(plain(drawn)), 100, "%q", drawn)
		}
	}
	assert.NotContains(t, final, "··", "no live line is left behind")
	for _, step := range []string{"stage", "pre-copy", "stop", "backup", "swap", "start", "watch"} {
		assert.Regexp(t, `(?m)^  ok    `+step+` `, final)
	}
	assert.Contains(t, final, "REFITTED  3.4.1 → 3.5.0 and runs")
	p.OK("rollback")
	assert.NotContains(t, p.onTerminal("--plain", "status"), "\x1b[", "--plain has neither")
}

func plain(s string) string {
	var b strings.Builder
	for len(s) > 0 {
		i := strings.Index(s, "\x1b[")
		if i < 0 {
			b.WriteString(s)
			break
		}
		b.WriteString(s[:i])
		s = s[i+2:]
		if end := strings.IndexAny(s, "mK"); end >= 0 {
			s = s[end+1:]
		}
	}
	return b.String()
}

// Every word of the outcome comes first, so that the eye finds it.
func TestOutcomeComesFirst(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	for first, args := range map[string][]string{
		"DOWN  mossgate-east 3.4.1":                         {"status"},
		"NEWER  3.6.0 is there; 3.4.1 is installed":         {"builds"},
		"EMPTY  nothing was done to mossgate-east yet":      {"logbook"},
		"NONE  there is no backup of this install yet":      {"backup", "list"},
		"NOTHING TO DO  nothing was interrupted":            {"recover"},
		"WOULD START  open-gates.sh in ":                    {"start", "--dry-run"},
		`WOULD STOP  send "close", wait 5s`:                 {"stop", "--dry-run"},
		"WOULD SEND  say hello":                             {"send", "--dry-run", "say", "hello"},
		"WOULD BACK UP  ":                                   {"backup", "take", "--dry-run"},
		"WOULD FETCH  3.6.0, ":                              {"fetch", "--dry-run"},
		"CLEAR  3.4.1 → 3.5.0 can go ahead":                 {"refit", "3.5.0", "--dry-run"},
		"STOPPED  4.0.0 can't be installed as things are: ": {"preflight", "4.0.0"},
	} {
		r := p.Run(args...)
		assert.True(t, strings.HasPrefix(r.Out, first), "%v:\n%s%s", args, r.Out, r.Err)
		for _, line := range strings.Split(r.Out, "\n") {
			assert.LessOrEqual(t, displaywidth.String(line), 100, line)
		}
	}
	assert.Equal(t, []string{".freshkeel", "README.txt"}, firstTwo(t, p.Install), "none of it changed anything")
	assert.NoDirExists(t, filepath.Join(p.Install, ".freshkeel/refits"))
}

func firstTwo(t *testing.T, dir string) (names []string) {
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, d := range list[:2] {
		names = append(names, d.Name())
	}
	return
}
