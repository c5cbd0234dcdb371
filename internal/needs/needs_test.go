package needs

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"freshkeel/internal/version"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func jarOf(t *testing.T, entries map[string]string) *bytes.Reader {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, body := range entries {
		w, err := z.Create(name)
		require.NoError(t, err)
		w.Write([]byte(body))
	}
	require.NoError(t, z.Close())
	return bytes.NewReader(b.Bytes())
}

func TestJarTellsWhatItNeeds(t *testing.T) {
	const manifest = "Manifest-Version: 1.0\r\nMain-Class: a.very.long.name.that.goes.on.over.the.end.of.its.line.of\r\n .Main\r\nImplementation-Version: 3.4.1\r\n\r\nName: x\r\nMain-Class: not.this.One\r\n"
	const entry = "a/very/long/name/that/goes/on/over/the/end/of/its/line/of/Main.class"
	class := "\xca\xfe\xba\xbe\x00\x00\x00\x45rest"
	r := jarOf(t, map[string]string{"META-INF/MANIFEST.MF": manifest, entry: class})
	j, err := ReadJar(r, r.Size())
	require.NoError(t, err)
	assert.Equal(t, &Jar{MainClass: "a.very.long.name.that.goes.on.over.the.end.of.its.line.of.Main", Entry: entry,
		Major: 69, Release: 25, Version: "3.4.1"}, j)

	for want, entries := range map[string]map[string]string{
		"names no Main-Class":              {"META-INF/MANIFEST.MF": "Manifest-Version: 1.0\r\n"},
		"holds no M.class":                 {"META-INF/MANIFEST.MF": "Main-Class: M\r\n"},
		"M.class: it begins with 48656c6c": {"META-INF/MANIFEST.MF": "Main-Class: M\r\n", "M.class": "Hello, world"},
		"M.class: it is too short":         {"META-INF/MANIFEST.MF": "Main-Class: M\r\n", "M.class": "\xca\xfe"},
	} {
		r := jarOf(t, entries)
		_, err := ReadJar(r, r.Size())
		assert.ErrorContains(t, err, want)
	}
	_, err = ReadJar(bytes.NewReader([]byte("<html>")), 6)
	assert.ErrorContains(t, err, "not a jar")
}

// A whole jar is looked at, but for what is not of the main path.
func TestScanTellsTheHighestThatTheMainPathNeeds(t *testing.T) {
	class := func(major byte) string {
		return "\xca\xfe\xba\xbe\x00\x00\x00" + string([]byte{major}) + strings.Repeat("code", 300)
	}
	preview := "\xca\xfe\xba\xbe\xff\xff\x00\x42rest"
	inner := func(entries map[string]string) string {
		r := jarOf(t, entries)
		b := make([]byte, r.Len())
		r.Read(b)
		return string(b)
	}
	many := func(major byte, n int) map[string]string {
		m := map[string]string{}
		for i := range n {
			m[fmt.Sprintf("lib/C%03d.class", i)] = class(major)
		}
		return m
	}
	for name, c := range map[string]struct {
		more     map[string]string
		entry    string
		release  int
		optional []string
	}{
		"the main class alone": {nil, "moss/gate/Main.class", 8, nil},
		"a class of its own tree": {map[string]string{"moss/gate/deep/Night.class": class(65)},
			"moss/gate/deep/Night.class", 21, nil},
		"later releases by its own word": {map[string]string{"META-INF/versions/21/moss/gate/Main.class": class(65),
			"module-info.class": class(53)}, "moss/gate/Main.class", 8, nil},
		"a library that it is half made of": {many(61, 3), "lib/C000.class", 17, nil},
		"a few for those who have more": {merge(many(55, 120),
			map[string]string{"lib/opt/Vector.class": class(66)}), "lib/C000.class", 11,
			[]string{"lib/opt/Vector.class"}},
		"jars inside": {map[string]string{"META-INF/inner/core.jar": inner(many(65, 4)),
			"notes.jar": "no jar"}, "META-INF/inner/core.jar!/lib/C000.class", 21, nil},
		"preview": {map[string]string{"moss/gate/Trial.class": preview},
			"moss/gate/Trial.class", 22, nil},
	} {
		t.Run(name, func(t *testing.T) {
			all := merge(c.more, map[string]string{"META-INF/MANIFEST.MF": "Main-Class: moss.gate.Main\r\nClass-Path: lib/a.jar lib/b\r\n .jar\r\nLauncher-Agent-Class: moss.Agent\r\n", "moss/gate/Main.class": class(52)})
			r := jarOf(t, all)
			j, err := ScanMain(r, r.Size(), "")
			require.NoError(t, err)
			assert.Equal(t, []any{c.entry, c.release, name == "preview"}, []any{j.Entry, j.Release, j.Preview})
			var optional []string
			for _, o := range j.Optional {
				optional = append(optional, o.Entry)
			}
			assert.Equal(t, c.optional, optional)
			assert.Equal(t, []string{"lib/a.jar", "lib/b.jar"}, j.ClassPath)
			assert.Equal(t, "moss.Agent", j.Lacks)
		})
	}
	// Of a large jar only the directory and the heads are read.
	noise := make([]byte, 8<<20)
	rand.NewChaCha8([32]byte{1}).Read(noise)
	r := jarOf(t, merge(many(61, 50),
		map[string]string{"META-INF/MANIFEST.MF": "Main-Class: lib.C000", "assets/night.pak": string(noise)}))
	j, err := ScanMain(r, r.Size(), "")
	require.NoError(t, err)
	assert.Equal(t, 50, j.Classes)
	assert.Less(t, j.Read, int64(200_000), "of %d bytes", r.Size())
}

