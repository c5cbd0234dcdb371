package feed

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFeedErrorsSayWhatAndWhere(t *testing.T) {
	build := func(s string) string { return `{"format":"freshkeel-feed/1","builds":[` + s + `]}` }
	for want, text := range map[string]string{
		"an HTML page":                     "<html><body>503",
		"line 2":                           "{\n \"format\": }",
		`its format is "other/1"`:          `{"format":"other/1"}`,
		"build 1: its version is empty":    build(`{"parts":[{"url":"x"}]}`),
		"build 1 (1.0) has no parts":       build(`{"version":"1.0"}`),
		"build 2 (1.0) is listed twice":    build(`{"version":"1.0","parts":[{"url":"x"}]},{"version":"1.0","parts":[{"url":"x"}]}`),
		"not written 2006-01-02":           build(`{"version":"1.0","date":"yesterday","parts":[{"url":"x"}]}`),
		"a part has no url":                build(`{"version":"1.0","parts":[{}]}`),
		`digest "crc" is not known`:        build(`{"version":"1.0","parts":[{"url":"x","digests":{"crc":"00"}}]}`),
		"is not a sha256 digest of 64 hex": build(`{"version":"1.0","parts":[{"url":"x","digests":{"sha256":"00"}}]}`),
		`unpack as "exe"`:                  build(`{"version":"1.0","parts":[{"url":"x","unpack":{"as":"exe"}}]}`),
		`"../up" is not a path inside`:     build(`{"version":"1.0","parts":[{"url":"x","unpack":{"into":"../up"}}]}`),
	} {
		_, err := Parse([]byte(text))
		assert.ErrorContains(t, err, want)
	}
	f, err := Parse([]byte(build(`{"version":"1","channel":"stable","parts":[{"url":"a/b.zip"}]},{"version":"2","channel":"preview","parts":[{"url":"http://x/y"}]}`)))
	require.NoError(t, err)
	newest, _ := f.Newest("")
	assert.Equal(t, "2", newest.Version)
	newest, _ = f.Newest("stable")
	assert.Equal(t, "1", newest.Version)
	for where, want := range map[string]string{"http://h/dir/feed.json": "http://h/dir/a/b.zip", "/srv/feed.json": "/srv/a/b.zip", "file:///srv/feed.json": "/srv/a/b.zip"} {
		f.where = where
		got, err := f.Resolve("a/b.zip")
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
}

func TestVersionsAreOrderedByParts(t *testing.T) {
	inOrder := []string{"0.9", "1", "1.0.1", "1.2", "1.2.0-rc1", "1.2.0-rc2", "1.2.0", "1.10", "2.0-beta", "2.0", "2026.1"}
	for i := range inOrder {
		for j := range inOrder {
			a, b := inOrder[i], inOrder[j]
			if (a == "1.2" && strings.HasPrefix(b, "1.2.0")) || (b == "1.2" && strings.HasPrefix(a, "1.2.0")) {
				continue // 1.2 is 1.2.0
			}
			want := 0
			if i < j {
				want = -1
			} else if i > j {
				want = 1
			}
			assert.Equal(t, want, Compare(a, b), "%s against %s", a, b)
		}
	}
	for name, want := range map[string]string{"mossgate-server-3.4.1.jar": "3.4.1", "/srv/pond-1.2.zip": "1.2", "server_v2.0.1-rc1.tar.gz": "2.0.1-rc1", "pond": "", "pond2": ""} {
		assert.Equal(t, want, VersionIn(name), name)
	}
}

// entry is one entry of a test archive.
type entry struct {
	name, body, link string
	mode             fs.FileMode
}

func zipOf(t *testing.T, entries ...entry) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, e := range entries {
		h := &zip.FileHeader{Name: e.name, Method: zip.Deflate}
		if e.mode != 0 {
			h.SetMode(e.mode)
		}
		w, err := z.CreateHeader(h)
		require.NoError(t, err)
		io.WriteString(w, e.body+e.link)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func tarOf(t *testing.T, entries ...entry) []byte {
	var b bytes.Buffer
	g := gzip.NewWriter(&b)
	w := tar.NewWriter(g)
	for _, e := range entries {
		h := &tar.Header{Name: e.name, Mode: 0o644, Size: int64(len(e.body)), Typeflag: tar.TypeReg}
		switch {
		case e.link != "":
			h.Typeflag, h.Linkname = tar.TypeSymlink, e.link
		case e.mode&fs.ModeDevice != 0:
			h.Typeflag = tar.TypeChar
		case e.mode != 0:
			h.Mode = int64(e.mode)
		}
		require.NoError(t, w.WriteHeader(h))
		io.WriteString(w, e.body)
	}
	require.NoError(t, w.Close())
	require.NoError(t, g.Close())
	return b.Bytes()
}

func unpack(t *testing.T, name string, b []byte, u Unpack) (map[string]Item, map[string]string, error) {
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, b, 0o600))
	items, bodies := map[string]Item{}, map[string]string{}
	err := Unpacked(&Verified{Path: path, URL: path, Size: int64(len(b))}, u, func(it Item) error {
		items[it.Path] = it
		if it.Body != nil {
			c, err := io.ReadAll(it.Body)
			bodies[it.Path] = string(c)
			return err
		}
		return nil
	})
	return items, bodies, err
}

