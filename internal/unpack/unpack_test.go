package unpack

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"freshkeel/internal/fetch"

	"github.com/klauspost/compress/zstd"
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
	_, err := Unpacked(context.Background(), &fetch.Verified{Path: path, URL: path, Size: int64(len(b))}, u,
		t.TempDir(), func(it Item) error {
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
		"accent.zip":   {zipOf(t, entry{name: "caf\u00e9"}, entry{name: "cafe\u0301"}), "cafe"},
		"below.tar.gz": {tarOf(t, entry{name: strings.Repeat("d/", 1200) + "f", body: "x"}), "d/d/d"},
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
	z := zipOf(t, entry{name: "top/"}, entry{name: "top/run.sh", body: script},
		entry{name: "top/bin/native", body: elf}, entry{name: "top/a.txt", body: "a"},
		entry{name: "top/wild", body: "w", mode: 0o6777},
		entry{name: "top/l", link: "a.txt", mode: fs.ModeSymlink | 0o777})
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

// rarOf writes a RAR 5 archive of stored files (RAR 5.0 archive format: vint,
// "General archive block format").
func rarOf(entries ...entry) []byte {
	vint := func(n uint64) (b []byte) {
		for ; n >= 0x80; n >>= 7 {
			b = append(b, byte(n)|0x80)
		}
		return append(b, byte(n))
	}
	block := func(header, data []byte) []byte {
		sized := append(vint(uint64(len(header))), header...)
		out := binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(sized))
		return append(append(out, sized...), data...)
	}
	out := []byte("Rar!\x1a\x07\x01\x00")
	out = append(out, block([]byte{1, 0, 0}, nil)...) // main header
	for _, e := range entries {
		h := []byte{2, 2} // file header, data area follows
		h = append(h, vint(uint64(len(e.body)))...)
		h = append(h, 4)                            // file flags: CRC32
		h = append(h, vint(uint64(len(e.body)))...) // unpacked
		h = append(h, vint(uint64(e.mode))...)
		h = binary.LittleEndian.AppendUint32(h, crc32.ChecksumIEEE([]byte(e.body)))
		h = append(h, 0, 1) // stored; made on Unix
		h = append(h, vint(uint64(len(e.name)))...)
		h = append(h, e.name...)
		out = append(out, block(h, []byte(e.body))...)
	}
	return append(out, block([]byte{5, 0, 0}, nil)...) // end
}

func fixture(t testing.TB, name string) []byte {
	b, err := os.ReadFile(filepath.Join("testdata", name))
	require.NoError(t, err)
	return b
}

// Every format gives the same tree, with modes.
func TestEveryFormatGivesTheSameTree(t *testing.T) {
	script, elf := "#!/bin/sh\necho hi\n", "\x7fELFxx"
	files := []entry{{name: "top/run.sh", body: script, mode: 0o755}, {name: "top/bin/native", body: elf, mode: 0o755},
		{name: "top/a.txt", body: "a", mode: 0o644}}
	var zst bytes.Buffer
	z, err := zstd.NewWriter(&zst)
	require.NoError(t, err)
	g, err := gzip.NewReader(bytes.NewReader(tarOf(t, files...)))
	require.NoError(t, err)
	_, err = io.Copy(z, g)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	// What unpacks itself has a small program in front, which may look for the marks of archives.
	behind := func(head string, archive []byte) []byte {
		return slices.Concat([]byte(head), bytes.Repeat([]byte("code 7z\xbc\xaf\x27\x1c Rar!\x1a\x07 "), 400), archive)
	}
	for name, b := range map[string][]byte{"x.zip": zipOf(t, files...), "x.tar.gz": tarOf(t, files...),
		"setup.exe": behind("MZ", zipOf(t, files...)), "setup": behind("\x7fELF", zipOf(t, files...)),
		"7z.exe": behind("MZ", fixture(t, "x.7z")), "7z.run": behind("\x7fELF", fixture(t, "x.7z")),
		"rar.exe":   behind("MZ", rarOf(files...)),
		"x.tar.zst": zst.Bytes(), "x.rar": rarOf(files...),
		"x.7z": fixture(t, "x.7z"), "x.tar.xz": fixture(t, "x.tar.xz"), "x.tar.bz2": fixture(t, "x.tar.bz2")} {
		items, bodies, err := opened(t, "download", b, Rule{Strip: 1})
		require.NoError(t, err, name)
		assert.Equal(t, []string{script, elf, "a"}, []string{bodies["run.sh"], bodies["bin/native"], bodies["a.txt"]},
			name)
		assert.EqualValues(t, []fs.FileMode{0o755, 0o755, 0o644},
			[]fs.FileMode{items["run.sh"].Mode, items["bin/native"].Mode, items["a.txt"].Mode}, name)
	}
	items, _, err := opened(t, "pond-server", behind("\x7fELF", zipOf(t, entry{name: "frog.png", body: "png"})), Rule{})
	require.NoError(t, err)
	assert.Contains(t, items, "pond-server", "a program with some of its data in a zip is a program")
	_, bodies, err := opened(t, "single.txt.xz", fixture(t, "single.txt.xz"), Rule{})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"single.txt": "hello"}, bodies, "a single compressed file")
	_, _, err = opened(t, "locked.7z", fixture(t, "locked.7z"), Rule{})
	assert.ErrorContains(t, err, "it is encrypted, and asks for a password")
	var h *Hostile
	_, _, err = opened(t, "evil.7z", fixture(t, "evil.7z"), Rule{})
	require.ErrorAs(t, err, &h)
	_, _, err = opened(t, "evil.rar", rarOf(entry{name: "../../evil", body: "x"}), Rule{})
	require.ErrorAs(t, err, &h)
	for name, b := range map[string][]byte{"x.rar": rarOf(files...), "x.7z": fixture(t, "x.7z"),
		"x.tar.xz": fixture(t, "x.tar.xz"), "x.tar.zst": zst.Bytes(), "x.zip": zipOf(t, files...)} {
		_, _, err = opened(t, name, b[:len(b)-30], Rule{})
		assert.Error(t, err, "%s cut short", name)
	}
}