func merge(maps ...map[string]string) map[string]string {
	out := map[string]string{}
	for _, m := range maps {
		for k, v := range m {
			out[k] = v
		}
	}
	return out
}

func TestRuntimeSaysItsVersionByFileOrByWord(t *testing.T) {
	dir := t.TempDir()
	put := func(name, body string) string {
		full := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(body), 0o755))
		return full
	}
	put("filed/release", "IMPLEMENTOR=\"x\"\nJAVA_VERSION=\"21.0.3\"\n")
	filed := put("filed/bin/java", "#!/bin/sh\nexit 9\n")
	asked := put("asked/bin/java", "#!/bin/sh\necho 'some version \"1.8.0_402\"' >&2\n")
	mute := put("mute/bin/java", "#!/bin/sh\nexit 1\n")
	require.NoError(t, os.Symlink(filed, filepath.Join(dir, "java")))

	for path, want := range map[string]int{filed: 21, asked: 8, filepath.Join(dir, "java"): 21} {
		rt, err := ReadRuntime(context.Background(), path)
		require.NoError(t, err)
		assert.Equal(t, want, rt.Release, path)
	}
	_, err := ReadRuntime(context.Background(), mute)
	assert.ErrorContains(t, err, "does not say its version")

	found := FindRuntimes(context.Background(), nil,
		[]string{"PATH=" + dir, "JAVA_HOME=" + filepath.Join(dir, "asked")}, []string{filepath.Join(dir, "m*")})
	var releases []int
	for _, rt := range found {
		if rt.Home == filepath.Join(dir, "filed") || rt.Home == filepath.Join(dir, "asked") {
			releases = append(releases, rt.Release)
		}
		if rt.Home == filepath.Join(dir, "mute") {
			assert.Contains(t, rt.Broken, "does not say its version")
			assert.Equal(t, filepath.Join(dir, "m*"), rt.Found)
		}
	}
	assert.ElementsMatch(t, []int{21, 8}, releases, "each once")
	long := map[int]bool{8: true, 11: true, 17: true, 18: false, 21: true, 25: true, 33: true}
	for release, want := range long {
		assert.Equal(t, want, Runtime{Release: release}.LongTerm(), release)
	}
}

func FuzzScanJar(f *testing.F) {
	f.Add([]byte("PK\x05\x06\x00\x00"))
	f.Fuzz(func(_ *testing.T, b []byte) { ScanMain(bytes.NewReader(b), int64(len(b)), "") })
}

