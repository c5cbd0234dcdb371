package feed

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFeedErrorsSayWhatAndWhere(t *testing.T) {
	build := func(s string) string { return `{"format":"freshkeel-feed/1","builds":[` + s + `]}` }
	for want, text := range map[string]string{
		"an HTML page":                  "<html><body>503",
		"line 2":                        "{\n \"format\": }",
		`its format is "other/1"`:       `{"format":"other/1"}`,
		"build 1: its version is empty": build(`{"parts":[{"url":"x"}]}`),
		"build 1 (1.0) has no parts":    build(`{"version":"1.0"}`),
		"build 2 (1.0) is listed twice": build(`{"version":"1.0","parts":[{"url":"x"}]},{"version":"1.0","parts":[{"url":"x"}]}`),
		"not written 2006-01-02":        build(`{"version":"1.0","date":"yesterday","parts":[{"url":"x"}]}`),
		"a part has no url":             build(`{"version":"1.0","parts":[{}]}`),
		`digest "crc" is not known`:     build(`{"version":"1.0","parts":[{"url":"x","digests":{"crc":"00"}}]}`),
		"is no sha256 digest":           build(`{"version":"1.0","parts":[{"url":"x","digests":{"sha256":"00"}}]}`),
		`unpack as "exe"`:               build(`{"version":"1.0","parts":[{"url":"x","unpack":{"as":"exe"}}]}`),
		`"../up" is not a path inside`:  build(`{"version":"1.0","parts":[{"url":"x","unpack":{"into":"../up"}}]}`),
	} {
		_, err := Parse([]byte(text))
		assert.ErrorContains(t, err, want)
	}
	f, err := Parse(
		[]byte(
			build(
				`{"version":"1","channel":"stable","parts":[{"url":"a/b.zip"}]},{"version":"2","channel":"preview","parts":[{"url":"http://x/y"}]}`,
			),
		),
	)
	require.NoError(t, err)
	newest, _ := f.Newest("", nil)
	assert.Equal(t, "2", newest.Version)
	newest, _ = f.Newest("stable", nil)
	assert.Equal(t, "1", newest.Version)
}

func TestRouteTakesTheFewestStepsThatTheMakerAllows(t *testing.T) {
	f := &Feed{Steps: "each"}
	for _, v := range []string{"1 stable", "2 stable", "3 preview", "3.1 stable", "4 preview", "5 stable"} {
		version, channel, _ := strings.Cut(v, " ")
		f.Builds = append(f.Builds, Build{Version: version, Channel: channel})
	}
	way := func(from, to string) (out []string) {
		b, ok := f.Find(to)
		require.True(t, ok)
		way, err := f.Route(from, b)
		require.NoError(t, err)
		for _, r := range way {
			out = append(out, r.Version)
		}
		return
	}
	assert.Equal(t, []string{"2", "3.1", "5"}, way("1", "5"), "previews are no way to a stable build")
	assert.Equal(t, []string{"3.1", "4"}, way("2", "4"))
	assert.Empty(t, way("0.9", "5"), "what is not listed has no successor")
	f.Steps = ""
	assert.Equal(t, []string{"5"}, way("1", "5"))
	f.Builds[5].From = []string{">=2 <3", "3.1"}
	assert.Equal(t, []string{"3.1", "5"}, way("1", "5"))
	f.Builds[3].From = []string{"2"}
	f.Builds[5].From = []string{"3.1"}
	assert.Equal(t, []string{"2", "3.1", "5"}, way("1", "5"))
	f.Builds[1].From = []string{"0"}
	assert.Empty(t, way("1", "5"))
}

func pageReader(t testing.TB) *reader {
	r := &reader{Source: profile.Source{Page: &profile.Page{}}}
	require.NoError(t, r.Page.Pattern.UnmarshalText([]byte(`/moss-(?P<version>[^/]+?)(?:-(?P<os>linux|win64))?\.zip`)))
	return r
}

