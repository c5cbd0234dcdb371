package acquire

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tree"
)

// folderNote is what is remembered of a folder that a build was taken from: a preflight, then a
// refit, look at it again, and need not read it again where its times prove that nobody wrote to
// it. Losing the note loses nothing but time.
type folderNote struct {
	Set  string   `json:"set"`
	Look tree.Sum `json:"look"` // of all that the system says of its files
	Read int64    `json:"read"` // nanoseconds since 1970, before it was read
}

func noteOf(l *locker.Locker, folder string) string {
	return filepath.Join(l.Dir(), "folders", tree.SumBytes([]byte(folder)).String()[:16]+".json")
}

// lookAt is what the system says of a folder's files, and when the last of them was changed. The
// hashes of all entries are added up, so that none is held: a build may have hundreds of thousands.
func lookAt(folder string) (look tree.Sum, last int64, err error) {
	var sums [len(look) / 8]uint64
	var line []byte
	err = tree.WalkEach(folder, nil, func(found []tree.Entry) {
		for _, e := range found {
			line = fmt.Appendf(
				line[:0],
				"%q %d %o %d %d %d %d %d %q",
				e.Path,
				e.Kind,
				e.Mode,
				e.Size,
				e.Mtime,
				e.Ctime,
				e.Inode,
				e.Dev,
				e.Target,
			)
			one := tree.SumBytes(line)
			for i := range sums {
				sums[i] += binary.BigEndian.Uint64(one[8*i:])
			}
			if last = max(last, e.Ctime); e.Ctime == 0 {
				last = time.Now().UnixNano() // nothing is proven here
			}
		}
	})
	for i, s := range sums {
		binary.BigEndian.PutUint64(look[8*i:], s)
	}
	return look, last, err
}

// keptFolder is the build that was taken from a folder before, where the folder provably is as it
// was then; nil where it is not.
func (aq *Acquirer) keptFolder(l *locker.Locker, c *resolve.Candidate) *locker.Set {
	var n folderNote
	b, err := tree.ReadOwn(noteOf(l, c.Folder))
	if err != nil || json.Unmarshal(b, &n) != nil || !l.Has(locker.Builds, n.Set) {
		return nil
	}
	look, last, err := lookAt(c.Folder)
	if err != nil || look != n.Look || !(tree.Entry{Ctime: last}).Settled(n.Read) {
		return nil
	}
	set, err := l.Read(locker.Builds, n.Set)
	if err != nil || (c.Version != "" && c.Version != set.Version) {
		return nil
	}
	return set
}

// noteFolder notes which build a folder gave. What is there now must be what was there when it
// was looked at before it was read.
func noteFolder(l *locker.Locker, folder string, before tree.Sum, read int64, set string) {
	look, _, err := lookAt(folder)
	if err != nil || look != before {
		return
	}
	at := noteOf(l, folder)
	if b, err := json.Marshal(folderNote{set, look, read}); err == nil && os.MkdirAll(filepath.Dir(at), 0o700) == nil {
		tree.WriteFile(at, b, 0o600)
	}
}
