package backups

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"freshkeel/internal/acquire"
	"freshkeel/internal/fetch"
	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/words"

	"github.com/klauspost/compress/zip"
	"github.com/klauspost/compress/zstd"
)

// Export writes a backup as an archive that ordinary tools open: a tar in
// zstd where the name ends in .tar.zst, a .zip, or a plain .tar. told is what the
// format can't hold.
func (sh *Shelf) Export(ctx context.Context, id, to string) (files int, told []string, err error) {
	s, err := sh.ReadMeant(id)
	if err != nil {
		return 0, nil, err
	}
	l, err := sh.Locker()
	if err != nil {
		return 0, nil, err
	}
	write := map[string]func(context.Context, io.Writer, *locker.Locker, *locker.Set) error{".tar": writeTar,
		".zip": writeZip, ".zst": writeTarZst}[strings.ToLower(filepath.Ext(to))]
	if write == nil {
		return 0, nil, tell.Misuse(fmt.Sprintf("%s: its ending does not say which kind of archive it is to be", to),
			"name it FILE.tar.zst, FILE.tar or FILE.zip")
	}
	if _, err := os.Lstat(to); err == nil {
		return 0, nil, tell.Misuse(to+" is there already", "name a file that does not exist yet")
	}
	if err := install.Settled(filepath.Dir(to)); err != nil {
		return 0, nil, err
	}
	_, err = sh.Step("export", func() (string, error) {
		tmp, err := os.CreateTemp(filepath.Dir(to), ".export-*")
		if err != nil {
			return "", err
		}
		defer os.Remove(tmp.Name())
		defer tmp.Close()
		if err := write(ctx, tmp, l, s); err != nil {
			return "", err
		}
		if err := errors.Join(tmp.Sync(), tmp.Close()); err != nil {
			return "", err
		}
		if err := tree.Rename(tmp.Name(), to); err != nil {
			return "", err
		}
		return words.Plural(s.Files, "file"), tree.SyncDir(filepath.Dir(to))
	})
	if names := Forbidden(s.Entries); len(names) > 0 {
		told = append(told, "Windows can't have these names: "+words.Some(names, 4))
	}
	return s.Files, told, err
}

// Forbidden lists the paths that Windows can't have.
func Forbidden(entries []locker.File) (out []string) {
	for _, f := range entries {
		if tree.WindowsForbids(f.Path) {
			out = append(out, f.Path)
		}
	}
	return out
}

func writeTarZst(ctx context.Context, out io.Writer, l *locker.Locker, s *locker.Set) error {
	z, err := zstd.NewWriter(out, zstd.WithWindowSize(1<<20), zstd.WithEncoderConcurrency(2))
	if err != nil {
		return err
	}
	return errors.Join(writeTar(ctx, z, l, s), z.Close())
}

func writeTar(ctx context.Context, out io.Writer, l *locker.Locker, s *locker.Set) error {
	t := tar.NewWriter(out)
	r := l.Reader() // one for all: neighbours lie in one frame
	defer r.Close()
	for _, f := range s.Entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		h := &tar.Header{Name: f.Path, Mode: int64(f.Mode.Perm()), Size: f.Size, Linkname: f.Target,
			ModTime: time.Unix(0, f.Mtime), Uid: max(f.UID.Int(), 0), Gid: max(f.GID.Int(), 0), Format: tar.FormatPAX,
			Typeflag: tar.TypeReg}
		for bit, as := range map[fs.FileMode]int64{fs.ModeSetuid: 0o4000, fs.ModeSetgid: 0o2000,
			fs.ModeSticky: 0o1000} {
			if f.Mode&bit != 0 {
				h.Mode |= as
			}
		}
		// the other format holds any bytes, and whole seconds
		if !utf8.ValidString(f.Path) || !utf8.ValidString(f.Target) {
			h.Format, h.ModTime = tar.FormatGNU, h.ModTime.Truncate(time.Second)
		}
		switch f.Kind {
		case tree.Dir:
			h.Typeflag, h.Name = tar.TypeDir, f.Path+"/"
		case tree.Link:
			h.Typeflag = tar.TypeSymlink
		}
		if err := t.WriteHeader(h); err != nil {
			return fmt.Errorf("export %s: %w", f.Path, err)
		}
		if f.Kind == tree.File {
			if err := r.Copy(t, f); err != nil {
				return err
			}
		}
	}
	return t.Close()
}