// What a rule takes, leaves, moves, opens inside and removes.
func TestRulesChooseAndPlace(t *testing.T) {
	inner := zipOf(t, entry{name: "core.so", body: "core"}, entry{name: "docs/help.txt", body: "help"})
	outer := tarOf(t, entry{name: "pack/server.zip", body: string(inner)},
		entry{name: "pack/gone.txt", body: "# list\nold/\nlib/*.old\n"},
		entry{name: "pack/redist/a/lib.so", body: "lib"}, entry{name: "pack/README.txt", body: "read"},
		entry{name: "pack/only.cfg", body: "c"})
	path := filepath.Join(t.TempDir(), "x")
	require.NoError(t, os.WriteFile(path, outer, 0o600))
	dir, bodies := t.TempDir(), map[string]string{}
	got, err := Unpacked(context.Background(), &fetch.Verified{Path: path, URL: "x.tar.gz", Size: int64(len(outer))},
		Rule{Strip: 1, Inside: []string{"*.zip"}, Removals: "gone.txt",
			Leave: []string{"*.txt", "docs/**"},
			Moved: map[string]string{"redist/**": "lib/", "only.cfg": "etc/server.cfg"}}, dir, func(it Item) error {
			b, err := io.ReadAll(it.Body)
			bodies[it.Path] = string(b)
			return err
		})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"core.so": "core", "lib/a/lib.so": "lib", "etc/server.cfg": "c"}, bodies)
	assert.Equal(t, []string{"old", "lib/*.old"}, []string(got.Removals))
	assert.ElementsMatch(t, []string{"README.txt", "docs/help.txt"}, got.LeftOut)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left, "what was set aside is gone")

	nest := zipOf(t, entry{name: "x", body: "x"})
	for range 6 {
		nest = zipOf(t, entry{name: "in.zip", body: string(nest)})
	}
	_, _, err = opened(t, "nest.zip", nest, Rule{Inside: []string{"**/*.zip"}})
	assert.ErrorContains(t, err, "is an archive inside 3 others")
	bomb := zipOf(t, entry{name: "in.zip",
		body: string(zipOf(t, entry{name: "bomb", body: strings.Repeat("\x00", 70<<20)}))})
	_, _, err = opened(t, "bomb.zip", bomb, Rule{Inside: []string{"*.zip"}})
	assert.ErrorContains(t, err, "brings the content to", "inner archives count against the outer one")
	for _, bad := range []Rule{{As: "exe"}, {Into: "../x"}, {Take: []string{"/abs"}},
		{Moved: map[string]string{"a": "../b"}}, {Strip: -1}} {
		assert.Error(t, bad.Check())
	}
}

