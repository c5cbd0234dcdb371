package host

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A follower misses no line and sees none twice, however often the log is put
// aside under it, and however far behind it is.
func TestFollowerSeesEveryLineOnceOverRotation(t *testing.T) {
	path := filepath.Join(t.TempDir(), "console.log")
	ended, begun, done := make(chan struct{}), make(chan struct{}), make(chan []string)
	go func() {
		var got []string
		err := Follow(context.Background(), path, ended, func(l string) {
			if got = append(got, l); len(got) == 1 {
				close(begun)
			}
		})
		assert.NoError(t, err)
		done <- got
	}()
	log, err := openLog(path)
	require.NoError(t, err)
	filler := strings.Repeat("x", 60<<10)
	const lines = 400 // about 24 MiB: three rotations
	for i := range lines {
		fmt.Fprintf(log, "%d %s\r\n", i, filler)
		if i == 0 {
			<-begun
		}
	}
	fmt.Fprint(log, "no line end")
	log.Close()
	close(ended)
	got := <-done
	require.Equal(t, lines+1, len(got))
	for i := range lines {
		require.True(t, got[i] == fmt.Sprintf("%d %s", i, filler), "line %d is %.20q", i, got[i])
	}
	assert.Equal(t, "no line end", got[lines])
	fi, err := os.Stat(older(path, 1))
	require.NoError(t, err)
	assert.LessOrEqual(t, fi.Size(), int64(logLimit+64<<10))
	tail, err := Tail(path, 2)
	require.NoError(t, err)
	assert.Equal(t, "no line end", tail[len(tail)-1])
}

func TestOldLogsArePutAsideAndTheOldestDropped(t *testing.T) {
	path := filepath.Join(t.TempDir(), "console.log")
	for i := range 7 {
		l, err := openLog(path)
		require.NoError(t, err)
		fmt.Fprintf(l, "start %d\n", i)
		l.Close()
	}
	left, _ := filepath.Glob(filepath.Join(filepath.Dir(path), "*"))
	assert.Len(t, left, 1+logKept)
	for n, want := range map[string]string{path: "start 6\n", older(path, 1): "start 5\n",
		older(path, logKept): "start 2\n"} {
		b, err := os.ReadFile(n)
		require.NoError(t, err)
		assert.Equal(t, want, string(b))
	}
}

// A log that others write is followed over all that they do to it, and each line comes once.
func TestALogOfOthersIsFollowedOverItsRotation(t *testing.T) {
	path := filepath.Join(t.TempDir(), "pond.log")
	heard, ended, done := make(chan string, 20), make(chan struct{}), make(chan error)
	go func() {
		done <- followFile(context.Background(), path, 2, ended, func(l string) { heard <- l })
	}()
	next := func(want string) {
		t.Helper()
		select {
		case got := <-heard:
			require.Equal(t, want, got)
		case <-time.After(10 * time.Second):
			t.Fatalf("%q did not come", want)
		}
	}
	write := func(how int, text string) {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|how, 0o600)
		require.NoError(t, err)
		fmt.Fprint(f, text)
		require.NoError(t, f.Close())
	}
	write(os.O_APPEND, "made later\n") // there was none
	next("made later")
	write(os.O_APPEND, "in two ")
	write(os.O_APPEND, "pieces\r\n")
	next("in two pieces")
	require.NoError(t, os.Rename(path, path+".1"))
	write(os.O_APPEND, "the next file\nand on\n")
	next("the next file")
	next("and on")
	write(os.O_TRUNC, "emptied\n")
	next("emptied")
	close(ended)
	require.NoError(t, <-done)
	assert.Empty(t, heard)

	write(os.O_TRUNC, "1\n2\n3\n")
	require.NoError(t, followFile(context.Background(), path, 2, ended, func(l string) { heard <- l }))
	next("2")
	next("3")
	assert.Empty(t, heard)
}