func writeZip(ctx context.Context, out io.Writer, l *locker.Locker, s *locker.Set) error {
	z := zip.NewWriter(out)
	r := l.Reader()
	defer r.Close()
	for _, f := range s.Entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		h := &zip.FileHeader{Name: f.Path, Method: zip.Deflate, Modified: time.Unix(0, f.Mtime),
			NonUTF8: !utf8.ValidString(f.Path)}
		h.SetMode(f.Mode)
		switch f.Kind {
		case tree.Dir:
			h.Name += "/"
			h.SetMode(f.Mode | fs.ModeDir)
			h.Method = zip.Store
		case tree.Link:
			h.SetMode(f.Mode | fs.ModeSymlink)
		}
		w, err := z.CreateHeader(h)
		if err != nil {
			return fmt.Errorf("export %s: %w", f.Path, err)
		}
		switch f.Kind {
		case tree.File:
			err = r.Copy(w, f)
		case tree.Link:
			_, err = io.WriteString(w, f.Target)
		}
		if err != nil {
			return err
		}
	}
	return z.Close()
}

// TakeIn stores what a folder or an archive holds, but for Fresh Keel's own files.
func (sh *Shelf) TakeIn(ctx context.Context, w *locker.Writer, from string, fi fs.FileInfo) (*locker.Taken, error) {
	if fi.IsDir() {
		list, err := tree.Walk(from, nil)
		if err != nil {
			return nil, err
		}
		own := 0
		list = slices.DeleteFunc(list, func(e tree.Entry) bool {
			if profile.Reserved(e.Path) {
				own++
			}
			return profile.Reserved(e.Path)
		})
		if own > 0 {
			sh.Note("left out of %s, since they are Fresh Keel's own: %s", from, words.Plural(own, "file"))
		}
		return w.TakeList(ctx, from, list, nil, sh.Moves("import"))
	}
	work, err := os.MkdirTemp("", "freshkeel-import-") // for archives that can't be read in one go
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(work)
	v := &fetch.Verified{Path: from, URL: from, Name: filepath.Base(from), Size: fi.Size()}
	rule := unpack.Rule{}
	top, err := sh.acq.Wrapper(ctx, v, rule, work)
	if err != nil {
		return nil, err
	}
	if top != "" {
		sh.Note("everything in %s lies in one folder, %s: its content is taken", v.Name, top)
		rule.Strip = 1
	}
	var mu sync.Mutex
	var got []locker.File // names are held apart while it is opened
	left := 0
	all, err := unpack.Unpacked(ctx, v, rule, work, func(it unpack.Item) error {
		if profile.Reserved(it.Path) {
			mu.Lock()
			defer mu.Unlock()
			left++
			return nil
		}
		f := locker.File{}
		if it.Body != nil {
			var err error
			if f, err = w.Add(ctx, it.Body, nil); err != nil {
				return err
			}
		}
		mu.Lock()
		defer mu.Unlock()
		got = append(got, acquire.EntryOf(f, it, it.Path))
		return nil
	})
	if err != nil {
		return nil, err
	}
	if left += len(all.LeftOut); left > 0 {
		sh.Note("left out of %s, since they are Fresh Keel's own: %s", v.Name, words.Plural(left, "file"))
	}
	slices.SortFunc(got, func(a, b locker.File) int { return strings.Compare(a.Path, b.Path) })
	return &locker.Taken{Entries: got}, nil
}
