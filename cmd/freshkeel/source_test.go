//go:build unix

package main

import (
	"crypto/sha256"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"freshkeel"
	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// serve puts a makers' site on the harbour's builds, over TLS.
func (p *place) serve() (*demo.Site, string) {
	s, srv := p.site()
	srv.StartTLS()
	at := filepath.Join(p.Dir, "ca.pem")
	require.NoError(p.T, os.WriteFile(at,
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: srv.Certificate().Raw}), 0o644))
	p.Env = append(p.Env, "SSL_CERT_FILE="+at)
	return s, srv.URL
}

// servePlain is serve over plain http.
func (p *place) servePlain() (*demo.Site, string) {
	s, srv := p.site()
	srv.Start()
	return s, srv.URL
}

func (p *place) site() (*demo.Site, *httptest.Server) {
	s := &demo.Site{Dir: p.Harbour.Builds}
	srv := httptest.NewUnstartedServer(s)
	srv.Config.ErrorLog = quiet
	p.T.Cleanup(func() { srv.CloseClientConnections(); srv.Close() })
	return s, srv
}

var sourceSection = regexp.MustCompile(`(?s)\[source\].*?\n\[place\]`)

// source makes lines the profile's [source].
func (p *place) source(lines ...string) {
	p.T.Helper()
	p.EditProfile(func(s string) string {
		require.Regexp(p.T, sourceSection, s)
		return sourceSection.ReplaceAllLiteralString(s, "[source]\n"+strings.Join(lines, "\n")+"\n\n[place]")
	})
}

// offer is what the build's source offers.
func (p *place) offer() freshkeel.Offer {
	p.T.Helper()
	var l struct{ Offers []freshkeel.Offer }
	require.NoError(p.T, json.Unmarshal([]byte(p.OK("--json", "builds").Out), &l))
	require.NotEmpty(p.T, l.Offers)
	return l.Offers[0]
}

func versions(o freshkeel.Offer) (out []string) {
	for _, b := range o.Builds {
		out = append(out, b.Version)
	}
	return
}

// fixed are releases whose every build comes up.
var fixed = []demo.Release{demo.Releases[0], demo.Releases[1],
	{Version: "3.6.1", Channel: "stable", Date: "2026-11-01", Notes: "Flood gates, dry.", Behaviour: demo.Good,
		Java: 17},
	{Version: "3.7.0-pre1", Channel: "preview", Date: "2026-11-12", Notes: "Moss that grows.", Behaviour: demo.Good,
		Java: 17}}

const zipNamed = `'/mossgate-(?P<version>[\d.]+(?:-\w+)?)\.zip(?:\?(?P<channel>\w+))?$'`