func apiReader() *reader {
	return &reader{Source: profile.Source{API: &profile.API{Builds: "$..builds[*]", Version: "$.v", Channel: "$.c",
		Date: "$.d", Files: "$.files[*]", URL: "$.url", Size: "$.size",
		Digests: map[string]string{"sha256": "$.sum"}, OS: "$.os"}}}
}

func TestReadersSayWhatTheyCanNotRead(t *testing.T) {
	r := apiReader()
	for text, want := range map[string]string{
		`{"builds":[{"files":[]}]}`:                                     "api.version: $.v finds no text or number in a build",
		`{"builds":[{"v":"a b","files":[]}]}`:                           "is empty or holds spaces",
		`{"other":1}`:                                                   "api.builds: $..builds[*] finds nothing there",
		`{"builds":[{"v":"1","files":[{"size":1}]}]}`:                   "api.url: $.url finds no text",
		`{"builds":[{"v":"1","files":[{"url":"x.zip","size":"big"}]}]}`: `api.size: "big" is not a number of bytes`,
		`{"builds":[{"v":"1","files":[{"url":"x.zip","sum":"zz"}]}]}`:   "is no sha256 digest",
		`{"builds":[{"v":"1","files":[{"url":"file:///etc/passwd"}]}]}`: "file addresses are not followed from there",
		`{"builds":[{"v":"1","files":[{"url":"/x.zip"}]},{"v":2,"files":[{"url":"https://else.example/y"}]}]}`: "",
	} {
		doc, err := parseJSON([]byte(text))
		require.NoError(t, err)
		f, err := r.apiList(doc, "https://moss.example/api/list.json")
		if want != "" {
			assert.ErrorContains(t, err, want)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, "https://moss.example/x.zip", f.Builds[0].Parts[0].URL,
			"an address of that host, never a file of this one")
		assert.Equal(t, "2", f.Builds[1].Version)
	}
	_, err := parseJSON([]byte("<html>"))
	assert.ErrorContains(t, err, "an HTML page stands there, not JSON")

	rows, err := pageReader(
		t,
	).links([]byte(`<base href="/files/"><a href="moss-1.0-win64.zip">x<a href="javascript:x()"><a href="moss-1.0-linux.zip"><a><a href="mailto:/moss-2.zip">`), "https://moss.example/page")
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, "https://moss.example/files/moss-1.0-win64.zip", rows[0].part.URL)
	f, err := pageReader(t).builds(rows)
	require.NoError(t, err)
	require.Len(t, f.Builds, 1)
	v, err := f.Builds[0].Choose(Choice{OS: "windows", Arch: "amd64"})
	require.NoError(t, err)
	assert.Contains(t, v.Parts[0].URL, "win64")

	for text, want := range map[string]string{
		`{"format":"x"}`: "its format is", `{"format":"freshkeel-listing/1"}`: "it lists no file",
		`{"format":"freshkeel-listing/1","files":[{"path":"../x","size":1,"sha256":"` + strings.Repeat("00", 32) +
			`"}]}`: "leads out",
		`{"format":"freshkeel-listing/1","files":[{"path":"x","size":1}]}`: "has no digest",
	} {
		_, err := ParseListing([]byte(text))
		assert.ErrorContains(t, err, want)
	}
}

func TestNamesTellVersionSystemAndVariant(t *testing.T) {
	for name, want := range map[string]offered{
		"moss-3.5.0.zip":                         {version: "3.5.0"},
		"moss-3.5.0-rc2-linux-x86_64.tar.gz":     {version: "3.5.0-rc2", os: "linux", arch: "amd64"},
		"moss_server_1.4_win64.7z":               {version: "1.4", os: "windows"},
		"moss-3.5.0-addons-macos-aarch64.tar.xz": {version: "3.5.0", variant: "addons", os: "darwin", arch: "arm64"},
		"moss.zip":                               {},
	} {
		assert.Equal(t, want, nameTells(name), name)
	}
	for text, want := range map[string]string{"3.5.0\n": "3.5.0", "build = \"1234\"\n": "1234", "# none\nmoss\n": "",
		"Moss server v3.6.1 of today": "3.6.1", "2026-11-23": "2026-11-23"} {
		assert.Equal(t, want, version.InText(text), text)
	}
	for s, want := range map[string]string{"2026-11-23T10:00:00Z": "2026-11-23", "20261123": "2026-11-23",
		"Mon, 23 Nov 2026 10:00:00 GMT": "2026-11-23", "2026-11-23 noonish": "2026-11-23", "soon": ""} {
		assert.Equal(t, want, day(s), s)
	}
	assert.Equal(t, []string{"2026-11-23", "2026-11-23", ""},
		[]string{unixDay("1795400000"), unixDay("1795400000000"), unixDay("x")})
}

