package unpack

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"freshkeel/internal/fetch"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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

func opened(t *testing.T, name string, b []byte, u Rule) (map[string]Item, map[string]string, error) {
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, b, 0o600))
	items, bodies := map[string]Item{}, map[string]string{}
	var mu sync.Mutex
	_, err := Unpacked(context.Background(), &fetch.Verified{Path: path, URL: path, Size: int64(len(b))}, u, t.TempDir(), func(it Item) error {
		var c []byte
		var err error
		if it.Body != nil {
			c, err = io.ReadAll(it.Body)
		}
		mu.Lock()
		defer mu.Unlock()
		items[it.Path], bodies[it.Path] = it, string(c)
		return err
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
		_, _, err := opened(t, name, c.archive, Rule{})
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
	items, bodies, err := opened(t, "x.zip", z, Rule{Strip: 1, Into: "srv"})
	require.NoError(t, err)
	assert.Equal(t, script, bodies["srv/run.sh"])
	assert.EqualValues(t, 0o755, items["srv/run.sh"].Mode, "a script from a zip without modes runs")
	assert.EqualValues(t, 0o755, items["srv/bin/native"].Mode)
	assert.EqualValues(t, 0o644, items["srv/a.txt"].Mode)
	assert.EqualValues(t, 0o755, items["srv/wild"].Mode, "nothing is writable for everybody, or runs as another")
	assert.Equal(t, "a.txt", items["srv/l"].Target)

	jar := zipOf(t, entry{name: "META-INF/MANIFEST.MF", body: "x"})
	items, bodies, err = opened(t, "s.jar", jar, Rule{})
	require.NoError(t, err)
	assert.Len(t, items, 1)
	assert.Equal(t, string(jar), bodies["s.jar"], "a jar is used as it is")

	cut := tarOf(t, entry{name: "a", body: strings.Repeat("abc", 5000)})
	_, _, err = opened(t, "cut.tar.gz", cut[:len(cut)-20], Rule{})
	assert.Error(t, err)
}

func FuzzUnpack(f *testing.F) {
	f.Add([]byte("PK\x03\x04"), "zip")
	f.Add([]byte{0x1f, 0x8b, 8, 0}, "tar.gz")
	f.Fuzz(func(t *testing.T, b []byte, as string) {
		if as != "zip" && as != "tar" && as != "tar.gz" {
			return
		}
		items, _, _ := opened(t, "f", b, Rule{As: as})
		for p := range items {
			if !cleanName(p) {
				t.Errorf("%q got through", p)
			}
		}
	})
}
