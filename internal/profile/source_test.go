package profile

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each source that can't be used is named with its line and what to write.
func TestSourcesThatCanNotBeUsedAreNamedWithTheirLine(t *testing.T) {
	for text, want := range map[string]string{
		"[source]\nfeed = 'x'\npage.at = 'y'":                                                "source.page: a source is one of feed, api, page",
		"[source]\napi.list = 'x'":                                                           "source.api.builds: it is missing",
		"[source.page]\nat = 'x'\npattern = 'v(.*)'":                                         "source.page.pattern: it needs a group (?P<version>…)",
		"[source.page]\nat = 'x'\npattern = 'v('":                                            "is not a regular expression",
		"[source.archives]\nin = 'x'":                                                        "source.archives.full: name the archives in order with parts",
		"[source.archives]\nin = 'x'\nparts = ['a']\nincrement = 'y'":                        "source.archives.increment: it needs a group",
		"[source.command]\nrun = ['x']\nversions = ['1']":                                    "source.command.pick: it is missing: a pattern of what the command makes",
		"[source.command]\nrun = ['x']\npick = 'x'":                                          "source.command.versions: say which versions it can make",
		"[source.command]\npick = 'x'":                                                       "source.command.run: it is missing",
		"[source.command]\nrun = ['x']\nversions = ['1']\npick = '/x'":                       "it is a pattern in the work folder",
		"[source]\nfeed = 'x'\norder = 'backwards'":                                          "source.order: it is oldest-first or newest-first",
		"[source]\nfeed = 'x'\nversion = 'file'":                                             "source.version: it is \"name\"",
		"[source]\nfeed = 'x'\nfor = 'linux'":                                                "source.for: write it as",
		"[source]\nfolder.at = 'x'\nkey = 'RWQ'":                                             "source.key: a folder can't be signed",
		"[source]\nfeed = 'x'\nkey = 'https://x/key.pub'":                                    "source.key: a key is never fetched",
		"[source]\nfeed = 'x'\ntake = ['/etc/**']":                                           "patterns are relative to the install",
		"[source]\nfede = 'x'":                                                               "did you mean source.feed?",
		"[source]\nlist = 'x'":                                                               "source.list: there is no such key; did you mean source.",
		"[[layer]]\nsource.feed = 'x'":                                                       "layer.name: each layer needs a name",
		"[[layer]]\nname = 'a'":                                                              "layer a has no source",
		"[[layer]]\nname = 'a'\ninto = '../x'\nsource.feed = 'x'":                            "is not a path in the install",
		"[[layer]]\nname = 'a'\nsource.feed = 'x'\n[[layer]]\nname = 'a'\nsource.feed = 'x'": "two layers are called \"a\"",
		"[[layer]]\nname = 'a'\nsource.feed = 'x'\nsource.order = 'up'":                      "layer.source.order: it is oldest-first",
		"[[login]]\nhost = 'https://x/'\nfrom = 'netrc'":                                     "login.host: \"https://x/\" is not a host",
		"[[login]]\nhost = 'x'\nfrom = 'swordfish'":                                          "login.from: it says where the secret is",
	} {
		_, err := Parse("p", []byte("[server]\nname = 'x'\n"+text+"\n"))
		require.Error(t, err, text)
		assert.ErrorContains(t, err, want, text)
		assert.NotContains(t, err.Error(), "swordfish", "what may be a secret is not repeated (P9)")
	}
	_, err := Parse("p", []byte("[server]\nname = 'x'\n\n[source]\nfeed = 'x'\norder = 'up'\n"))
	assert.ErrorContains(t, err, "p:6: source.order")
	_, err = Parse("p", []byte("[server]\nname = 'x'\n[source]\nfeed = 'x'\n[source.page]\npattern = 'x'\n"))
	assert.ErrorContains(t, err, "p:5: source.page")
}

func TestKeysAreListedThroughEverySection(t *testing.T) {
	keys := Keys()
	for _, k := range []string{"server.name", "place", "source.api.digests", "source.page.pattern", "layer.fits",
		"layer.source", "login.host", "ready.fail", "stop.kill"} {
		assert.Contains(t, keys, k)
	}
	assert.False(t, slices.ContainsFunc(keys, func(k string) bool { return strings.HasPrefix(k, "layer.source.") }),
		"the same keys are not told twice")
	p, err := Parse("p", []byte("[server]\nname = 'x'\n[source.api]\nlist = 'l'\nbuilds = '$'\nversion = '$'\nurl = 'u'\n[[layer]]\nname = 'a'\n[layer.source]\naddress.at = 'x'\n"))
	require.NoError(t, err)
	assert.Equal(t, "api", p.Source.Kind())
	assert.Equal(t, "address", p.Layers[0].Source.Kind())
}
