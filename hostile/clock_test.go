//go:build linux

package hostile

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// place is where the file's path is written into the program once it is built: so the
// library is built anew once, and not for each run of the test.
var place = "here stands the path of the clock" + strings.Repeat(".", 200)

// jumped reads how many seconds the clock is off, from a file. The clock is read on the
// runtime's own stack too, where only raw calls of the system are safe.
const jumped = `
const clock = %q

func jumped() (by int64) {
	fd, _, e := syscall.RawSyscall6(syscall.SYS_OPENAT, ^uintptr(99), uintptr(unsafe.Pointer(unsafe.StringData(clock))), 0, 0, 0, 0)
	if e != 0 {
		return 0
	}
	var text [32]byte
	n, _, _ := syscall.RawSyscall(syscall.SYS_READ, fd, uintptr(unsafe.Pointer(&text)), 32)
	syscall.RawSyscall(syscall.SYS_CLOSE, fd, 0, 0)
	for i := 0; i < int(n) && i < 32; i++ {
		if c := text[i]; '0' <= c && c <= '9' {
			by = by*10 + int64(c-'0')
		}
	}
	if n > 0 && text[0] == '-' {
		by = -by
	}
	return by
}
`

// clocked builds the program with a clock that is set by the file that it returns.
func clocked(t *testing.T) (program, clock string) {
	t.Helper()
	dir := t.TempDir()
	program, clock = filepath.Join(dir, "freshkeel"), filepath.Join(dir, "clock")
	root, err := exec.Command("go", "env", "GOROOT").Output()
	require.NoError(t, err)
	at := filepath.Join(strings.TrimSpace(string(root)), "src/time/time.go")
	b, err := os.ReadFile(at)
	require.NoError(t, err)
	text := string(b)
	for _, edit := range [][2]string{
		{"\t_ \"unsafe\" // for go:linkname\n", "\t\"syscall\"\n\t\"unsafe\"\n"},
		{"func Now() Time {\n\tsec, nsec, mono := runtimeNow()\n",
			"func Now() Time {\n\tsec, nsec, mono := runtimeNow()\n\tsec += jumped()\n"},
	} {
		require.Equal(t, 1, strings.Count(text, edit[0]), "the library's clock reads otherwise now")
		text = strings.Replace(text, edit[0], edit[1], 1)
	}
	text += fmt.Sprintf(jumped, place)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "time.go"), []byte(text), 0o644))
	overlay := fmt.Sprintf(`{"Replace": {%q: %q}}`, at, filepath.Join(dir, "time.go"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "overlay.json"), []byte(overlay), 0o644))
	build := exec.Command("go", "build", "-overlay", filepath.Join(dir, "overlay.json"), "-o", program,
		"freshkeel/cmd/freshkeel")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	b, err = os.ReadFile(program)
	require.NoError(t, err)
	require.Equal(t, 1, bytes.Count(b, []byte(place)))
	path := append([]byte(clock), make([]byte, len(place)-len(clock))...)
	require.NoError(t, os.WriteFile(program, bytes.Replace(b, []byte(place), path, 1), 0o755))
	return program, clock
}

// The clock jumps, by itself or by a hand, between commands and in the middle of them:
// nothing is taken for older or newer by it than it is, no wait ends early or never,
// and every tree and backup is what it was.
func TestClocksThatJump(t *testing.T) {
	t.Parallel()
	program, clock := clocked(t)
	const day = 24 * 3600
	set := func(days int) {
		require.NoError(t, os.WriteFile(clock+".new", fmt.Append(nil, days*day), 0o644))
		require.NoError(t, os.Rename(clock+".new", clock))
	}
	p := newPond(t)
	p.program = program
	p.put("next-2.0/run.sh", strings.Replace(strings.Replace(script, "1.0", "2.0", 1), "echo ready;",
		"sleep 0.6; echo ready;", 1))
	p.put("next-3.0/run.sh", "#!/bin/sh\necho spoilt > world/1/map.dat\nsleep 0.6; exit 3\n")
	p.put("next-3.0/lib/0.dat", "three\n")
	state := func() map[string]string {
		out := tree(t, p.install)
		delete(out, "world/log.dat") // the server's own, each time it starts
		return out
	}
	during := func(days int, args ...string) ran { // the jump comes while the new server is watched
		done := make(chan struct{})
		go func() {
			defer close(done)
			for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
				if b, err := os.ReadFile(filepath.Join(p.install, "run.sh")); err == nil &&
					strings.Contains(string(b), "sleep 0.6") {
					break
				}
			}
			set(days)
		}()
		r := p.run(args...)
		<-done
		return r
	}
	set(0)
	p.ok("start")
	old := state()
	r := during(-10, "refit", "--from", "next-2.0")
	require.Zero(t, r.code, r.out)
	assert.Contains(t, r.out, "REFITTED")
	assert.Less(t, r.took, 15*time.Second)
	set(-20)
	assert.Contains(t, p.ok("status"), "the clock was set back")
	next := state()
	p.ok("rollback")
	assert.Equal(t, old, state())
	set(10)
	p.ok("backup", "take")
	p.ok("refit", "--from", "next-2.0")
	assert.Equal(t, next, state())
	set(-10)
	p.ok("rollback")
	assert.Equal(t, old, state())
	r = during(104, "refit", "--from", "next-3.0")
	assert.Equal(t, 4, r.code, r.out)
	assert.Equal(t, old, state())
	assert.Contains(t, p.ok("status"), "RUNNING")
	out := p.ok("backup", "check")
	assert.Contains(t, out, "WHOLE")
	p.ok("stop")
}
