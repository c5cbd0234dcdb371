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
				r := p.run(args...)
				mu.Lock()
				defer mu.Unlock()
				codes = append(codes, r.code)
				said += r.out + r.err
			})
		}
		wg.Wait()
		return
	}
	codes, said := all("start")
	assert.ElementsMatch(t, []int{0, 1, 1, 1}, codes, said)
	count := 0
	for _, pid := range processesIn(p.install) {
		if b, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/cmdline"); bytes.Contains(b, []byte("simulated-runtime")) {
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
	assert.Len(t, p.entries(), 1)
	assert.Equal(t, "3.5.0", p.status().Version)

	codes, said = all("fetch", "3.4.1")
	assert.Equal(t, []int{0, 0, 0, 0}, codes, said)
	codes, said = all("stop")
	assert.Contains(t, codes, 0, said)
	assert.False(t, p.status().Server.Running)
}

// Three servers of one game store its build once, and know only their own
// backups.
func TestServersShareTheLocker(t *testing.T) {
	t.Parallel()
	a := mossgate(t, demo.Releases[0], demo.Releases[1])
	b := mossgate(t, demo.Releases[0], demo.Releases[1])
	b.env = append(b.env, "FRESHKEEL_HOME="+a.home)
	size := func() (n int64) {
		packs, _ := filepath.Glob(filepath.Join(a.home, "locker/packs/*.zst"))
		for _, p := range packs {
			fi, err := os.Stat(p)
			require.NoError(t, err)
			n += fi.Size()
		}
		return
	}
	a.ok("refit", "3.5.0")
	before := size()
	assert.True(t, strings.HasPrefix(b.ok("fetch", "3.5.0").out, "FETCHED BEFORE"))
	b.ok("refit", "3.5.0")
	assert.Less(t, size()-before, before/20, "the world and the build are there already")
	assert.Contains(t, a.ok("backup", "list").out, "1 backup, newest last")
	assert.Contains(t, b.ok("backup", "list").out, "1 backup, newest last")
	a.ok("rollback")
	b.ok("rollback")
}