// A change leads from the files of one version to exactly those of another, or
// is refused.
func TestAChangeOfAListingLeadsToTheWholeOrIsRefused(t *testing.T) {
	file := func(path, body string, run bool) ListedFile {
		return ListedFile{Path: path, Size: int64(len(body)), Blake3: tree.SumBytes([]byte(body)), Run: run}
	}
	old := []ListedFile{file("a", "1", false), file("b", "2", false), file("c", "3", true)}
	now := []ListedFile{file("a", "1", false), file("b", "2", true), file("d", "4", false)}
	d := difference("1.0", old, now)
	assert.Len(t, d.Files, 2)
	assert.Equal(t, []string{"c"}, []string(d.Gone))
	l := &Listing{Tree: TreeSum(now)}
	got := d
	require.NoError(t, got.over(old, l))
	assert.Equal(t, now, got.Files)
	for name, other := range map[string][]ListedFile{"from another version": old[1:], "from nothing": {}} {
		got := d
		assert.ErrorContains(t, got.over(other, l), "does not lead to the files", name)
	}
	assert.NotEqual(t, TreeSum(old), TreeSum(now))
	f := Files{base: "https://moss.example/l/x.json", layout: "digest"}
	sum := old[0].Blake3.String()
	assert.Equal(t, "https://moss.example/l/"+sum[:2]+"/"+sum[2:], f.Address(old[0]))
	f.layout = ""
	assert.Equal(t, "https://moss.example/l/a%20%3F", f.Address(ListedFile{Path: "a ?"}))
}

// Whatever a place serves: no panic, no address but http(s) ones, no version
// that could not be typed.
func fuzzChecked(t *testing.T, f *Feed) {
	for _, b := range f.Builds {
		if !version.Valid(b.Version) {
			t.Errorf("version %q got through", b.Version)
		}
		for _, ps := range append([][]Part{b.Parts}, variantParts(b.Variants)...) {
			for _, p := range ps {
				if at, err := fetch.Resolve("https://moss.example/", p.URL); err == nil && !fetch.IsURL(at) {
					t.Errorf("address %q got through", at)
				}
			}
		}
		version.Compare(b.Version, "3.5.0")
		b.Choose(Choice{"", "linux", "amd64"})
		f.Route("1", b)
	}
}

func FuzzFeed(f *testing.F) {
	f.Add(
		[]byte(
			`{"format":"freshkeel-feed/1","steps":"each","builds":[{"version":"1","channel":"stable","date":"2026-01-02","parts":[{"url":"x.zip","size":3,"digests":{"md5":"00112233445566778899aabbccddeeff"},"unpack":{"as":"zip","strip":1,"moved":{"a/*":"b/"}}}],"from":[">=1 <2"],"fits":"3.*"}]}`,
		),
	)
	f.Add(
		[]byte(
			`{"format":"freshkeel-feed/1","builds":[{"version":"1","variants":[{"name":"plain","os":"linux","parts":[{"url":"//x/y"}]}]},{"version":"2","listing":{"url":"l.json.zst","files":"f/"}}]}`,
		),
	)
	f.Add([]byte(`{"format":"freshkeel-listing/1","files":[{"path":"a/b","size":1,"blake3":"` +
		strings.Repeat("ab", 32) + `"}]}`))
	f.Add([]byte("<html>"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if feed, err := Parse(b); err == nil {
			fuzzChecked(t, feed)
		}
		if l, err := ParseListing(b); err == nil {
			for _, lf := range l.Files {
				if strings.HasPrefix(lf.Path, "/") || strings.Contains(lf.Path, "..") &&
					strings.Contains("/"+lf.Path+"/", "/../") {
					t.Errorf("path %q got through", lf.Path)
				}
				l.base = "https://moss.example/f/"
				l.Address(lf)
			}
		}
	})
}

