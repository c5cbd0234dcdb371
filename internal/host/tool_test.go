//go:build unix

package host

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a tool prints comes line by line, clean; how it ended is told.
func TestAToolIsWatchedToItsEnd(t *testing.T) {
	run := func(script string) (lines []string, err error) {
		err = RunTool(context.Background(), Tool{Argv: []string{"sh", "-c", script}, Dir: t.TempDir(),
			Env: append(os.Environ(), "POT=iron"), Limit: 20 * time.Second},
			func(l string) { lines = append(lines, l) })
		return
	}
	lines, err := run(`echo "in $POT"; printf '10%%\r50%%\r100%%\n'; printf '\033[31mhot\033[0m\a\n' >&2; printf 'no end of line'`)
	require.NoError(t, err)
	assert.Equal(t, []string{"in iron", "100%", "hot\uFFFD", "no end of line"}, lines)
	_, err = run("exit 7")
	assert.EqualError(t, err, "sh ended with exit status 7")
	err = RunTool(context.Background(), Tool{Argv: []string{"/nothing/here"}}, func(string) {})
	assert.ErrorContains(t, err, "run /nothing/here")
}

// When its time is up, or nobody waits any more, all that it started goes.
func TestAToolGoesWithAllThatItStarted(t *testing.T) {
	for name, c := range map[string]struct {
		limit time.Duration
		want  error
	}{"its time is up": {300 * time.Millisecond, ErrTooLong},
		"nobody waits any more": {time.Minute, context.Canceled}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			at := filepath.Join(dir, "child")
			began := time.Now()
			err := RunTool(ctx, Tool{Argv: []string{"sh", "-c", "sleep 60 & echo $! >child; echo there; wait"},
				Dir: dir, Limit: c.limit}, func(l string) {
				if l == "there" && c.want == context.Canceled {
					cancel()
				}
			})
			assert.ErrorIs(t, err, c.want)
			assert.Less(t, time.Since(began), 20*time.Second)
			b, err := os.ReadFile(at)
			require.NoError(t, err)
			child, err := strconv.Atoi(strings.TrimSpace(string(b)))
			require.NoError(t, err)
			for end := time.Now().Add(5 * time.Second); syscall.Kill(child, 0) == nil && time.Now().Before(end); {
				// A zombie that nobody has waited for yet is no process any more.
				if b, _ := os.ReadFile("/proc/" + strconv.Itoa(child) + "/stat"); strings.Contains(string(b), ") Z ") {
					return
				}
				time.Sleep(10 * time.Millisecond)
			}
			assert.Error(t, syscall.Kill(child, 0), "the child lives on")
		})
	}
}
