package host

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"freshkeel/internal/tree"
	"freshkeel/internal/words"

	"golang.org/x/sys/unix"
)

// unitFolder is where units of an administrator's, or of a user's own, stand.
func (b *bus) unitFolder() (string, error) {
	if !words.IsUnit(b.name) {
		return "", fmt.Errorf("%q is no service's name", b.name)
	}
	if !b.user {
		return "/etc/systemd/system", nil
	}
	own, err := os.UserConfigDir()
	return filepath.Join(own, "systemd/user"), err
}

// dropInFile is where a drop-in of ours stands.
func (b *bus) dropInFile(name string) (string, error) {
	dir, err := b.unitFolder()
	return filepath.Join(dir, b.name+".d", name), err
}

// over reads the drop-in of ours, and the lines that it stands over.
func (b *bus) over(ctx context.Context) (*Over, error) {
	at, err := b.dropInFile(dropInName)
	if err != nil {
		return nil, err
	}
	u, err := b.unit(ctx)
	if err != nil {
		return nil, err
	}
	o := &Over{File: at}
	var texts []string
	for _, f := range append([]string{u.File}, u.Laid...) {
		if f == "" || f == at {
			continue
		}
		text, err := tree.ReadUpTo(f, mostUnit)
		if err != nil {
			return nil, err
		}
		texts = append(texts, string(text))
	}
	o.Now = baseLines(texts...)
	text, err := tree.ReadUpTo(at, mostUnit)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return o, nil
	case err != nil:
		return nil, err
	}
	var ours bool
	if o.Words, o.Base, ours = readDropIn(string(text)); !ours {
		return nil, fmt.Errorf("%s was written or changed by somebody else, and is not touched", at)
	}
	return o, nil
}

func (b *bus) mayWrite(ctx context.Context) error {
	if asks() && !b.user {
		return askRoot(asked{Unit: b.name, Do: "may write"})
	}
	o, err := b.over(ctx)
	if err != nil {
		return err
	}
	u, err := b.unit(ctx)
	if err != nil {
		return err
	}
	if u.Odd != "" {
		return errors.New(u.Odd)
	}
	if err := unix.Access(existing(filepath.Dir(o.File)), unix.W_OK); err != nil {
		return fmt.Errorf("%s can't be written: %w", o.File, err)
	}
	return nil
}

// write has the unit run words by a drop-in, or takes that away, and has the manager read its
// units anew.
func (b *bus) write(ctx context.Context, words []string) error {
	if asks() && !b.user {
		return askRoot(asked{Unit: b.name, Do: "write", Words: words})
	}
	o, err := b.over(ctx)
	if err != nil {
		return err
	}
	u, err := b.unit(ctx)
	if err != nil {
		return err
	}
	if len(words) == 0 {
		if err := os.Remove(o.File); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		os.Remove(filepath.Dir(o.File)) // where nothing else is in it
	} else {
		if err := fullPath(words); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(o.File), 0o755); err != nil {
			return err
		}
		if err := tree.WriteFile(o.File, []byte(dropIn(words, u.Lenient, o.Now)), 0o644); err != nil {
			return err
		}
	}
	return b.reload(ctx, filepath.Dir(o.File))
}

// reload flushes a folder of units and has the manager read its units anew.
func (b *bus) reload(ctx context.Context, dir string) error {
	if err := tree.SyncDir(existing(dir)); err != nil {
		return err
	}
	c, err := b.conn()
	if err != nil {
		return err
	}
	return b.allowed(c.ReloadContext(ctx))
}

func (b *bus) mayGuard(ctx context.Context) error {
	if asks() && !b.user {
		return askRoot(asked{Unit: b.name, Do: "may guard"})
	}
	at, err := b.dropInFile(guardName)
	if err != nil {
		return err
	}
	if err := unix.Access(existing(filepath.Dir(at)), unix.W_OK); err != nil {
		return fmt.Errorf("%s can't be written: %w", at, err)
	}
	return nil
}

// guard lays what keeps the unit from starting while a mark stands, or takes it away. The unit that makes
// files whole is left out where only the drop-in may be written.
func (b *bus) guard(ctx context.Context, g *Guarding) error {
	if asks() && !b.user {
		if g == nil {
			return askRoot(asked{Unit: b.name, Do: "unguard"})
		}
		return askRoot(asked{Unit: b.name, Do: "guard", Guard: g})
	}
	folder, err := b.unitFolder()
	if err != nil {
		return err
	}
	at, settle := filepath.Join(folder, b.name+".d", guardName), filepath.Join(folder, settleName(b.name))
	if g == nil {
		gone := 0
		for _, f := range []string{at, settle} {
			switch err := removeOurs(f); {
			case err == nil:
				gone++
			case !errors.Is(err, fs.ErrNotExist):
				return err
			}
		}
		if gone == 0 {
			return nil
		}
		os.Remove(filepath.Dir(at)) // where nothing else is in it
		return b.reload(ctx, filepath.Dir(at))
	}
	if err := g.check(); err != nil {
		return err
	}
	for _, f := range []string{at, settle} {
		if err := ours(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	settles := unix.Access(folder, unix.W_OK) == nil || errors.Is(unix.Access(folder, unix.F_OK), fs.ErrNotExist)
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return err
	}
	if settles {
		if err := tree.WriteFile(settle, []byte(settleUnit(*g)), 0o644); err != nil {
			return err
		}
	}
	if err := tree.WriteFile(at, []byte(guardDropIn(b.name, *g, settles)), 0o644); err != nil {
		return err
	}
	if err := b.reload(ctx, filepath.Dir(at)); err != nil {
		return err
	}
	u, err := b.unit(ctx)
	if err == nil && !u.Guarded(g.Mark) {
		err = fmt.Errorf("%s was written, and the manager of %s does not go by it", at, b.name)
	}
	return err
}

// ours looks whether a file begins as one that a guard is made of.
func ours(at string) error {
	text, err := tree.ReadUpTo(at, mostUnit)
	if err == nil && !strings.HasPrefix(string(text), guardMark) {
		err = fmt.Errorf("%s was written by somebody else, and is not touched", at)
	}
	return err
}

func removeOurs(at string) error {
	if err := ours(at); err != nil {
		return err
	}
	return os.Remove(at)
}

// existing is the nearest folder above that is there.
func existing(dir string) string {
	for {
		if _, err := os.Stat(dir); err == nil || dir == "/" {
			return dir
		}
		dir = filepath.Dir(dir)
	}
}

// fullPath refuses words that begin with anything but a full path: a sign in front of one would be a
// rule, that it runs as root, say.
func fullPath(words []string) error {
	if len(words) == 0 || !strings.HasPrefix(words[0], "/") {
		return fmt.Errorf("%q is no full path", words[0])
	}
	return nil
}