// The head of a file tells what system and processor it is for.
func TestProgramsTellTheirSystem(t *testing.T) {
	self, err := os.Executable()
	require.NoError(t, err)
	f, err := os.Open(self)
	require.NoError(t, err)
	defer f.Close()
	p, ok := ReadProgram(f)
	require.True(t, ok)
	assert.Equal(t, Program{runtime.GOOS, runtime.GOARCH}, p)
	pad := strings.Repeat("\x00", 80)
	for text, want := range map[string]string{
		"\x7fELF\x02\x01\x01" + strings.Repeat("\x00", 9) + "\x02\x00\xb7\x00" + pad:   "linux/arm64",
		"\x7fELF\x02\x02\x01" + strings.Repeat("\x00", 9) + "\x00\x02\x00\x15" + pad:   "linux/ppc64",
		"\x7fELF\x01\x01\x01" + strings.Repeat("\x00", 9) + "\x02\x00\x08\x00" + pad:   "linux/processor EM_MIPS",
		"MZ" + strings.Repeat("\x00", 58) + "\x40\x00\x00\x00PE\x00\x00\x4c\x01" + pad: "windows/386",
		"\xcf\xfa\xed\xfe\x0c\x00\x00\x01" + pad:                                       "darwin/arm64",
		"MZ" + pad:                                                                     "",
		"#!/bin/sh\n" + pad:                                                            "",
		"\x7fELF":                                                                      "",
	} {
		p, ok := ReadProgram(strings.NewReader(text))
		assert.Equal(t, want != "", ok, "%q", text)
		if ok {
			assert.Equal(t, want, p.String())
		}
	}
	assert.Equal(t, "an RPM package", Package(strings.NewReader("\xed\xab\xee\xdb")))
	assert.Empty(t, Package(strings.NewReader("PK")))
}

// What the build brings along counts, where the program says that it looks.
func TestLibrariesOfTheBuildAreFoundWhereTheProgramLooks(t *testing.T) {
	n := &Native{Program: Program{"linux", runtime.GOARCH}, Needs: []string{"libslime.so.1"},
		Runpath: []string{"$ORIGIN/../lib", "${ORIGIN}"}}
	lacks := func(there string, libraryPath ...string) []Lack {
		return n.Lacks("/srv/pond/bin", func(full string) bool { return full == there }, libraryPath)
	}
	assert.Empty(t, lacks("/srv/pond/lib/libslime.so.1"))
	assert.Empty(t, lacks("/srv/pond/bin/libslime.so.1"))
	assert.Equal(t, []Lack{{Library: "libslime.so.1"}}, lacks("/srv/pond/libslime.so.1"))
	assert.Empty(t, lacks("/srv/pond/libslime.so.1", "/srv/pond"))
	assert.True(t, olderSymbol("GLIBC_2.4", "GLIBC_2.38") && !olderSymbol("GLIBC_2.38", "GLIBC_2.4"))
	_, err := ReadNative(strings.NewReader("#!/bin/sh\n"))
	assert.ErrorIs(t, err, ErrNotNative)
}

func FuzzReadNative(f *testing.F) {
	f.Add([]byte("\x7fELF\x02\x01\x01"))
	self, err := os.Executable()
	if err != nil {
		f.Fatal(err)
	}
	if b, err := os.ReadFile(self); err == nil {
		f.Add(b[:4096])
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		ReadNative(bytes.NewReader(b))
		if end, cut := CutShort(bytes.NewReader(b), int64(len(b))); cut && end <= int64(len(b)) {
			t.Errorf("cut short at %d of %d", end, len(b))
		}
	})
}

// Each kind of runtime has a notation of its own for what it takes.
func TestRangesAreReadAsTheirKindWritesThem(t *testing.T) {
	for _, c := range []struct {
		r        Range
		fit, not string
	}{
		{Range{Node, ">=20 <23", ""}, "22.9.0", "23.0.0"},
		{Range{Node, "^18.17 || >=20.5", ""}, "18.19.1", "19.0.0"},
		{Range{Node, "20.x", ""}, "20.20.2", "21.0.0"},
		{Range{Python, ">=3.11,<4", ""}, "3.13.0", "3.9.18"},
		{Range{Python, "~=3.10, !=3.12.1", ""}, "3.12.2", "3.12.1"},
		{Range{Python, "==3.11.*", ""}, "3.11.7", "3.12.0"},
	} {
		fits, err := c.r.Fits(c.fit)
		assert.True(t, fits && err == nil, "%v %s: %v", c.r, c.fit, err)
		fits, err = c.r.Fits(c.not)
		assert.False(t, fits || err != nil, "%v %s: %v", c.r, c.not, err)
	}
	_, err := Range{Node, "twenty or so", ""}.Fits("20.0.0")
	assert.Error(t, err)
}

