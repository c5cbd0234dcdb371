package locker

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"
)

// PathOf is the file that a set has, or would have.
func (l *Locker) PathOf(owner, id string) (string, error) {
	for _, s := range []string{owner, id} {
		if s == "" || strings.ContainsAny(s, `/\:`) || strings.HasPrefix(s, ".") {
			return "", fmt.Errorf("%q: %w", id, set.ErrNoSet)
		}
	}
	return filepath.Join(l.dir, "sets", owner, id+".set"), nil
}

// Path is the file of a set that is to be read, brought here if need be.
func (l *Locker) Path(owner, id string) (string, error) {
	p, err := l.PathOf(owner, id)
	if err != nil {
		return "", err
	}
	came, err := l.files.Have(owner, id, p)
	if err == nil && came {
		err = l.refresh()
	}
	return p, err
}

// Has tells whether a set is stored.
func (l *Locker) Has(owner, id string) bool {
	p, err := l.PathOf(owner, id)
	if err != nil {
		return false
	}
	_, err = os.Stat(p)
	return err == nil
}

// Read reads a whole set. A set that is not there gives ErrNoSet.
func (l *Locker) Read(owner, id string) (*set.Set, error) {
	p, err := l.Path(owner, id)
	if err != nil {
		return nil, err
	}
	stored, err := set.Read(p)
	if err == nil && l.others {
		if err = set.Contained(stored.Entries); err != nil {
			err = &set.Damage{Where: p, Why: err.Error()}
		}
	}
	return stored, l.shown(err)
}

// Head reads a set without its entries. One that is not there gives ErrNoSet.
func (l *Locker) Head(owner, id string) (*set.Set, error) {
	p, err := l.Path(owner, id)
	if err != nil {
		return nil, err
	}
	head, err := set.HeadOf(p)
	return head, l.shown(err)
}

// Heads lists an owner's sets without their entries, oldest first. One whose
// head can't be read is listed with its damage.
func (l *Locker) Heads(owner string) ([]*set.Set, error) {
	if _, err := l.PathOf(owner, "x"); err != nil {
		return nil, err
	}
	return l.files.Heads(owner)
}

// Owners lists whose sets there are: Builds, and the servers.
func (l *Locker) Owners() ([]string, error) { return l.files.Owners() }

// ID is the locker's own name, made when it is first needed.
func (l *Locker) ID() (string, error) {
	at := filepath.Join(l.dir, "id")
	if b, err := tree.ReadOwn(at); err == nil && len(bytes.TrimSpace(b)) > 0 {
		return string(bytes.TrimSpace(b)), nil
	}
	id := "locker-" + NewName()
	return id, tree.WriteFile(at, []byte(id+"\n"), 0o600)
}

// NewName is a name that nothing else has.
func NewName() string {
	var b [8]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// Base opens a set as the base of a pass. Damage in it is found out here or while
// it is read.
func (l *Locker) Base(owner, id string) (*set.Base, error) { return l.openSet(owner, id, set.Open) }

// Look is Base for whoever only goes through it once: it is good for no pass, and takes
// the room of a few blocks.
func (l *Locker) Look(owner, id string) (*set.Base, error) { return l.openSet(owner, id, set.Look) }

func (l *Locker) openSet(owner, id string, open func(path string) (*set.Base, error)) (*set.Base, error) {
	p, err := l.Path(owner, id)
	if err != nil {
		return nil, err
	}
	b, err := open(p)
	return b, l.shown(err)
}

// Each reads the entries of a set one after the other, a block in memory at a time.
func (l *Locker) Each(owner, id string, each func(*set.File)) error {
	b, err := l.Look(owner, id)
	if err != nil {
		return err
	}
	return l.shown(b.Each(owner+"/"+id, each))
}
