//go:build unix

package tree

import (
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// who is those who could lead a way elsewhere, as a test compares them.
func who(list []Decider) (out []string) {
	for _, d := range list {
		s := fmt.Sprintf("user %d", d.UID.Int())
		switch {
		case d.Everyone:
			s = "everybody"
		case d.UID == NoID:
			s = fmt.Sprintf("group %d", d.GID.Int())
		}
		if d.Link {
			s += " by a link"
		}
		out = append(out, s+" in "+filepath.Base(d.At))
	}
	return out
}

// The way to a folder shows everybody who could have led it elsewhere: owners, those whom a mode lets write,
// in a sticky folder only the owner of what stands there, and of a link whoever laid it.
func TestTheWayToAFolderShowsWhoDecidesIt(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root gives folders away")
	}
	const other = 54321
	top := t.TempDir()
	for d := top; d != os.TempDir(); d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	make := func(rel string, mode os.FileMode, uid, gid int) {
		at := filepath.Join(top, rel)
		require.NoError(t, os.MkdirAll(at, 0o755))
		require.NoError(t, os.Chown(at, uid, gid))
		require.NoError(t, os.Chmod(at, mode))
	}
	link := func(rel, to string, uid int) {
		require.NoError(t, os.Symlink(to, filepath.Join(top, rel)))
		require.NoError(t, os.Lchown(filepath.Join(top, rel), uid, uid))
	}
	make("plain/srv", 0o755, 0, 0)
	make("theirs", 0o755, other, other)
	make("theirs/srv", 0o755, other, other)
	make("group", 0o775, 0, 7)
	make("group/srv", 0o755, 0, 0)
	make("open", 0o777, 0, 0)
	make("open/srv", 0o755, 0, 0)
	make("sticky", 0o777|os.ModeSticky, 0, 0)
	make("sticky/roots", 0o755, 0, 0)
	make("sticky/theirs", 0o755, other, other)
	link("plain/link", "../theirs/srv", 0)
	link("theirs/link", "../plain/srv", other)
	link("plain/up", "srv/../../open/srv", 0)
	link("plain/round", "round", 0)
	link("plain/full", filepath.Join(top, "plain/srv"), 0)
	for rel, want := range map[string][]string{
		"plain/srv": nil, "theirs/srv": {"user 54321 in theirs"}, "theirs": nil, "group/srv": {"group 7 in group"},
		"open/srv": {"everybody in open"}, "sticky/roots": nil, "sticky/theirs": {"user 54321 in sticky"},
		"plain/link": {"user 54321 in theirs"}, "theirs/link": {"user 54321 by a link in theirs"}, "plain/up": {"everybody in open"},
		"plain/full": nil,
	} {
		h, err := Hold(filepath.Join(top, rel))
		require.NoError(t, err, rel)
		assert.Equal(t, want, who(h.By), rel)
		real, err := filepath.EvalSymlinks(filepath.Join(top, rel))
		require.NoError(t, err)
		assert.Equal(t, real, h.Dir, rel)
		h.Close()
	}
	_, err := Hold(filepath.Join(top, "plain/round"))
	assert.ErrorIs(t, err, ErrLoop)
	_, err = Hold(filepath.Join(top, "plain/none"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, os.WriteFile(filepath.Join(top, "file"), nil, 0o644))
	_, err = Hold(filepath.Join(top, "file"))
	assert.ErrorIs(t, err, ErrNotFolder)
}

// Once a folder is kept, what is opened by its path is in that same folder, whatever took its place.
func TestAKeptFolderStaysTheOneThatWasComeTo(t *testing.T) {
	top := t.TempDir()
	at := filepath.Join(top, "srv")
	require.NoError(t, os.Mkdir(at, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(at, "f"), []byte("first"), 0o644))
	h, err := Hold(at)
	require.NoError(t, err)
	Keep(at, h)
	defer func() {
		held.Delete(filepath.Clean(at))
		h.Close()
	}()
	require.NoError(t, os.Rename(at, at+".away"))
	require.NoError(t, os.Mkdir(at, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(at, "f"), []byte("second"), 0o644))
	r, err := OpenRoot(at)
	require.NoError(t, err)
	defer r.Close()
	b := make([]byte, 10)
	n, err := r.ReadInto("f", b)
	require.NoError(t, err)
	assert.Equal(t, "first", string(b[:n]))
	if ShowsOpen {
		text, err := os.ReadFile(Reached(filepath.Join(at, "f")))
		require.NoError(t, err)
		assert.Equal(t, "first", string(text))
	}
	assert.Equal(t, at+"x/f", Reached(at+"x/f"), "a path beside it is as it is")
	assert.Same(t, h, Kept(at+"/"))
	assert.Nil(t, Kept(top))
}

// An access list names those who may write, as far as its mask lets them.
func TestWhomAnAccessListLetsWrite(t *testing.T) {
	list := func(entries ...[3]int) []byte {
		b := binary.LittleEndian.AppendUint32(nil, 2)
		for _, e := range entries {
			b = binary.LittleEndian.AppendUint16(b, uint16(e[0]))
			b = binary.LittleEndian.AppendUint16(b, uint16(e[1]))
			b = binary.LittleEndian.AppendUint32(b, uint32(e[2]))
		}
		return b
	}
	assert.Equal(t, []Decider{{UID: 7, GID: NoID}, {UID: NoID, GID: 9}},
		aclWriters(list([3]int{1, 7, -1}, [3]int{2, 6, 7}, [3]int{2, 5, 8}, [3]int{2, 7, 0}, [3]int{8, 2, 9}, [3]int{0x10, 7, -1})))
	assert.Empty(t, aclWriters(list([3]int{2, 7, 7}, [3]int{0x10, 5, -1})), "the mask takes it away")
	assert.Empty(t, aclWriters([]byte{2, 0, 0, 0, 1, 0}), "cut short")
}
