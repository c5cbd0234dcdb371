package host

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

const apartWord = "run-apart"

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == apartWord {
		os.Exit(BeApart(os.Stdin, os.Stdout, os.Stderr))
	}
	if len(os.Args) > 1 && os.Args[1] == "hold-memory" {
		holdMemory(os.Args[2])
	}
	os.Exit(m.Run())
}

// holdMemory takes memory in a way that a count of resident pages does not show.
func holdMemory(how string) {
	const size = 600 << 20
	chunk := make([]byte, 1<<20)
	for i := range chunk {
		chunk[i] = byte(i)
	}
	switch how {
	case "files": // in memory, open and not mapped
		fd, err := unix.MemfdCreate("held", 0)
		for n := 0; err == nil && n < size; n += len(chunk) {
			_, err = unix.Write(fd, chunk)
		}
	case "folder":
		f, err := os.Create("/dev/shm/held")
		for n := 0; err == nil && n < size; n += len(chunk) {
			_, err = f.Write(chunk)
		}
		g, err := os.Create("/tmp/held")
		for n := 0; err == nil && n < size; n += len(chunk) {
			_, err = g.Write(chunk)
		}
		h, err := os.Create("/var/tmp/held")
		for n := 0; err == nil && n < size; n += len(chunk) {
			_, err = h.Write(chunk)
		}
	case "segment":
		id, err := unix.SysvShmGet(unix.IPC_PRIVATE, size, unix.IPC_CREAT|0o600)
		if err == nil {
			b, err := unix.SysvShmAttach(id, 0, 0)
			for n := 0; err == nil && n < size; n += 4096 {
				b[n] = 1
			}
			unix.SysvShmDetach(b)
		}
	case "pages":
		var all [][]byte
		for n := 0; n < size; n += len(chunk) {
			all = append(all, append([]byte{}, chunk...))
		}
		defer fmt.Println(len(all))
	}
	fmt.Println("held")
	time.Sleep(time.Minute)
}

// self is this test's own program, where everybody comes to it.
func self(t *testing.T) string {
	t.Helper()
	at, err := os.Executable()
	require.NoError(t, err)
	text, err := os.ReadFile(at)
	require.NoError(t, err)
	dir := t.TempDir()
	for d := dir; d != os.TempDir(); d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	to := filepath.Join(dir, "host.test")
	require.NoError(t, os.WriteFile(to, text, 0o755))
	return to
}

// apart runs a script apart in a folder, and returns what it said.
func apart(t *testing.T, self, script string, b Bounds, show ...string) (said string, err error) {
	t.Helper()
	dir, at := t.TempDir(), filepath.Join(t.TempDir(), "srv")
	for d := dir; d != os.TempDir(); d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "run.sh"), []byte("#!/bin/sh\n"+script), 0o755))
	require.NoError(t, OwnApart(dir))
	var mu sync.Mutex
	run, err := RunApart(context.Background(), []string{self, apartWord}, Apart{Dir: dir, At: at, Argv: []string{filepath.Join(at, "run.sh")},
		Env: []string{"PATH=/usr/bin:/bin"}, Show: append(show, self)}, b, func(l string) {
		mu.Lock()
		said += l + "\n"
		mu.Unlock()
	})
	require.NoError(t, err)
	<-run.Done()
	mu.Lock()
	defer mu.Unlock()
	if strings.Contains(said, "freshkeel: ") && run.Err() != nil && b.Memory == 0 {
		t.Skipf("this system shuts no program off: %s", said)
	}
	return said, run.Err()
}