// Every kind of source leads from a list of builds to a server that runs one.
func TestEachKindOfSourceLeadsToARunningServer(t *testing.T) {
	for name, c := range map[string]struct {
		source func(p *place, url string) []string
		list   []string // versions, oldest first
		to     string   // the newest of the channel
	}{
		"a feed": {func(p *place, url string) []string {
			return []string{"feed = '" + url + "/feed.json'", "channel = 'stable'"}
		},
			[]string{"3.4.1", "3.5.0", "3.6.1", "3.7.0-pre1"}, "3.6.1"},
		"a maker's JSON, newest first, with details": {func(p *place, url string) []string {
			return []string{"channel = 'steady'", "order = 'newest-first'", "[source.api]", "list = '" + url +
				"/api/builds.json'", "builds = '$.result.items[*]'", "version = '$.number'",
				"channel = '$.track'", "channels = { settled = 'steady', growing = 'preview' }", "date = '$.since'",
				"detail = '$.details'", "files = '$.files[?@.kind==\"server\"]'",
				"url = '$.href'", "size = '$.bytes'", "digests = { sha256 = '$.sum' }"}
		}, []string{"3.4.1", "3.5.0", "3.6.1", "3.7.0-pre1"}, "3.6.1"},
		"a page, with a checksum list": {func(p *place, url string) []string {
			return []string{"channel = 'stable'", "sums = 'SHA256SUMS'", "page.at = '" + url + "/downloads.html'",
				"page.links = 'table.gates a.get'", "page.pattern = " + zipNamed}
		}, []string{"3.4.1", "3.5.0", "3.6.1", "3.7.0-pre1"}, "3.6.1"},
		"one address": {func(p *place, url string) []string {
			return []string{"address.at = '" + url + "/latest.jar'", "rename = 'mossgate-server-x.jar'"}
		}, []string{""}, "3.7.0-pre1"},
		"a folder, part of it, some of it elsewhere": {func(p *place, _ string) []string {
			game := filepath.Join(p.Dir, "game")
			proving.Put(p.T, filepath.Join(game, "version.txt"), "mossgate = 3.6.1\n")
			proving.Put(p.T, filepath.Join(game, "client/mossgate.exe"), "MZ")
			jar, err := demo.Jar(fixed[2])
			require.NoError(p.T, err)
			proving.Put(p.T, filepath.Join(game, "server/bin/mossgate-server-3.6.1.jar"), string(jar))
			proving.Put(p.T, filepath.Join(game, "server/tracks/dew-loop.track"), "dew loop, surveyed anew\n")
			proving.Put(p.T, filepath.Join(game, "server/cache/x"), "x")
			return []string{"folder.at = '" + game + "'", "strip = 1", "version = 'file:version.txt'",
				"take = ['*', 'bin/**', 'tracks/**']", "leave = ['mossgate.exe']", "moved = { 'bin/*' = '/' }"}
		}, []string{"3.6.1"}, "3.6.1"},
		"archives in order, each with a sidecar": {func(p *place, _ string) []string {
			require.NoError(p.T, p.Harbour.PublishIncrement(filepath.Join(p.Dir, "archives"), fixed[1], fixed[2]))
			for _, name := range []string{"mossgate-3.5.0-full.zip", "mossgate-3.6.1-step.zip"} {
				at := filepath.Join(p.Dir, "archives", name)
				b, err := os.ReadFile(at)
				require.NoError(p.T, err)
				proving.Put(p.T, at+".sha256", fmt.Sprintf("%x\n", sha256.Sum256(b)))
			}
			return []string{"sums = '.sha256'", "removals = 'removed.txt'", "[source.archives]", "in = '../archives'",
				`full = '^mossgate-(?P<version>[\d.]+)-full\.zip$'`,
				`increment = '^mossgate-(?P<version>[\d.]+)-step\.zip$'`}
		}, []string{"3.5.0", "3.6.1"}, "3.6.1"},
		"a build command": {func(p *place, _ string) []string {
			for _, r := range fixed {
				jar, err := demo.Jar(r)
				require.NoError(p.T, err)
				proving.Put(p.T, filepath.Join(p.Dir, "mossgate-server-"+r.Version+".jar"), string(jar))
			}
			proving.Put(p.T, filepath.Join(p.Dir, "make.sh"),
				"#!/bin/sh\nset -e\necho \"brewing $1\"\nmkdir -p out\ncp \"$2/mossgate-server-$1.jar\" out\necho done >&2\n")
			return []string{"[source.command]", "run = ['" + filepath.Join(p.Dir, "make.sh") + "', '{version}', '" +
				p.Dir + "']", "list = ['echo', '3.5.0 3.6.1']", "limit = '1m'", "pick = 'out/mossgate-server-*.jar'"}
		}, []string{"3.5.0", "3.6.1"}, "3.6.1"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := mossgate(t, fixed...)
			require.NoError(t, p.Harbour.PublishElsewhere(fixed))
			_, url := p.serve()
			p.source(c.source(p, url)...)
			o := p.offer()
			assert.Equal(t, c.list, versions(o))
			last := o.Builds[len(o.Builds)-1]
			assert.True(t, last.Newer && !last.Installed, "%+v", last)
			assert.Contains(t, p.OK("builds").Out, "freshkeel preflight")
			r := p.Exits(exitNewer, "fetch", "--check")
			assert.Equal(t, 1, strings.Count(r.Out, "\n"), "one line: %q", r.Out)
			p.OK("start")
			r = p.OK("refit")
			assert.Contains(t, r.Out, "3.4.1 → "+c.to+" and runs")
			assert.Equal(t, c.to, p.Status().Version)
			assert.FileExists(t, filepath.Join(p.Install, "mossgate.jar"))
			for _, no := range []string{"removed.txt", "INSTALL-ME.txt", "harbour.pub", "cache/x", "version.txt.orig",
				"mossgate.exe", "bin"} {
				assert.NoFileExists(t, filepath.Join(p.Install, no))
			}
			r = p.OK("refit")
			assert.Contains(t, r.Out, "NOTHING TO DO")
			r = p.OK("fetch", "--check")
			assert.Empty(t, r.Out+r.Err, "quiet when nothing is newer")
			// Nothing of what was fetched is left lying about.
			left, _ := filepath.Glob(filepath.Join(p.Home, "locker", "incoming", "*.part*"))
			assert.Empty(t, left)
		})
	}
}