// The host's rule picks a framework, not the newest that is there.
func TestAFrameworkIsPickedByItsRollForwardRule(t *testing.T) {
	here := []string{"6.0.25", "8.0.4", "8.0.11", "8.2.0", "9.0.0", "9.0.1-pre"}
	for rule, want := range map[string]string{"": "8.0.11", "Minor": "8.0.11", "LatestPatch": "8.0.11",
		"LatestMinor": "8.2.0", "LatestMajor": "9.0.0", "Major": "8.0.11", "Disable": ""} {
		app, err := ReadDotnet([]byte(`{"runtimeOptions":{"rollForward":"`+rule+
			`","framework":{"name":"Fen.Core","version":"8.0.2"}}}`), nil)
		require.NoError(t, err)
		assert.Equal(t, want, app.Frameworks[0].Pick(here), rule)
	}
	next := Framework{"Fen.Core", "8.1.0", "Minor"}
	assert.Equal(t, "8.2.0", next.Pick(here))
	assert.Empty(t, Framework{"Fen.Core", "7.0.0", "Minor"}.Pick(here))
	assert.Equal(t, "8.0.11", Framework{"Fen.Core", "7.0.0", "Major"}.Pick(here))
	app, err := ReadDotnet([]byte(`{"runtimeOptions":{"framework":{"name":"Fen.Core","version":"7.0.0"}}}`),
		[]string{"DOTNET_ROLL_FORWARD=LatestMajor"})
	require.NoError(t, err)
	assert.Equal(t, "9.0.0", app.Frameworks[0].Pick(here))
	app, err = ReadDotnet([]byte(`{"runtimeOptions":{"includedFrameworks":[{"name":"Fen.Core","version":"8.0.2"}]}}`),
		nil)
	require.NoError(t, err)
	assert.Empty(t, app.Frameworks, "it brings its own")
	_, err = ReadDotnet([]byte(`{"runtimeOptions":{"framework":{"name":"Fen.Core","version":"eight"}}}`), nil)
	assert.ErrorContains(t, err, `framework Fen.Core: version "eight"`)
}

// The package lists say which package has a library: by its own declaration, or
// by the name that it must have.
func TestAPackageIsNamedForALibrary(t *testing.T) {
	root := t.TempDir()
	put := func(at, body string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, at)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, at), []byte(body), 0o644))
	}
	put("var/lib/dpkg/info/libmoss3:amd64.shlibs", "libmoss 3 libmoss3-fen (>= 3.1)\n")
	put("var/lib/apt/lists/fen_main_Packages",
		"Package: libslime6\nVersion: 1\n\nPackage: libtrail2-4\n\nPackage: libdew1t64\n\n")
	for lib, want := range map[string]string{"libmoss.so.3": "libmoss3-fen", "libslime.so.6": "libslime6",
		"libtrail2.so.4": "libtrail2-4", "libdew.so.1": "libdew1t64", "libslime.so.7": "", "ld-linux.so.2": ""} {
		assert.Equal(t, want, PackageOf(lib, root), lib)
	}
}

func FuzzReadWindows(f *testing.F) {
	f.Add([]byte("MZ" + strings.Repeat("\x00", 58) + "\x40\x00\x00\x00PE\x00\x00\x64\x86" + strings.Repeat("\x00", 80)))
	f.Fuzz(func(_ *testing.T, b []byte) {
		ReadWindows(bytes.NewReader(b))
		CutShort(bytes.NewReader(b), int64(len(b)))
	})
}

func FuzzDescriptor(f *testing.F) {
	f.Add("a.json", `{"name":"x","fits":[">=3.4"],"needs":{"mossgate":"~3"}}`, "3.5.0")
	f.Add("a.yaml", "name: x\nfits: [3.4, 3.5]\n", "3.5.0-pre1")
	f.Add("a.toml", "name = 'x'\n[needs]\nmossgate = '[3,4)'\n", "3")
	f.Add("a.mf", "name: x\nfits= 3.x || 4\n", "v1")
	f.Fuzz(func(_ *testing.T, name, text, is string) {
		d, err := ReadDescriptor(name, []byte(text))
		if err == nil {
			for _, r := range append(d.Field("fits"), d.Field("needs.mossgate")...) {
				version.FitsAddon(r, is, len(r)%2 == 0)
				Range{Python, r, ""}.Fits(is)
				Range{Node, r, ""}.Fits(is)
			}
		}
		ReadDotnet([]byte(text), nil)
		EngineRange(Node, "a/b", func(string) ([]byte, error) { return []byte(text), nil })
		EngineRange(Python, "a/b", func(string) ([]byte, error) { return []byte(text), nil })
		Interpreter([]byte(text), nil)
	})
}

