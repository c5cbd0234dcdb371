package inventory

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"

	"freshkeel/internal/install"
	"freshkeel/internal/tree"
)

const format = "freshkeel-inventory/2"

// Kept is the inventory of one install, as it is kept in a file there.
type Kept struct{ *install.Install }

// New is the inventory of an install.
func New(in *install.Install) *Kept { return &Kept{in} }

// File is the full path of the inventory's file.
func (kp *Kept) File() string { return kp.State("inventory.json") }

// Scan begins to read the inventory; it is empty where there is none yet.
func (kp *Kept) Scan() (*Scanner, error) {
	s, err := Open(kp.File())
	if errors.Is(err, fs.ErrNotExist) {
		return &Scanner{Head: &Inventory{Format: format}, ended: true}, nil
	}
	return s, err
}

// Read reads the inventory whole, all files in memory: see Scan and Head for less.
func (kp *Kept) Read() (*Inventory, error) {
	s, err := kp.Scan()
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return s.all()
}

// Head is the head of the inventory alone: which version, and from where.
func (kp *Kept) Head() (*Inventory, error) {
	s, err := kp.Scan()
	if err != nil {
		return nil, err
	}
	s.Close()
	return s.Head, nil
}

// Rewrite changes the inventory's head, and leaves its files as they are.
func (kp *Kept) Rewrite(change func(head *Inventory)) error {
	s, err := kp.Scan()
	if err != nil {
		return err
	}
	defer s.Close()
	change(s.Head)
	return s.CopyTo(kp.File(), nil)
}

// Scanner reads an inventory's file by file, in the order of their paths.
type Scanner struct {
	Head *Inventory // but for its Files

	path  string
	f     io.Closer
	r     *bufio.Reader
	line  int
	o     Owned
	last  string // path of the file before
	ended bool
	err   error
}

// Open begins to read the inventory at path.
func Open(path string) (*Scanner, error) {
	f, err := tree.OpenRegular(path)
	if err != nil {
		return nil, err
	}
	s, err := scan(f, path)
	if err != nil {
		f.Close()
		return nil, err
	}
	s.f = f
	return s, nil
}

func scan(r io.Reader, path string) (*Scanner, error) {
	s := &Scanner{path: path, r: bufio.NewReaderSize(r, 64<<10), line: 1}
	line, err := s.r.ReadBytes('\n')
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", path, err)
	}
	s.Head = &Inventory{}
	if err := json.Unmarshal(line, s.Head); err != nil || s.Head.Format != format {
		return nil, fmt.Errorf("read %s: not an inventory of format %s (%v)", path, format, err)
	}
	return s, nil
}

// Next is the next file; nil at the end, and where Err says why not. It holds until
// Next is called again.
func (s *Scanner) Next() *Owned {
	if s.ended || s.err != nil {
		return nil
	}
	s.line++
	line, err := s.r.ReadSlice('\n')
	switch {
	case errors.Is(err, io.EOF):
		s.err = s.wrong(errors.New("it is cut short"))
	case err != nil:
		s.err = s.wrong(err)
	case bytes.HasPrefix(line, []byte(`{"end":`)):
		s.ended = true
	default:
		if s.o, err = readOwned(line[:len(line)-1]); err != nil {
			s.err = s.wrong(err)
		} else if !tree.Local(s.o.Path) {
			s.err = s.wrong(fmt.Errorf("%q is no path of the install", s.o.Path))
		} else if s.o.Path <= s.last {
			s.err = s.wrong(fmt.Errorf("%q does not come after %q", s.o.Path, s.last))
		}
		s.last = s.o.Path
	}
	if s.ended || s.err != nil {
		return nil
	}
	return &s.o
}

func (s *Scanner) wrong(err error) error {
	return fmt.Errorf("read %s: line %d: %w", s.path, s.line, err)
}

// Err is why Next came to an end before the inventory's.
func (s *Scanner) Err() error { return s.err }

// Close lets go of the file.
func (s *Scanner) Close() {
	if s.f != nil {
		s.f.Close()
		s.f = nil
	}
}