func TestRulesGivePathsTheirNames(t *testing.T) {
	for name, c := range map[string]struct {
		rule Rule
		want map[string]string
	}{
		"strip and into": {Rule{Strip: 1, Into: "srv"},
			map[string]string{"top/a": "srv/a", "top": "", "top/b/c": "srv/b/c"}},
		"take and leave": {Rule{Take: []string{"a/**", "*.jar"}, Leave: []string{"a/x/**"}},
			map[string]string{"a/f": "a/f", "a/x/f": "", "m.jar": "m.jar", "b": ""}},
		"a name": {Rule{Moved: map[string]string{"a/*.jar": "core.jar"}},
			map[string]string{"a/x.jar": "core.jar", "a/b/x.jar": "a/b/x.jar"}},
		"a folder": {Rule{Moved: map[string]string{"redist/**": "lib/"}},
			map[string]string{"redist/a/b": "lib/a/b", "redist/c": "lib/c"}},
		"a single file": {Rule{Moved: map[string]string{"redist/c": "lib/"}}, map[string]string{"redist/c": "lib/c"}},
		"the top": {Rule{Moved: map[string]string{"bin/**": "/"}},
			map[string]string{"bin/a/b": "a/b", "bin/x": "x", "y": "y"}},
		"patterns above": {Rule{Moved: map[string]string{"*/bin/*.so": "so/"}},
			map[string]string{"x/bin/a.so": "so/x/bin/a.so"}},
		"after strip": {Rule{Strip: 2, Moved: map[string]string{"c/*": "d/"}, Into: "e"},
			map[string]string{"a/b/c/f": "e/d/f"}},
		"first by name": {Rule{Moved: map[string]string{"*": "b/", "a": "c/"}}, map[string]string{"a": "b/a"}},
	} {
		require.NoError(t, c.rule.Check(), name)
		for from, to := range c.want {
			assert.Equal(t, to, c.rule.Path(from), "%s: %s", name, from)
		}
	}
}

// Whatever an archive holds, no name that leads out gets through, and nothing
// is left behind.
func FuzzUnpack(f *testing.F) {
	for _, name := range []string{"x.7z", "evil.7z", "locked.7z", "x.tar.xz", "x.tar.bz2", "single.txt.xz"} {
		f.Add(fixture(f, name))
	}
	f.Add(rarOf(entry{name: "top/a", body: "a", mode: 0o644}, entry{name: "../b", body: "b"}))
	f.Add([]byte("PK\x03\x04"))
	f.Add([]byte{0x1f, 0x8b, 8, 0})
	f.Add(zipOf(&testing.T{}, entry{name: "a/b", body: "x"}, entry{name: "a/in.zip", body: "PK\x05\x06"},
		entry{name: "l", link: "a", mode: fs.ModeSymlink | 0o777}))
	f.Add(tarOf(&testing.T{}, entry{name: "a", body: "x"}, entry{name: "l", link: "../x"}))
	f.Fuzz(func(t *testing.T, b []byte) {
		items, _, _ := opened(t, "f", b, Rule{Inside: []string{"**/*.zip"}, Moved: map[string]string{"a/*": "/"}})
		for p := range items {
			if !cleanName(p) {
				t.Errorf("%q got through", p)
			}
		}
	})
}

