//go:build unix

package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// However many begin at once, one runs; the others say who does.
func TestManyAtOnce(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[1])
	all := func(args ...string) (codes []int, said string) {
		var mu sync.Mutex
		var wg sync.WaitGroup
		for range 4 {
			wg.Go(func() {
				r := p.Run(args...)
				mu.Lock()
				defer mu.Unlock()
				codes = append(codes, r.Code)
				said += r.Out + r.Err
			})
		}
		wg.Wait()
		return
	}
	codes, said := all("start")
	assert.ElementsMatch(t, []int{0, 1, 1, 1}, codes, said)
	count := 0
	for _, pid := range proving.ProcessesIn(p.Install) {
		if b, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/cmdline"); bytes.Contains(b,
			[]byte("simulated-runtime")) {
			count++
		}
	}
	assert.Equal(t, 1, count, "one server")

	codes, said = all("refit", "3.5.0")
	assert.Contains(t, said, "another command is at work here: refit, process ")
	done := 0
	for _, c := range codes {
		if c == 0 {
			done++
		}
	}
	assert.GreaterOrEqual(t, done, 1, said)
	assert.Len(t, p.Entries(), 1)
	assert.Equal(t, "3.5.0", p.Status().Version)

	codes, said = all("fetch", "3.4.1")
	assert.Equal(t, []int{0, 0, 0, 0}, codes, said)
	codes, said = all("stop")
	assert.Contains(t, codes, 0, said)
	assert.False(t, p.Status().Server.Running)
}

// Three servers of one game store its build once, and know only their own
// backups.
func TestServersShareTheLocker(t *testing.T) {
	t.Parallel()
	a := mossgate(t, demo.Releases[0], demo.Releases[1])
	b := mossgate(t, demo.Releases[0], demo.Releases[1])
	b.Env = append(b.Env, "FRESHKEEL_HOME="+a.Home)
	size := func() (n int64) {
		packs, _ := filepath.Glob(filepath.Join(a.Home, "locker/packs/*.zst"))
		for _, p := range packs {
			fi, err := os.Stat(p)
			require.NoError(t, err)
			n += fi.Size()
		}
		return
	}
	a.OK("refit", "3.5.0")
	before := size()
	assert.True(t, strings.HasPrefix(b.OK("fetch", "3.5.0").Out, "FETCHED BEFORE"))
	b.OK("refit", "3.5.0")
	assert.Less(t, size()-before, before/20, "the world and the build are there already")
	assert.Contains(t, a.OK("backup", "list").Out, "1 backup, newest last")
	assert.Contains(t, b.OK("backup", "list").Out, "1 backup, newest last")
	a.OK("rollback")
	b.OK("rollback")
}