// A script's first line names what runs it, by itself or by way of env.
func TestTheFirstLineNamesTheInterpreter(t *testing.T) {
	bin := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(bin, "fensh"), []byte("x"), 0o755))
	env := []string{"PATH=/nowhere:" + bin}
	for head, want := range map[string][3]string{
		"#!/bin/sh\nx":                    {"/bin/sh", "/bin/sh", "yes"},
		"#! /bin/sh -e\n":                 {"/bin/sh", "/bin/sh", "yes"},
		"#!/usr/bin/env fensh\n":          {"fensh", bin + "/fensh", "yes"},
		"#!/usr/bin/env -S A=b fensh\n":   {"fensh", bin + "/fensh", "yes"},
		"#!/usr/bin/env marsh\n":          {"marsh", "", "yes"},
		"#!/opt/fen/bin/shell\n":          {"/opt/fen/bin/shell", "", "yes"},
		"#!\n":                            {"", "", ""},
		"echo no first line\n#!/bin/sh\n": {"", "", ""},
		"":                                {"", "", ""},
	} {
		program, found, ok := Interpreter([]byte(head), env)
		assert.Equal(t, want, [3]string{program, found, map[bool]string{true: "yes"}[ok]}, "%q", head)
	}
}

// What is asked stands in the nearest project file, in the folder or above it.
func TestTheNearestProjectFileSaysWhatIsAsked(t *testing.T) {
	files := map[string]string{
		"package.json":              `{"engines":{"node":">=18"}}`,
		"server/tools/package.json": `{"name":"no engines here"}`,
		"server/pyproject.toml":     "[project]\nname = 'x'\n",
		"setup.cfg":                 "[options]\npython_requires = >=3.9\n",
		"bad/package.json":          `{`,
	}
	read := func(at string) ([]byte, error) {
		if b, ok := files[at]; ok {
			return []byte(b), nil
		}
		return nil, fs.ErrNotExist
	}
	for _, c := range []struct{ kind, script, text, where string }{
		{Node, "server/tools/run.js", ">=18", "package.json, engines.node"},
		{Node, "run.js", ">=18", "package.json, engines.node"},
		{Python, "server/main.py", ">=3.9", "setup.cfg, python_requires"},
	} {
		r, ok, err := EngineRange(c.kind, c.script, read)
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, [2]string{c.text, c.where}, [2]string{r.Text, r.Where}, c.script)
	}
	_, _, err := EngineRange(Node, "bad/run.js", read)
	assert.ErrorContains(t, err, "bad/package.json can't be read")
	_, ok, err := EngineRange(Python, "x.py", func(string) ([]byte, error) { return nil, fs.ErrNotExist })
	assert.False(t, ok || err != nil)
}

// A field is found by its dotted name in each format, one text or several.
func TestDescriptorsAreReadInEachFormat(t *testing.T) {
	for name, c := range map[string]struct {
		text, field string
		want        []string
	}{
		"a.json":      {`{"needs":{"moss":[">=3","4.x"]}}`, "needs.moss", []string{">=3", "4.x"}},
		"dotted.json": {`{"needs.moss":">=3"}`, "needs.moss", []string{">=3"}},
		"deep.json":   {`{"a":{"b.c":"d"}}`, "a.b.c", []string{"d"}},
		"a.yaml":      {"needs:\n  moss: 3.5\n", "needs.moss", []string{"3.5"}},
		"a.toml":      {"[needs]\nmoss = '~3.4'\n", "needs.moss", []string{"~3.4"}},
		"a.MF":        {"Manifest-Version: 1.0\r\nFits: >=3\r\n", "Fits", []string{">=3"}},
		"a.props":     {"# of moss\nfits = 3.4.x\n", "fits", []string{"3.4.x"}},
		"none.json":   {`{"needs":{"moss":null}}`, "needs.moss", nil},
		"map.json":    {`{"needs":{"moss":{}}}`, "needs.moss", nil},
		"text.json":   {`{"needs":"moss"}`, "needs.moss", nil},
	} {
		d, err := ReadDescriptor(name, []byte(c.text))
		require.NoError(t, err, name)
		assert.Equal(t, c.want, d.Field(c.field), name)
	}
	_, err := ReadDescriptor("a.json", []byte("{"))
	assert.Error(t, err)
	_, err = DescriptorIn(strings.NewReader("no zip"), 6, "a.json")
	assert.ErrorContains(t, err, "it is no zip")
	assert.True(t, WindowsOwn("KERNEL32.dll") && WindowsOwn("api-ms-win-crt-heap-l1-1-0.dll") &&
		!WindowsOwn("fen140.dll"))
	assert.Equal(t, []string{Node, Node, Python, Python, "", ""},
		[]string{EngineOf("node"), EngineOf("/x/nodejs"), EngineOf("python3.12"), EngineOf(`C:\p\python.exe`),
			EngineOf("nodejs-tool"), EngineOf("java")})
}
