package fetch

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"aead.dev/minisign"
	"github.com/zeebo/blake3"
)

var digests = map[string]func() hash.Hash{
	"sha256": sha256.New,
	"sha512": sha512.New,
	"blake3": func() hash.Hash { return blake3.New() },
	"sha1":   sha1.New,
	"md5":    md5.New,
}

// Weak tells whether a digest no longer withstands somebody who means harm. It
// still tells a damaged download.
func Weak(name string) bool { return name == "sha1" || name == "md5" }

// Digest reads a digest as makers write it, in hex or base64, alone or behind its name
// ("sha512-…" of Subresource Integrity, section 3.5, or "sha512:…"), and gives it in hex.
func Digest(name, written string) (hexs string, err error) {
	h, ok := digests[name]
	if !ok {
		return "", fmt.Errorf("digest %q is not known; sha256, sha512, blake3, sha1 and md5 are", name)
	}
	for _, word := range strings.Fields(written) { // of several, that of this name
		if tag, rest, tagged := cutTag(word); tagged && tags[strings.ToLower(tag)] != name {
			continue
		} else if tagged {
			word = rest
		}
		word, _, _ = strings.Cut(word, "?") // options of Subresource Integrity
		for _, read := range []func(string) ([]byte, error){hex.DecodeString, base64.StdEncoding.DecodeString,
			base64.RawStdEncoding.DecodeString, base64.URLEncoding.DecodeString, base64.RawURLEncoding.DecodeString} {
			if raw, err := read(word); err == nil && len(raw) == h().Size() {
				return hex.EncodeToString(raw), nil
			}
		}
	}
	return "", fmt.Errorf("%q is no %s digest, which has %d bytes, in hex or base64", written, name, h().Size())
}

// Matches tells whether what r holds has every one of some digests, by their names, in hex, and one
// that withstands somebody who means harm is among them.
func Matches(r io.Reader, want map[string]string) (bool, error) {
	sums, strong := map[string]hash.Hash{}, false
	var all []io.Writer
	for name := range want {
		h, known := digests[name]
		if !known {
			continue
		}
		sums[name], strong = h(), strong || !Weak(name)
		all = append(all, sums[name])
	}
	if !strong {
		return false, nil
	}
	if _, err := io.Copy(io.MultiWriter(all...), r); err != nil {
		return false, err
	}
	for name, h := range sums {
		if hex.EncodeToString(h.Sum(nil)) != want[name] {
			return false, nil
		}
	}
	return true, nil
}

// cutTag parts the name of a digest from its value.
func cutTag(word string) (tag, value string, tagged bool) {
	i := strings.IndexAny(word, "-:")
	if i < 0 || tags[strings.ToLower(word[:i])] == "" {
		return "", word, false
	}
	return word[:i], word[i+1:], true
}

const maxSmall = 8 << 20 // of a checksum list or signature, in bytes

// Beside is the address of a file that stands beside another and is named after
// it: the ending goes before any query.
func Beside(where, ending string) string {
	u, err := url.Parse(where)
	if !IsURL(where) || err != nil {
		return where + ending
	}
	u.Path += ending
	u.RawPath = ""
	return u.String()
}

// sums adds the digests that a sidecar file or checksum list gives for w.
func (c *Client) sums(ctx context.Context, w *Wanted) error {
	if w.Sums == "" {
		return nil
	}
	b, err := c.Document(ctx, w.Sums, maxSmall)
	if err != nil {
		return fmt.Errorf("read the checksums %s: %w", Shown(w.Sums), err)
	}
	name, value, err := digestIn(b, NameOf(w.Sums), w.name())
	if err != nil {
		return fmt.Errorf("read the checksums %s: %w", Shown(w.Sums), err)
	}
	all := map[string]string{name: value}
	for k, v := range w.Digests {
		if k == name && !strings.EqualFold(v, value) {
			return &Wrong{w.URL, "its " + k + " in " + NameOf(w.Sums), v, value}
		}
		all[k] = v
	}
	w.Digests = all
	if w.Key != "" && !Weak(name) {
		// A signed list vouches for what it lists.
		switch err := c.signed(ctx, w.Key, b, Beside(w.Sums, ".minisig")); {
		case err == nil:
			w.vouched = true
			if bytes.Contains(b, []byte(w.name())) { // and not the one digest of whatever file
				w.said = "file:" + w.name()
			}
		case !errors.As(err, new(*unsigned)):
			return err
		}
	}
	return nil
}

var (
	sumLine = regexp.MustCompile(`^\\?([0-9A-Fa-f]{32,128})(?:\s+[ *]?(.+))?$`)           // as sha256sum writes it
	tagLine = regexp.MustCompile(`^([A-Za-z0-9-]+) ?\((.+)\) ?= ?([0-9A-Fa-f]{32,128})$`) // as sha256sum --tag does
	tags    = map[string]string{"sha256": "sha256", "sha2-256": "sha256", "sha512": "sha512", "sha2-512": "sha512",
		"blake3": "blake3", "sha1": "sha1", "md5": "md5"}
	lengths = map[int]string{32: "md5", 40: "sha1", 64: "sha256", 128: "sha512"}
)