// A program that runs apart sees the system's programs and what is shown to it, and nothing else of this
// machine: no pipe, no socket, no home, no other install, whatever path it knows.
func TestApartSeesOnlyWhatIsShown(t *testing.T) {
	other := t.TempDir()
	for d := other; d != os.TempDir(); d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o777))
	}
	console := filepath.Join(other, "console.in")
	require.NoError(t, unix.Mkfifo(console, 0o666))
	require.NoError(t, os.Chmod(console, 0o666))
	reader, err := os.OpenFile(console, os.O_RDWR|unix.O_NONBLOCK, 0)
	require.NoError(t, err)
	defer reader.Close()
	l, err := net.Listen("unix", filepath.Join(other, "sock"))
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, os.Chmod(filepath.Join(other, "sock"), 0o777))
	runtime := filepath.Join(t.TempDir(), "opt/runtime")
	require.NoError(t, os.MkdirAll(filepath.Join(runtime, "bin"), 0o755))
	for d := runtime; d != os.TempDir(); d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(runtime, "bin/tool"), []byte("#!/bin/sh\necho the tool runs\n"), 0o755))
	said, err := apart(t, self(t), fmt.Sprintf(`
echo op-me > %[1]s && echo "BAD: wrote to another console"
ls %[2]s && echo "BAD: sees another folder"
ls /home /root /run /srv /var/lib /sys /mnt 2>/dev/null && echo "BAD: sees homes"
ls /tmp | grep -v TestApart && echo "BAD: sees /tmp"
touch /etc/x /usr/x / 2>/dev/null && echo "BAD: writes to the system"
touch own /tmp/x /dev/shm/x /var/tmp/x || echo "BAD: can't write to its own"
%[3]s/bin/tool; touch %[3]s/x && echo "BAD: writes to what is shown"
echo dev: $(ls /dev | grep -v -e '^fd$' -e '^std' -e '^shm$' | tr '\n' ' ')
echo etc: $(cut -d: -f1 /etc/passwd | tr '\n' ' ')
[ $$ -lt 200 ] || echo "BAD: sees others' processes"
echo end
`, console, other, runtime), Bounds{Time: 20 * time.Second}, runtime)
	require.NoError(t, err, said)
	assert.NotContains(t, said, "BAD", said)
	assert.Contains(t, said, "the tool runs")
	assert.Contains(t, said, "dev: full null random urandom zero\n")
	assert.Contains(t, said, "etc: server\n")
	assert.Contains(t, said, "end\n")
	b := make([]byte, 100)
	n, _ := unix.Read(int(reader.Fd()), b)
	assert.LessOrEqual(t, n, 0, "a line came to another console: %q", b[:max(n, 0)])
}

// Memory counts wherever it is held: in pages, in files of memory, in folders, in segments; by a control
// group where one can be had, and where it is counted.
func TestApartIsHeldToItsMemory(t *testing.T) {
	self := self(t)
	for _, how := range []string{"pages", "files", "folder", "segment"} {
		for _, counted := range []bool{false, true} {
			noGroups = counted
			began := time.Now()
			said, err := apart(t, self, "exec "+self+" hold-memory "+how+"\n", Bounds{Time: 30 * time.Second, Memory: 300 << 20})
			if err == ErrNotApart {
				t.Skip("this system shuts no program off")
			}
			text := said
			if err != nil {
				text += err.Error()
			}
			assert.Contains(t, text, "memory and was ended", "%s, counted %v", how, counted)
			assert.Less(t, time.Since(began), 15*time.Second, how)
		}
	}
	noGroups = false
}

// The group of a bound is made in either version of control groups.
func TestTheGroupOfABound(t *testing.T) {
	v, above := groupAbove("12:cpu:/\n4:memory,x:/a/b\n0::/\n", "/sys/fs/cgroup")
	assert.Equal(t, "1 /sys/fs/cgroup/memory/a/b", fmt.Sprint(v, " ", above))
	v, above = groupAbove("0::/user.slice/user-7.slice/session-3.scope\n", "/sys/fs/cgroup")
	assert.Equal(t, "2 /sys/fs/cgroup/user.slice/user-7.slice", fmt.Sprint(v, " ", above))
	dir, files := groupPlan(2, above, 42, 4<<30)
	assert.Equal(t, above+"/freshkeel-apart-42", dir)
	assert.Equal(t, [][2]string{{"memory.max", "4294967296"}, {"memory.swap.max", "0"}, {"memory.oom.group", "1"}, {"cgroup.procs", "42"}}, files)
	_, files = groupPlan(1, "/x", 42, 5)
	assert.Equal(t, [2]string{"cgroup.procs", "42"}, files[len(files)-1], "the process comes in once the bound stands")
	assert.Equal(t, 3, oomKills("low 0\noom 4\noom_kill 3\n"))
	assert.Zero(t, oomKills("oom_kill_disable 0\nunder_oom 0\noom_kill 0\n"))
}

// What is shown for a program is its runtime, and never a folder that holds homes or installs.
func TestWhatIsShownForAProgram(t *testing.T) {
	dir := t.TempDir()
	for _, at := range []string{"jdk/bin/java", "home/bin/tool", "srv/bin/x", "plain/dotnet"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(at)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, at), nil, 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "srv/freshkeel.toml"), nil, 0o644))
	t.Setenv("HOME", filepath.Join(dir, "home"))
	assert.Equal(t, []string{filepath.Join(dir, "jdk"), filepath.Join(dir, "home/bin/tool"), filepath.Join(dir, "srv/bin/x"),
		filepath.Join(dir, "plain")}, ShowPrograms([]string{filepath.Join(dir, "jdk/bin/java"), filepath.Join(dir, "home/bin/tool"),
		filepath.Join(dir, "srv/bin/x"), filepath.Join(dir, "plain/dotnet"), filepath.Join(dir, "inst/bin/x")}, filepath.Join(dir, "inst")))
}
