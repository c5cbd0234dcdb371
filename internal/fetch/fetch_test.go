package fetch

import (
	"bytes"
	"context"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"aead.dev/minisign"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A server that cuts, changes its mind, is busy, or ignores ranges.
func TestDownloadResumesOnlyTheSameFile(t *testing.T) {
	retryWait = time.Millisecond
	body := bytes.Repeat([]byte("0123456789"), 100_000)
	for name, c := range map[string]struct {
		first  http.HandlerFunc // answers the first request
		etag   string           // afterwards
		ranges string           // that the second request asks
	}{
		"cut, then resumed": {cutAt(body, 300_000, `"one"`), `"one"`, "bytes=300000-"},
		"cut, then changed": {cutAt(bytes.Repeat([]byte("x"), len(body)), 300_000, `"zero"`), `"one"`, "bytes=300000-"},
		"cut, no validator": {cutAt(body, 300_000, ""), "", ""},
		"busy":              {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(503) }, `"one"`, ""},
	} {
		t.Run(name, func(t *testing.T) {
			var asked []string
			srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if asked = append(asked, r.Header.Get("Range")); len(asked) == 1 {
					c.first(w, r)
					return
				}
				if c.etag != "" {
					w.Header().Set("ETag", c.etag)
				}
				http.ServeContent(w, r, "f", time.Time{}, bytes.NewReader(body))
			}))
			defer srv.Close()
			dest := filepath.Join(t.TempDir(), "f")
			v, err := New(Options{}).Download(context.Background(), Wanted{URL: srv.URL + "/f", Size: int64(len(body))},
				dest, nil)
			require.NoError(t, err)
			got, err := os.ReadFile(v.Path)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(body, got), "not spliced of two files")
			assert.Equal(t, []string{"", c.ranges}, asked)
		})
	}
	// What a cut download leaves to be resumed by does not hold what opens it.
	always := httptest.NewServer(cutAt(body, 1000, `"one"`))
	defer always.Close()
	dest := filepath.Join(t.TempDir(), "f")
	_, err := New(Options{}).Download(context.Background(), Wanted{URL: always.URL + "/f?key=swordfish"}, dest, nil)
	assert.ErrorContains(t, err, "cut after")
	assert.NotContains(t, err.Error(), "swordfish")
	kept, err := os.ReadFile(dest + ".from")
	require.NoError(t, err)
	assert.NotContains(t, string(kept), "swordfish")

	srv := httptest.NewServer(http.NotFoundHandler())
	defer srv.Close()
	_, err = New(Options{}).Download(context.Background(), Wanted{URL: srv.URL + "/f"}, filepath.Join(t.TempDir(), "f"),
		nil)
	assert.ErrorContains(t, err, "404", "what is not there is not asked for again")
}

func cutAt(body []byte, n int, etag string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		if etag != "" {
			w.Header().Set("ETag", etag)
		}
		w.Header().Set("Content-Length", fmt.Sprint(len(body)))
		w.Write(body[:n])
		w.(http.Flusher).Flush()
		panic(http.ErrAbortHandler)
	}
}

