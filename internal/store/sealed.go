package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"filippo.io/age"
)

// ending is what a sealed object's name has more.
const ending = ".age"

// Sealed is a Store whose objects are encrypted by age (age-encryption.org/v1)
// for some recipients. Without an identity it can be written to and not read.
type Sealed struct {
	s          Store
	recipients []age.Recipient
	identities []age.Identity
}

// Seal encrypts what is put into a store. recipients are age's public keys, a
// line each ("age1…"); identity is the text of an age identity file, "" where
// nothing is to be read.
func Seal(s Store, recipients []string, identity string) (*Sealed, error) {
	out := &Sealed{s: s}
	if len(recipients) > 0 {
		list, err := age.ParseRecipients(strings.NewReader(strings.Join(recipients, "\n")))
		if err != nil {
			return nil, fmt.Errorf("a recipient can't be read: %w", err)
		}
		out.recipients = list
	}
	if identity != "" {
		list, err := age.ParseIdentities(strings.NewReader(identity))
		if err != nil { // what it says may quote the file
			return nil, errors.New("it is not a file of age identities: it should have a line that begins with AGE-SECRET-KEY-")
		}
		out.identities = list
	}
	return out, nil
}

// CheckRecipient tells whether a text is an age recipient.
func CheckRecipient(s string) error {
	_, err := age.ParseRecipients(strings.NewReader(s))
	return err
}

// Where is the store's.
func (s *Sealed) Where() string { return s.s.Where() }

// Readable tells whether there is an identity to read with.
func (s *Sealed) Readable() bool { return len(s.identities) > 0 }

// List names what is sealed, by the names without their ending.
func (s *Sealed) List(ctx context.Context, prefix string) (out []Object, err error) {
	list, err := s.s.List(ctx, prefix)
	for _, o := range list {
		if name, is := strings.CutSuffix(o.Name, ending); is {
			out = append(out, Object{name, o.Size})
		}
	}
	return out, err
}

// Put encrypts into a file of this machine first, since a store wants to know how
// long an object is.
func (s *Sealed) Put(ctx context.Context, name string, r io.ReaderAt, plain int64) error {
	tmp, err := os.CreateTemp("", "freshkeel-*"+ending)
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	os.Remove(tmp.Name()) // where a file that is open can go, a kill leaves nothing
	w, err := age.Encrypt(tmp, s.recipients...)
	if err != nil {
		return err
	}
	if _, err := io.Copy(w, io.NewSectionReader(r, 0, plain)); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	size, err := tmp.Seek(0, io.SeekCurrent)
	if err != nil {
		return err
	}
	return s.s.Put(ctx, name+ending, tmp, size)
}

// Get decrypts. What was changed by a hand that has no key is an error.
func (s *Sealed) Get(ctx context.Context, name string) (io.ReadCloser, error) {
	if !s.Readable() {
		return nil, &Unreachable{Where: s.Where(), Why: "what is there is encrypted, and no identity was given",
			Do: "--identity FILE, the age identity that belongs to the recipient"}
	}
	r, err := s.s.Get(ctx, name+ending)
	if err != nil {
		return nil, err
	}
	plain, err := age.Decrypt(r, s.identities...)
	if err != nil {
		r.Close()
		if none := (*age.NoIdentityMatchError)(nil); errors.As(err, &none) {
			return nil, &Unreachable{Where: s.Where(), Why: "what is there is encrypted for another identity",
				Do: "--identity FILE with the one that belongs to the recipient"}
		}
		return nil, fmt.Errorf("%s can't be decrypted: %w", name+ending, err)
	}
	return struct {
		io.Reader
		io.Closer
	}{plain, r}, nil
}

// Remove removes.
func (s *Sealed) Remove(ctx context.Context, name string) error { return s.s.Remove(ctx, name+ending) }