// digestIn finds the digest of file in the text of a checksum list named list.
// One line with nothing but a digest is that of the only file meant.
func digestIn(b []byte, list, file string) (name, value string, err error) {
	if looksHTML(b) {
		return "", "", errors.New("an HTML page stands there")
	}
	lines, bare, bareTag := 0, "", ""
	byLength := func(hexs string) string {
		n := lengths[len(hexs)]
		if low := strings.ToLower(list); n == "sha256" &&
			(strings.Contains(low, "b3") || strings.Contains(low, "blake3")) {
			n = "blake3"
		}
		return n
	}
	for s := bufio.NewScanner(bytes.NewReader(b)); s.Scan(); {
		line := strings.TrimSpace(s.Text())
		if line == "" || strings.HasPrefix(line, "#") || strings.HasPrefix(line, "-----") {
			continue
		}
		lines++
		if f := strings.Fields(line); len(f) <= 2 {
			if tag, _, tagged := cutTag(f[0]); tagged &&
				(len(f) == 1 || path.Base(strings.TrimPrefix(f[1], "*")) == file) {
				if hexs, err := Digest(tags[strings.ToLower(tag)], f[0]); err == nil && len(f) == 2 {
					name, value = tags[strings.ToLower(tag)], hexs
				} else if err == nil {
					bare, bareTag = hexs, tags[strings.ToLower(tag)]
				}
				continue
			}
		}
		if m := tagLine.FindStringSubmatch(line); m != nil {
			if path.Base(m[2]) == file && tags[strings.ToLower(m[1])] != "" {
				name, value = tags[strings.ToLower(m[1])], strings.ToLower(m[3])
			}
			continue
		}
		m := sumLine.FindStringSubmatch(line)
		switch {
		case m == nil:
		case m[2] == "":
			bare = strings.ToLower(m[1])
		case path.Base(strings.ReplaceAll(m[2], `\`, "/")) == file:
			name, value = byLength(m[1]), strings.ToLower(m[1])
		}
	}
	if value == "" && bare != "" && lines == 1 {
		name, value = cmp.Or(bareTag, byLength(bare)), bare
	}
	if value == "" || name == "" {
		return "", "", fmt.Errorf("it has no digest for %s", file)
	}
	value, err = Digest(name, value)
	return name, value, err
}

// unsigned says that no signature stands where one should.
type unsigned struct{ at string }

func (u *unsigned) Error() string {
	return fmt.Sprintf("it is not signed: no signature stands at %s, and [source] key asks for one", Shown(u.at))
}

// maxLegacy bounds what is held in memory for a signature over the whole
// content; those over its hash (the standard since minisign 0.8) need nothing.
const maxLegacy = 48 << 20

func (c *Client) signature(ctx context.Context, at string) ([]byte, error) {
	sig, err := c.Document(ctx, at, maxSmall)
	if status := (*Status)(nil); errors.As(err, &status) &&
		(status.Code == http.StatusNotFound || status.Code == http.StatusGone) || errors.Is(err, os.ErrNotExist) {
		return nil, final{&unsigned{at}}
	}
	if err != nil {
		return nil, fmt.Errorf("read the signature %s: %w", Shown(at), err)
	}
	return sig, nil
}

// signed holds b against the signature at an address.
func (c *Client) signed(ctx context.Context, key string, b []byte, at string) error {
	sig, err := c.signature(ctx, at)
	if err != nil {
		return err
	}
	return verifySignature(key, bytes.NewReader(b), int64(len(b)), sig)
}

// CheckSigned holds a document that was read from an address against the
// signature beside it.
func (c *Client) CheckSigned(ctx context.Context, key string, b []byte, where string) error {
	return c.signed(ctx, key, b, Beside(where, ".minisig"))
}

// signedComment is the trusted comment of a signature that was verified.
func signedComment(sig []byte) string {
	var s minisign.Signature
	if s.UnmarshalText(sig) != nil {
		return ""
	}
	return s.TrustedComment
}

// verifySignature checks a minisign signature: its format is that of the
// minisign page, "Signature format".
func verifySignature(key string, r io.Reader, size int64, sig []byte) error {
	pub, err := ParseKey(key)
	if err != nil {
		return final{err}
	}
	var s minisign.Signature
	if err := s.UnmarshalText(sig); err != nil {
		return final{fmt.Errorf("its signature can't be read: %w", err)}
	}
	if s.KeyID != pub.ID() {
		return final{fmt.Errorf("it is signed by another key, %016X; [source] key is %016X", s.KeyID, pub.ID())}
	}
	good := false
	if s.Algorithm == minisign.EdDSA {
		if size > maxLegacy {
			return final{fmt.Errorf("its signature is of the old kind, which needs all of it in memory: it is "+
				"larger than %s", mib(maxLegacy))}
		}
		b, err := io.ReadAll(r)
		if err != nil {
			return err
		}
		good = minisign.Verify(pub, b, sig)
	} else {
		h := minisign.NewReader(r)
		if _, err := io.Copy(io.Discard, h); err != nil {
			return err
		}
		good = h.Verify(pub, sig)
	}
	if !good {
		return final{errors.New("its signature is wrong: these are not the bytes that were signed")}
	}
	return nil
}

// ParseKey reads a minisign public key: the line that begins with RW, alone or
// with its comment.
func ParseKey(text string) (k minisign.PublicKey, err error) {
	for _, line := range strings.Split(text, "\n") {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "RW") {
			if err := k.UnmarshalText([]byte(line)); err != nil {
				return k, fmt.Errorf("%q is not a minisign public key: %w", line, err)
			}
			return k, nil
		}
	}
	return k, errors.New("there is no minisign public key: a line that begins with RW")
}

// KeyMark names a key in what was vouched for by it: "minisign:" and its number;
// "" for none.
func KeyMark(key string) string {
	pub, err := ParseKey(key)
	if key == "" || err != nil {
		return ""
	}
	return fmt.Sprintf("minisign:%016X", pub.ID())
}

// vouchers names what vouches for w, strongest first.
func (w *Wanted) vouchers() (out []string) {
	if w.Key != "" {
		out = append(out, "minisign")
	}
	for name := range w.Digests {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// Unsigned tells whether an error means that no signature stands where one
// should, rather than a wrong one.
func Unsigned(err error) bool { return errors.As(err, new(*unsigned)) }