// quiet keeps a server's own log out of the test's.
var quiet = log.New(io.Discard, "", 0)

// One address: newness by its marks, and where those say nothing or too much,
// by content. The version comes from where the profile says.
func TestNewnessOfOneAddressIsByContentInTheEnd(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	require.NoError(t, p.Harbour.PublishElsewhere(fixed[:2]))
	site, url := p.serve()
	p.source("address.at = '"+url+"/latest.jar'", "rename = 'mossgate-server-x.jar'")
	p.OK("refit")
	require.Equal(t, "3.5.0", p.Status().Version)
	site.Seen()
	assert.Empty(t, p.OK("fetch", "--check").Out)
	for _, q := range site.Seen() {
		assert.Equal(t, http.MethodHead, q.Method, "marks it knows need no content")
	}
	// No marks at all: the content is fetched, and is the same.
	site.Misbehave("/latest.jar", demo.Fault{Blind: true})
	r := p.OK("fetch", "--check")
	assert.Empty(t, r.Out+r.Err)
	assert.Contains(t, p.OK("refit").Out, "NOTHING TO DO")
	// Other content: newer, whatever the marks.
	next, err := demo.Jar(fixed[2])
	require.NoError(t, err)
	p.putBuild("latest.jar", string(next))
	assert.Equal(t, "mossgate-east: newer: 3.6.1 (3.5.0 is installed)\n", p.Exits(exitNewer, "fetch", "--check").Out)
	site.Behave()
	assert.Contains(t, p.OK("builds").Out, "OTHER  the source (address) has other files than what is installed (3.5.0)")
	p.OK("refit")
	require.Equal(t, "3.6.1", p.Status().Version)
	// Out of reach, what was fetched of it is still there.
	site.Misbehave("/latest.jar", demo.Fault{Cut: 1, Status: http.StatusServiceUnavailable})
	r = p.OK("fetch")
	assert.Contains(t, r.Err, "offline: ")
	assert.Contains(t, r.Out, "FETCHED BEFORE  3.6.1")
	site.Behave()
	// An older one there is a step back.
	old, err := demo.Jar(fixed[1])
	require.NoError(t, err)
	p.putBuild("latest.jar", string(old))
	assert.Contains(t, p.Exits(exitRefused, "refit").Out, "3.5.0 is older than the installed 3.6.1")

	p.source("version = 'header:X-Build'", "address.at = '"+url+"/latest.jar'", "rename = 'mossgate-server-x.jar'")
	site.Misbehave("/latest.jar", demo.Fault{Header: "X-Build: 3.5.0"})
	assert.Equal(t, "3.5.0", p.offer().Builds[0].Version)
	site.Behave()
	p.source("version = 'name'", "address.at = '"+url+"/latest.jar'")
	site.Misbehave("/latest.jar", demo.Fault{Header: `Content-Disposition: attachment; filename="mossgate-3.9.jar"`})
	assert.Equal(t, "3.9", p.offer().Builds[0].Version)
}

// A proxy of the environment is used; its own host is never looked up here.
func TestProxiesComeFromTheEnvironment(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	site, url := p.servePlain()
	p.Env = append(p.Env, "HTTP_PROXY="+url, "NO_PROXY=")
	p.source("feed = 'http://builds.mossgate.example/feed.json'", "channel = 'stable'")
	p.OK("fetch", "3.5.0")
	assert.Len(t, site.Seen(), 2)
}