// A bit that flipped on the way is noticed, or has changed no content: each format
// but a plain tar has checksums, and they are held.
func TestAFlippedBitChangesNoContentUnnoticed(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	body := func(n int) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = "Ada, snail of the fen. "[rng.IntN(23)]
		}
		return string(b)
	}
	files := []entry{{name: "a.txt", body: body(9000)}, {name: "b/c.dat", body: body(70_000)}}
	var gz, zst bytes.Buffer
	g := gzip.NewWriter(&gz)
	io.WriteString(g, files[1].body)
	require.NoError(t, g.Close())
	z, err := zstd.NewWriter(&zst)
	require.NoError(t, err)
	io.WriteString(z, files[1].body)
	require.NoError(t, z.Close())
	noticed := 0
	for name, whole := range map[string][]byte{"x.zip": zipOf(t, files...), "x.tar.gz": tarOf(t, files...),
		"x.rar": rarOf(files...), "x.7z": fixture(t, "x.7z"),
		"x.tar.xz": fixture(t, "x.tar.xz"), "x.tar.bz2": fixture(t, "x.tar.bz2"), "c.dat.gz": gz.Bytes(),
		"c.dat.zst": zst.Bytes()} {
		_, rightly, err := opened(t, name, whole, Rule{})
		require.NoError(t, err, name)
		contents := slices.Collect(maps.Values(rightly))
		for range 60 {
			b := bytes.Clone(whole)
			at := rng.IntN(len(b) * 8)
			b[at/8] ^= 1 << (at % 8)
			if rng.IntN(3) == 0 {
				b = b[:1+rng.IntN(len(b)-1)]
			}
			_, bodies, err := opened(t, name, b, Rule{})
			if err != nil {
				noticed++
				continue
			}
			for at, got := range bodies {
				if !slices.Contains(contents, got) && got != string(b) { // which is what no format is seen in any more
					t.Errorf("%s: %s has %d other bytes, and nothing was said", name, at, len(got))
				}
			}
		}
	}
	assert.Greater(t, noticed, 300)
}

// A reader that fills its buffer drops the error that came with it: a bomb is
// refused all the same, and a stream that ends too early is no end.
func TestBoundsHoldWhenABufferIsFull(t *testing.T) {
	o := &opener{ctx: t.Context(), meter: &meter{size: 10}, name: "zeros.tar"}
	m := &metered{r: zeros{}, o: o, entry: "zeros", meter: o.meter}
	var h *Hostile
	_, err := io.Copy(io.Discard, struct{ io.Reader }{m})
	require.ErrorAs(t, err, &h)
	_, err = m.Read(make([]byte, 1))
	require.ErrorAs(t, err, &h, "and goes on being refused")
	cut := &metered{r: io.MultiReader(strings.NewReader("ab"), failing{io.ErrUnexpectedEOF}), o: o, meter: &meter{}}
	_, err = io.ReadFull(cut, make([]byte, 4))
	assert.ErrorIs(t, err, errCutShort, "and not io.ErrUnexpectedEOF, which a reader of blocks takes for the end")
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { return len(b), nil }

// Links that stay inside one by one may lead out together.
func TestLinksThatLeadOutTogetherAreRefused(t *testing.T) {
	link := func(name, to string) entry { return entry{name: name, link: to} }
	for name, c := range map[string]struct {
		rule    Rule
		entries []entry
		bad     bool
	}{
		"by way of another":   {Rule{}, []entry{link("deep/er/up", "../.."), link("out", "deep/er/up/../x")}, true},
		"which comes later":   {Rule{}, []entry{link("out", "deep/er/up/../x"), link("deep/er/up", "../..")}, true},
		"once it is stripped": {Rule{Strip: 1}, []entry{{name: "top/a", body: "a"}, link("top/l", "../x")}, true},
		"moved":               {Rule{Moved: map[string]string{"deep/**": "/"}}, []entry{link("deep/l", "../x")}, true},
		"inside":              {Rule{}, []entry{link("deep/er/up", "../.."), link("in", "deep/er/up/x")}, false},
		"a ring":              {Rule{}, []entry{link("a", "b"), link("b", "a")}, false},
	} {
		_, _, err := opened(t, "x.tar.gz", tarOf(t, c.entries...), c.rule)
		var h *Hostile
		assert.Equal(t, c.bad, errors.As(err, &h), "%s: %v", name, err)
	}
}
