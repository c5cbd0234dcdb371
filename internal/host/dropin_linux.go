package host

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"freshkeel/internal/tree"

	"golang.org/x/sys/unix"
)

// unitName is a service's name, as systemd.unit(5) allows it.
var unitName = regexp.MustCompile(`^[A-Za-z0-9:_.@\\-]+\.service$`)

// dropInFile is where a drop-in of ours stands.
func (b *bus) dropInFile() (string, error) {
	if !unitName.MatchString(b.name) {
		return "", fmt.Errorf("%q is no service's name", b.name)
	}
	dir := "/etc/systemd/system"
	if b.user {
		own, err := os.UserConfigDir()
		if err != nil {
			return "", err
		}
		dir = filepath.Join(own, "systemd/user")
	}
	return filepath.Join(dir, b.name+".d", dropInName), nil
}

// over reads the drop-in of ours, and the lines that it stands over.
func (b *bus) over(ctx context.Context) (*Over, error) {
	at, err := b.dropInFile()
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
	if err := tree.SyncDir(existing(filepath.Dir(o.File))); err != nil {
		return err
	}
	c, err := b.conn()
	if err != nil {
		return err
	}
	return b.allowed(c.ReloadContext(ctx))
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