func (s *Scanner) all() (*Inventory, error) {
	for o := s.Next(); o != nil; o = s.Next() {
		s.Head.Files = append(s.Head.Files, *o)
	}
	return s.Head, s.err
}

// Spelled is the rest of the inventory in the order of paths, each as the install spells
// it: next is nil at the end, and where Err says why not.
func (s *Scanner) Spelled(as tree.Spelling) (next func() *Owned, err error) {
	if as.Free() {
		return s.Next, nil
	}
	var all []Owned
	for o := s.Next(); o != nil; o = s.Next() {
		o.Path = as.Of(o.Path)
		all = append(all, *o)
	}
	slices.SortStableFunc(all, func(a, b Owned) int { return strings.Compare(a.Path, b.Path) })
	n := -1
	return func() *Owned {
		for n++; n+1 < len(all) && all[n+1].Path == all[n].Path; n++ { // the last of one name counts
		}
		if n >= len(all) {
			return nil
		}
		return &all[n]
	}, s.Err()
}

// CopyTo writes the head, and what is left of the files, each as change leaves it, to
// another file; nil changes nothing. The file at path is replaced at once, at the end, and the scanner is closed by
// then: path may be the very file that it reads, which Windows replaces only where nobody has it open.
func (s *Scanner) CopyTo(path string, change func(*Owned)) error {
	return WriteBy(path, s.Head, func(add func(*Owned) error) error {
		for o := s.Next(); o != nil; o = s.Next() {
			if change != nil {
				change(o)
			}
			if err := add(o); err != nil {
				return err
			}
		}
		s.Close()
		return s.err
	})
}

// Load reads the inventory at path whole.
func Load(path string) (*Inventory, error) {
	s, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return s.all()
}

// readOwned reads the line of one file: of the shape that appendOwned writes,
// else by the JSON package.
func readOwned(line []byte) (o Owned, err error) {
	c := tree.Line{Rest: line}
	if c.Entry(&o.Entry) {
		if c.Is(`,"sum":"`) {
			c.Sum(&o.Sum)
		}
		if c.Is(`,"layer":"`) {
			o.Layer = c.Text()
		}
		if c.Is(`,"seen_at":`) {
			o.SeenAt = c.Signed()
		}
		if c.End() {
			return o, nil
		}
	}
	o = Owned{}
	return o, json.Unmarshal(line, &o)
}

// Write replaces the inventory at path.
func Write(path string, inv *Inventory) error {
	slices.SortFunc(inv.Files, func(a, b Owned) int { return strings.Compare(a.Path, b.Path) })
	return WriteBy(path, inv, func(add func(*Owned) error) error {
		for i := range inv.Files {
			if err := add(&inv.Files[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// WriteBy replaces the inventory at path by a head and the files that files adds, in the
// order of their paths.
func WriteBy(path string, head *Inventory, files func(add func(*Owned) error) error) error {
	head.Format = format
	return tree.WriteBy(path, 0o600, func(w io.Writer) error {
		b, err := json.Marshal(head)
		if err != nil {
			return err
		}
		if _, err := w.Write(append(b, '\n')); err != nil {
			return err
		}
		n := 0
		if err := files(func(o *Owned) error {
			n++
			if b, err = appendOwned(b[:0], o); err != nil {
				return err
			}
			_, err := w.Write(b)
			return err
		}); err != nil {
			return err
		}
		_, err = fmt.Fprintf(w, "{\"end\":%d}\n", n)
		return err
	})
}

// appendOwned appends the line of one file.
func appendOwned(b []byte, o *Owned) ([]byte, error) {
	if !tree.Plain(o.Path) || !tree.Plain(o.Target) || !tree.Plain(o.Layer) {
		line, err := json.Marshal(o)
		return append(append(b, line...), '\n'), err
	}
	b = tree.AppendEntry(b, &o.Entry)
	if !o.Sum.IsZero() {
		b = tree.AppendSum(append(b, `,"sum":`...), &o.Sum)
	}
	if o.Layer != "" {
		b = append(append(append(b, `,"layer":"`...), o.Layer...), '"')
	}
	return append(tree.AppendNumber(b, `,"seen_at":`, o.SeenAt), "}\n"...), nil
}
