// Package set is a stored tree: a build, or a backup. It has the set's head and entries,
// their lines, and the file that they stand in.
package set

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/tree"
)

// setFormat names the format of a set, in its head.
const setFormat = "freshkeel-set/1"

// Builds is the owner of the sets that are builds: all servers share them.
const Builds = "builds"

// Set is a stored tree: a build, or a backup.
type Set struct {
	Format  string    `json:"format"`
	Owner   string    `json:"owner"` // Builds, or the install's identity
	ID      string    `json:"id"`
	Server  string    `json:"server,omitempty"` // the profile's name for it
	Root    string    `json:"root,omitempty"`   // the folder that a backup was taken of
	Version string    `json:"version,omitempty"`
	Channel string    `json:"channel,omitempty"`
	Source  string    `json:"source,omitempty"`  // where a build came from
	Vouched string    `json:"vouched,omitempty"` // what vouched for a build: "minisign:KEY"; "": no signature
	Label   string    `json:"label,omitempty"`
	Vain    []string  `json:"vain,omitempty"` // patterns of the source's rules that matched nothing of a build
	Run     string    `json:"run,omitempty"`  // of the logbook: what it was taken for; "": by hand
	Taken   time.Time `json:"taken"`
	Skipped []string  `json:"skipped,omitempty"` // patterns that a backup left out, as the profile says
	Only    []string  `json:"only,omitempty"`    // of a part: patterns of what was taken
	Left    []string  `json:"left,omitempty"`    // and of what was left out
	Files   int       `json:"files"`
	Bytes   int64     `json:"bytes"`            // of content
	New     int64     `json:"new_bytes"`        // that this set added to the packs, compressed
	Damage  string    `json:"damage,omitempty"` // why it can't be read; never stored

	Entries []File `json:"-"` // sorted by path

	blocks []block // of Entries, where a pass found frames to carry over
}

// Partial tells whether a backup was of a part of the install.
func (s *Set) Partial() bool { return len(s.Only)+len(s.Left) > 0 }

// File is one entry of a set, with the pieces of its content in order.
type File struct {
	tree.Entry
	Sum    tree.Sum   `json:"sum,omitzero"`
	Pieces []tree.Sum `json:"pieces,omitempty"`  // none where there is one: see PieceSums
	ReadAt int64      `json:"read_at,omitempty"` // nanoseconds since 1970, when reading began
	Moving bool       `json:"moving,omitempty"`  // it changed while it was read
	Sparse bool       `json:"sparse,omitempty"`  // it has holes, and gets them back

	Xattr map[string][]byte `json:"xattr,omitempty"` // extended attributes
}

// PieceSums are the hashes of a file's pieces, in order. A file that has a single piece
// lists none: its own hash is that piece's, and most files are such.
func (f *File) PieceSums() []tree.Sum {
	if len(f.Pieces) == 0 && f.Size > 0 && !f.Sum.IsZero() {
		return []tree.Sum{f.Sum}
	}
	return f.Pieces
}

// SameContent tells whether two files are of the same pieces.
func (f *File) SameContent(o *File) bool { return slices.Equal(f.PieceSums(), o.PieceSums()) }

// rawNames carries what JSON can't: names that are not UTF-8, in base64.
type rawNames struct {
	Path   []byte `json:"raw_path,omitempty"`
	Target []byte `json:"raw_target,omitempty"`
}

// Find is the entry with a path; nil where there is none.
func (s *Set) Find(path string) *File {
	i, ok := slices.BinarySearchFunc(s.Entries, path,
		func(f File, path string) int { return strings.Compare(f.Path, path) })
	if !ok {
		return nil
	}
	return &s.Entries[i]
}

// Tally fills the counts from the entries.
func (s *Set) Tally() {
	s.Files, s.Bytes = 0, 0
	for _, f := range s.Entries {
		if f.Kind == tree.File {
			s.Files++
			s.Bytes += f.Size
		}
	}
}

// headLine is a set's first line.
func headLine(s *Set) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	err := enc.Encode(s)
	return b.Bytes(), err
}

func readHead(line []byte) (*Set, error) {
	s := &Set{}
	if err := json.Unmarshal(line, s); err != nil {
		return nil, fmt.Errorf("its head is not JSON: %w", err)
	}
	if s.Format != setFormat {
		return nil, fmt.Errorf("its format is %q, this program reads %q", s.Format, setFormat)
	}
	return s, nil
}

// decodeSet reads a set as one text, wherever its frames end: as any reader of
// its format may.
func decodeSet(r *bufio.Reader, headOnly bool) (*Set, error) {
	line, err := r.ReadBytes('\n')
	if err != nil {
		return nil, fmt.Errorf("its head can't be read: %w", err)
	}
	s, err := readHead(line)
	if err != nil || headOnly {
		return s, err
	}
	s.Entries = make([]File, 0, min(max(s.Files, 0), 1<<16)+16)
	var each lines
	for n := 2; ; n++ {
		line, err := r.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) { // the pieces of a large file
			begun := bytes.Clone(line)
			line, err = r.ReadBytes('\n')
			line = append(begun, line...)
		}
		if errors.Is(err, io.EOF) {
			return nil, errors.New("it is cut short")
		}
		if err != nil {
			return nil, err
		}
		if bytes.HasPrefix(line, []byte(`{"end":`)) {
			var end struct{ End int }
			if err := json.Unmarshal(line, &end); err != nil || end.End != len(s.Entries) {
				return nil, fmt.Errorf("line %d: it has %d entries, its end says otherwise", n, len(s.Entries))
			}
			return s, nil
		}
		f, err := each.parse(line)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		s.Entries = append(s.Entries, f)
	}
}

// SumOfFew fills in the hash of a file that has one piece or none.
func (f *File) SumOfFew() {
	switch len(f.Pieces) {
	case 0:
		f.Sum = tree.SumBytes(nil)
	case 1:
		f.Sum, f.Pieces = f.Pieces[0], nil
	}
}