func FuzzAPI(f *testing.F) {
	f.Add(
		[]byte(
			`{"builds":[{"v":"1","c":true,"d":1760000000,"files":[{"url":"x","size":1.5e3,"os":"win64"},{"url":"http://a/b","sum":"` + strings.Repeat(
				"ab",
				32,
			) + `"}]}]}`,
		),
	)
	f.Add([]byte(`[[{"builds":[{"v":-1,"files":[{"url":"%zz"}]}]}]]`))
	f.Add([]byte(`{"builds":{"a":{"v":"v\u0000"}}}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		doc, err := parseJSON(b)
		if err != nil {
			return
		}
		if feed, err := apiReader().apiList(doc, "https://moss.example/list"); err == nil {
			fuzzChecked(t, feed)
		}
		proposeAPI(b, "https://moss.example/list")
	})
}

func FuzzPage(f *testing.F) {
	f.Add([]byte(`<base href="//else/"><table><a href="moss-1.0-linux.zip?x=1#y">a</a><a href=moss-2.zip><a href="%">`))
	f.Add([]byte("<!doctype html><a href='/moss-1 2.zip'><a href=\"\x00moss-3.zip\">"))
	f.Fuzz(func(t *testing.T, b []byte) {
		r := pageReader(t)
		rows, err := r.links(b, "https://moss.example/page")
		if err != nil {
			return
		}
		if feed, err := r.builds(rows); err == nil {
			fuzzChecked(t, feed)
		}
		proposePage(b, "https://moss.example/page")
	})
}

// A runtime that goes with a build is picked for the machine, and checked like a
// part.
func TestARuntimeGoesWithABuild(t *testing.T) {
	parse := func(runtimes string) (*Feed, error) {
		return Parse(
			[]byte(
				`{"format":"freshkeel-feed/1","builds":[{"version":"1.0","parts":[{"url":"a.zip"}],"runtimes":[` + runtimes + `]}]}`,
			),
		)
	}
	f, err := parse(
		`{"runtime":"Java","os":"windows","url":"w.zip"},{"runtime":"java","os":"linux","arch":"arm64","url":"a.tar.gz"},{"runtime":"java","os":"linux","url":"l.tar.gz","version":"21"},{"runtime":"node","url":"n.zip"}`,
	)
	require.NoError(t, err)
	for m, want := range map[Choice]string{{OS: "windows", Arch: "amd64"}: "w.zip",
		{OS: "linux", Arch: "arm64"}: "a.tar.gz", {OS: "linux", Arch: "amd64"}: "l.tar.gz",
		{OS: "darwin", Arch: "arm64"}: ""} {
		a, ok := f.Builds[0].RuntimeFor("java", m)
		assert.Equal(t, want != "", ok)
		assert.Equal(t, want, a.URL)
	}
	_, ok := f.Builds[0].RuntimeFor("python", Choice{})
	assert.False(t, ok)
	for bad, says := range map[string]string{`{"runtime":"java"}`: "has no url",
		`{"url":"x"}`: "does not say which runtime", `{"runtime":"java","url":"x","digests":{"sha256":"00"}}`: "part x",
		`{"runtime":"java","url":"x","size":-1}`: "below zero"} {
		_, err := parse(bad)
		assert.ErrorContains(t, err, says, bad)
	}
}

// Lists from outside are bounded in size and in the work that they make, each with
// its own words.
func TestListsAreBoundedInSizeAndWork(t *testing.T) {
	var many []string
	for i := range maxBuilds + 1 {
		many = append(many, fmt.Sprintf(`{"version":"1.%d","parts":[{"url":"x%d.zip"}]}`, i, i))
	}
	list := func(n int, steps string) string {
		return `{"format":"freshkeel-feed/1","steps":"` + steps + `","builds":[` + strings.Join(many[:n], ",") + `]}`
	}
	_, err := Parse([]byte(list(maxBuilds+1, "")))
	assert.ErrorContains(t, err, "it lists 10001 builds; more than 10000 are not read")
	f, err := Parse([]byte(list(200, "each")))
	require.NoError(t, err)
	_, err = f.Route("1.0", f.Builds[199])
	assert.ErrorContains(
		t,
		err,
		"the way from 1.0 to 1.199 has 199 steps by the list's rules; more than 100 are not gone",
	)
	f, err = Parse([]byte(list(9000, "each")))
	require.NoError(t, err)
	began := time.Now()
	_, err = f.Route("1.0", f.Builds[8999])
	assert.ErrorContains(t, err, "no way from 1.0 to 1.8999 is found in reasonable time")
	assert.Less(t, time.Since(began), 20*time.Second)
	_, err = parseJSON([]byte(strings.Repeat("[", 100) + strings.Repeat("]", 100)))
	assert.ErrorContains(t, err, "lie more than 64 deep in each other")
	_, err = find(map[string]any{}, "api.builds", "$..a..b..c")
	assert.ErrorContains(t, err, "looks everywhere («..») more than twice")
}

// A maker's own list is read in each of its forms, with digests in any notation.
func TestAMakersOwnListIsRead(t *testing.T) {
	const hello = "2cf24dba5fb0a30e26e83b2ac5b9e29e1b161e5c1fa7425e73043362938b9824"
	by := func(kind string) *profile.Listing {
		return &profile.Listing{
			Kind:    kind,
			Files:   "$.files[*]",
			Path:    "$.name",
			Size:    "$.size",
			Digests: map[string]string{"sha256": "$.hash"},
			Run:     tree.Patterns{"*.sh"},
		}
	}
	table := by("csv")
	table.Path, table.Size, table.Digests = "file", "bytes", map[string]string{"sha256": "sum"}
	for name, c := range map[string]struct {
		by   *profile.Listing
		text string
	}{
		"json":       {by("json"), `{"files": [{"name": "lib\\a.dat", "size": 5, "hash": "` + hello + `"}, {"name": "run.sh", "size": "5", "hash": "sha256-LPJNul+wow4m6DsqxbninhsWHlwfp0JecwQzYpOLmCQ="}]}`},
		"csv":        {table, "file;bytes;sum\nlib/a.dat;5;" + hello + "\nrun.sh;5;" + hello + "\n"},
		"sums":       {&profile.Listing{Run: tree.Patterns{"*.sh"}}, "# ours\n" + hello + "  lib/a.dat\n" + hello + " *run.sh\n"},
		"tagged":     {&profile.Listing{Run: tree.Patterns{"*.sh"}}, "SHA256 (lib/a.dat) = " + hello + "\nSHA256 (run.sh) = " + hello + "\n"},
		"with names": {&profile.Listing{Run: tree.Patterns{"*.sh"}}, "sha256-LPJNul+wow4m6DsqxbninhsWHlwfp0JecwQzYpOLmCQ=  lib/a.dat\nsha256:" + hello + "  ./run.sh\n"},
	} {
		d, err := parseOwn([]byte(c.text), &Listing{Wanted: fetch.Wanted{URL: "https://x.example/1/list"}, By: c.by})
		require.NoError(t, err, name)
		require.Len(t, d.Files, 2, name)
		assert.Equal(t, "lib/a.dat", d.Files[0].Path, name)
		assert.Equal(t, map[string]string{"sha256": hello}, d.Files[0].Digests(), name)
		assert.False(t, d.Files[0].Run, name)
		assert.True(t, d.Files[1].Run, name)
	}
	for text, why := range map[string]string{hello + "  ../a\n": "file \"../a\"", "hello\n": "line 1 is no digest and path", "": "it lists no file",
		"abc  x\n": "line 1"} {
		_, err := parseOwn([]byte(text), &Listing{By: &profile.Listing{Kind: "sums"}})
		assert.ErrorContains(t, err, why, text)
	}
}