// Checksum lists as the usual tools write them, and a sidecar with a digest
// alone.
func TestDigestsAreFoundInListsOfEveryKind(t *testing.T) {
	h := strings.Repeat("aB", 32)
	for text, want := range map[string]string{
		h + "\n":                                           "sha256",
		h + "  moss.zip\n":                                 "sha256",
		"# sums\n" + h + " *dir/moss.zip":                  "sha256",
		"SHA256 (moss.zip) = " + h:                         "sha256",
		"BLAKE3 (out/moss.zip) = " + h:                     "blake3",
		h[:32] + "  moss.zip":                              "md5",
		h[:40] + "\tmoss.zip":                              "sha1",
		h + h + "  other.zip\n" + h + h + "  moss.zip\r\n": "sha512",
		h + "  other.zip":                                  "it has no digest for moss.zip",
		h + "\n" + h:                                       "it has no digest for moss.zip",
		"<html>":                                           "an HTML page stands there",
		"sha512-" + base64.StdEncoding.EncodeToString(make([]byte, 64)) + "  moss.zip": "sha512",
		"sha256-" + base64.StdEncoding.EncodeToString(make([]byte, 32)):                "sha256",
		h[:50] + "  moss.zip": "it has no digest for moss.zip",
	} {
		name, value, err := digestIn([]byte(text), "SUMS", "moss.zip")
		if err != nil {
			assert.ErrorContains(t, err, want, text)
			continue
		}
		assert.Equal(t, want, name, text)
		hexs, err := Digest(name, value)
		assert.NoError(t, err)
		assert.Equal(t, value, hexs)
	}
	// Makers write one in hex, in base64, or as a page's integrity attribute has it.
	sum := sha512.Sum512([]byte("moss"))
	in64 := base64.StdEncoding.EncodeToString(sum[:])
	for _, written := range []string{hex.EncodeToString(sum[:]), strings.ToUpper(hex.EncodeToString(sum[:])), in64,
		strings.TrimRight(in64, "="), "sha512-" + in64, "SHA512:" + hex.EncodeToString(sum[:]), "sha256-AAAA sha512-" +
			in64 + "?opt"} {
		hexs, err := Digest("sha512", written)
		require.NoError(t, err, written)
		assert.Equal(t, hex.EncodeToString(sum[:]), hexs)
		_, err = Digest("sha256", written)
		assert.Error(t, err, written)
	}
	name, _, err := digestIn([]byte(h), "moss.zip.b3", "moss.zip")
	require.NoError(t, err)
	assert.Equal(t, "blake3", name)
	assert.Equal(t, "https://h/a.zip.minisig?k=1", Beside("https://h/a.zip?k=1", ".minisig"))
}

// What drips, and what never says how large it is, is given up, each with its own
// words, and leaves nothing behind.
func TestWhatNeverEndsIsGivenUp(t *testing.T) {
	documentTime, slowTime, reserve = 300*time.Millisecond, 300*time.Millisecond, 1<<62
	t.Cleanup(func() { documentTime, slowTime, reserve = 3*time.Minute, 10*time.Minute, 512<<20 })
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		piece, pause := []byte("x"), 10*time.Millisecond
		if r.URL.Path == "/endless" {
			piece, pause = bytes.Repeat([]byte("x"), 1<<20), 0
		}
		for r.Context().Err() == nil {
			if _, err := w.Write(piece); err != nil {
				return
			}
			w.(http.Flusher).Flush()
			time.Sleep(pause)
		}
	}))
	defer srv.Close()
	c := New(Options{})
	_, err := c.Document(t.Context(), srv.URL+"/drip", 1<<20)
	assert.ErrorContains(t, err, "bytes had come after 300ms")
	dest := filepath.Join(t.TempDir(), "f")
	_, err = c.Download(t.Context(), Wanted{URL: srv.URL + "/drip"}, dest, nil)
	assert.ErrorContains(t, err, "the line drips")
	_, err = c.Download(t.Context(), Wanted{URL: srv.URL + "/endless"}, dest, nil)
	assert.ErrorContains(t, err, "expected one that is told, or that the disk has room for")
	assert.NoFileExists(t, dest)
}

// Whatever stands in a list of checksums or a signature, what is found is a digest.
func FuzzVouchers(f *testing.F) {
	f.Add([]byte("d41d8cd98f00b204e9800998ecf8427e  x.zip\n"), "x.zip", "sums")
	f.Add([]byte("SHA256 (x.zip) = e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855\n"), "x.zip",
		"x.sha256")
	f.Add([]byte("untrusted comment: x\nRWQ=\ntrusted comment: y\nAAAA\n"), "x.zip", "x.b3")
	key, _, _ := minisign.GenerateKey(nil)
	text, _ := key.MarshalText()
	f.Fuzz(func(t *testing.T, b []byte, file, list string) {
		if name, value, err := digestIn(b, list, file); err == nil {
			if hexs, err := Digest(name, value); err != nil || hexs != value {
				t.Errorf("%s %q", name, value)
			}
		}
		if err := verifySignature(string(text), bytes.NewReader([]byte("x")), 1, b); err == nil {
			t.Error("a signature by nobody holds")
		}
	})
}