func TestHostileArchivesAreRefusedWholeWithTheEntryNamed(t *testing.T) {
	bomb := strings.Repeat("\x00", 70<<20)
	for name, c := range map[string]struct {
		archive []byte
		entry   string
	}{
		"out.zip":      {zipOf(t, entry{name: "../evil"}), "../evil"},
		"deep.zip":     {zipOf(t, entry{name: "a/../../evil"}), "a/../../evil"},
		"absolute.zip": {zipOf(t, entry{name: "/etc/evil"}), "/etc/evil"},
		"drive.zip":    {zipOf(t, entry{name: "C:/evil"}), "C:/evil"},
		"slash.zip":    {zipOf(t, entry{name: `a\..\evil`}), `a\\..\\evil`},
		"case.zip":     {zipOf(t, entry{name: "a/File"}, entry{name: "A/file"}), "A/file"},
		"twice.zip":    {zipOf(t, entry{name: "f"}, entry{name: "f"}), "f"},
		"link.zip":     {zipOf(t, entry{name: "l", link: "../../etc", mode: fs.ModeSymlink | 0o777}), "l"},
		"link.tar.gz":  {tarOf(t, entry{name: "l", link: "/etc"}), "l"},
		"via.tar.gz":   {tarOf(t, entry{name: "l", link: "d"}, entry{name: "l/f", body: "x"}), "l/f"},
		"dev.tar.gz":   {tarOf(t, entry{name: "null", mode: fs.ModeDevice}), "null"},
		"up.tar.gz":    {tarOf(t, entry{name: "../evil", body: "x"}), "../evil"},
		"bomb.tar.gz":  {tarOf(t, entry{name: "bomb", body: bomb}), "bomb"},
	} {
		_, _, err := unpack(t, name, c.archive, Unpack{})
		var h *Hostile
		require.ErrorAs(t, err, &h, name)
		assert.ErrorContains(t, err, fmt.Sprintf(`entry "%s`, c.entry), name)
		assert.ErrorContains(t, err, "refused whole", name)
	}
}

func TestUnpackingRules(t *testing.T) {
	script, elf := "#!/bin/sh\n", "\x7fELF..."
	z := zipOf(t, entry{name: "top/"}, entry{name: "top/run.sh", body: script}, entry{name: "top/bin/native", body: elf}, entry{name: "top/a.txt", body: "a"},
		entry{name: "top/wild", body: "w", mode: 0o6777}, entry{name: "top/l", link: "a.txt", mode: fs.ModeSymlink | 0o777})
	items, bodies, err := unpack(t, "x.zip", z, Unpack{Strip: 1, Into: "srv"})
	require.NoError(t, err)
	assert.Equal(t, script, bodies["srv/run.sh"])
	assert.EqualValues(t, 0o755, items["srv/run.sh"].Mode, "a script from a zip without modes runs")
	assert.EqualValues(t, 0o755, items["srv/bin/native"].Mode)
	assert.EqualValues(t, 0o644, items["srv/a.txt"].Mode)
	assert.EqualValues(t, 0o755, items["srv/wild"].Mode, "nothing is writable for everybody, or runs as another")
	assert.Equal(t, "a.txt", items["srv/l"].Target)

	jar := zipOf(t, entry{name: "META-INF/MANIFEST.MF", body: "x"})
	items, bodies, err = unpack(t, "s.jar", jar, Unpack{})
	require.NoError(t, err)
	assert.Len(t, items, 1)
	assert.Equal(t, string(jar), bodies["s.jar"], "a jar is used as it is")

	cut := tarOf(t, entry{name: "a", body: strings.Repeat("abc", 5000)})
	_, _, err = unpack(t, "cut.tar.gz", cut[:len(cut)-20], Unpack{})
	assert.Error(t, err)
}

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
			v, err := Download(context.Background(), Part{URL: srv.URL + "/f", Size: int64(len(body))}, dest, nil)
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
	_, err := Download(context.Background(), Part{URL: always.URL + "/f?key=swordfish"}, dest, nil)
	assert.ErrorContains(t, err, "cut after")
	assert.NotContains(t, err.Error(), "swordfish")
	kept, err := os.ReadFile(dest + ".from")
	require.NoError(t, err)
	assert.NotContains(t, string(kept), "swordfish")

	srv := httptest.NewServer(http.NotFoundHandler())
	defer srv.Close()
	_, err = Download(context.Background(), Part{URL: srv.URL + "/f"}, filepath.Join(t.TempDir(), "f"), nil)
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

func FuzzUnpack(f *testing.F) {
	f.Add([]byte("PK\x03\x04"), "zip")
	f.Add([]byte{0x1f, 0x8b, 8, 0}, "tar.gz")
	f.Fuzz(func(t *testing.T, b []byte, as string) {
		if as != "zip" && as != "tar" && as != "tar.gz" {
			return
		}
		items, _, _ := unpack(t, "f", b, Unpack{As: as})
		for p := range items {
			if !cleanName(p) {
				t.Errorf("%q got through", p)
			}
		}
	})
}
