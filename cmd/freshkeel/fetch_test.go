//go:build unix

package main

import (
	"crypto/md5"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"freshkeel/demo"
	"freshkeel/proving"

	"aead.dev/minisign"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const wantedZip = "/mossgate-3.5.0.zip"

// editFeed changes the harbour's feed as parsed JSON.
func (p *place) editFeed(edit func(build map[string]any)) {
	p.T.Helper()
	at := filepath.Join(p.Harbour.Builds, "feed.json")
	b, err := os.ReadFile(at)
	require.NoError(p.T, err)
	var f map[string]any
	require.NoError(p.T, json.Unmarshal(b, &f))
	for _, v := range f["builds"].([]any) {
		edit(v.(map[string]any))
	}
	b, err = json.Marshal(f)
	require.NoError(p.T, err)
	require.NoError(p.T, os.WriteFile(at, b, 0o644))
}

// part edits the only part of 3.5.0.
func part(edit func(part map[string]any)) func(map[string]any) {
	return func(b map[string]any) {
		if b["version"] == "3.5.0" {
			edit(b["parts"].([]any)[0].(map[string]any))
		}
	}
}

// unpinned takes size and digest of 3.5.0 out of the feed.
var unpinned = part(func(m map[string]any) { delete(m, "size"); delete(m, "digests") })

// What goes wrong on the way is named, changes nothing, leaves nothing half
// cached, and the next try succeeds.
func TestEachFetchThatFailsSaysWhyAndLeavesNothing(t *testing.T) {
	for name, c := range map[string]struct {
		breaks func(p *place, s *demo.Site, url string) (mend func())
		says   []string
	}{
		"wrong digest": {func(p *place, s *demo.Site, _ string) func() {
			b := []byte(p.readBuild("mossgate-3.5.0.zip"))
			b[len(b)/2] ^= 1
			s.Misbehave(wantedZip, demo.Fault{Instead: b})
			return s.Behave
		}, []string{"mossgate-3.5.0.zip: its sha256 is ", ", expected "}},
		"more than the feed says": {func(p *place, s *demo.Site, _ string) func() {
			s.Misbehave(wantedZip, demo.Fault{Instead: []byte(p.readBuild("mossgate-3.5.0.zip") + "more")})
			return s.Behave
		}, []string{"its size is more, expected"}},
		"an HTML page": {func(_ *place, s *demo.Site, _ string) func() {
			s.Misbehave(wantedZip, demo.Fault{Instead: []byte("\n<!DOCTYPE html><html>please log in")})
			return s.Behave
		}, []string{"what came is an HTML page (an error or login page, often), expected a build"}},
		"an empty file": {func(p *place, s *demo.Site, _ string) func() {
			p.editFeed(unpinned)
			s.Misbehave(wantedZip, demo.Fault{Instead: []byte{}})
			return s.Behave
		}, []string{"the file is empty, expected a build"}},
		"a placeholder": {func(p *place, s *demo.Site, _ string) func() {
			p.editFeed(unpinned)
			s.Misbehave(wantedZip, demo.Fault{Instead: []byte("moved to the new gate,\nask there")})
			return s.Behave
		}, []string{"what came is a few words of text: «moved to the new gate, ask there», expected a build"}},
		"cut short and closed as whole": {func(p *place, s *demo.Site, _ string) func() {
			p.editFeed(unpinned)
			s.Misbehave(wantedZip, demo.Fault{Instead: []byte(p.readBuild("mossgate-3.5.0.zip")[:200_000])})
			return s.Behave
		}, []string{"open mossgate-3.5.0.zip: zip: not a valid zip file"}},
		"a hostile archive": {func(p *place, s *demo.Site, _ string) func() {
			p.editFeed(unpinned)
			writeZip(p.T, filepath.Join(p.Harbour.Builds, "evil.zip"),
				map[string]string{"fine.txt": "x", "../../evil": "x"})
			s.Misbehave(wantedZip, demo.Fault{Instead: []byte(p.readBuild("evil.zip"))})
			return s.Behave
		}, []string{`entry "../../evil" leads out of the archive's folder; the archive is refused whole`}},
		"members only": {func(p *place, s *demo.Site, url string) func() {
			s.Misbehave(wantedZip, demo.Fault{Login: "Bearer swordfish"})
			return func() {
				p.Env = append(p.Env, "MOSSGATE_TOKEN=swordfish")
				p.EditProfile(func(s string) string {
					return s + "\n[[login]]\nhost = '" + strings.TrimPrefix(url, "https://") +
						"'\nfrom = 'env:MOSSGATE_TOKEN'\n"
				})
			}
		}, []string{"wants a login (401 Unauthorized)", "try: add to freshkeel.toml: [[login]] host = \"127.0.0.1:"}},
		"a redirect loop": {func(_ *place, s *demo.Site, url string) func() {
			s.Misbehave(wantedZip, demo.Fault{Redirect: url + wantedZip})
			return s.Behave
		}, []string{"it redirects in a loop: more than 10 times"}},
		"https sent to http": {func(p *place, s *demo.Site, _ string) func() {
			_, plain := p.servePlain()
			s.Misbehave(wantedZip, demo.Fault{Redirect: plain + wantedZip})
			return s.Behave
		}, []string{"it redirects from https to plain http: refused"}},
		"not there": {func(_ *place, s *demo.Site, _ string) func() {
			s.Misbehave(wantedZip, demo.Fault{Status: http.StatusNotFound})
			return s.Behave
		}, []string{"the server answered 404 Not Found"}},
		"nobody vouches for the site": {func(p *place, _ *demo.Site, _ string) func() {
			was := p.Env
			p.Env = append(p.Env, "SSL_CERT_FILE="+os.DevNull)
			return func() { p.Env = was }
		}, []string{"certificate signed by unknown authority"}},
		"the checksum list says otherwise": {func(p *place, s *demo.Site, _ string) func() {
			p.editFeed(part(func(m map[string]any) { m["sums"] = "SHA256SUMS" }))
			s.Misbehave("/SHA256SUMS", demo.Fault{Instead: []byte(strings.Repeat("ab", 32) + " *mossgate-3.5.0.zip\n")})
			return s.Behave
		}, []string{"its sha256 in SHA256SUMS is abab", "expected "}},
		"the checksum list does not know it": {func(p *place, s *demo.Site, _ string) func() {
			p.editFeed(part(func(m map[string]any) { m["sums"] = "SHA256SUMS" }))
			s.Misbehave("/SHA256SUMS", demo.Fault{Instead: []byte("# none\n" + strings.Repeat("ab", 32) +
				"  other.zip\n")})
			return s.Behave
		}, []string{"it has no digest for mossgate-3.5.0.zip"}},
		"unsigned": {func(p *place, _ *demo.Site, _ string) func() {
			key, sign := signer(t)
			p.keyed(key)
			return func() { p.putBuild("mossgate-3.5.0.zip.minisig", sign(p.readBuild("mossgate-3.5.0.zip"))) }
		}, []string{"it is not signed: no signature stands at https://",
			"mossgate-3.5.0.zip.minisig, and [source] key asks for one"}},
		"signed by another": {func(p *place, _ *demo.Site, _ string) func() {
			key, sign := signer(t)
			_, others := signer(t)
			p.keyed(key)
			p.putBuild("mossgate-3.5.0.zip.minisig", others(p.readBuild("mossgate-3.5.0.zip")))
			return func() { p.putBuild("mossgate-3.5.0.zip.minisig", sign(p.readBuild("mossgate-3.5.0.zip"))) }
		}, []string{"it is signed by another key"}},
		"signed, but other bytes": {func(p *place, _ *demo.Site, _ string) func() {
			key, sign := signer(t)
			p.keyed(key)
			p.putBuild("mossgate-3.5.0.zip.minisig", sign("something else"))
			return func() { p.putBuild("mossgate-3.5.0.zip.minisig", sign(p.readBuild("mossgate-3.5.0.zip"))) }
		}, []string{"its signature is wrong: these are not the bytes that were signed"}},
		"a signed feed was changed": {func(p *place, _ *demo.Site, _ string) func() {
			key, sign := signer(t)
			p.keyed(key)
			p.putBuild("feed.json.minisig", sign("another feed"))
			return func() { p.putBuild("feed.json.minisig", sign(p.readBuild("feed.json"))) }
		}, []string{"read the feed https://", "its signature is wrong"}},
	} {
		if !proving.TodayNamed(name) {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := mossgate(t, fixed...)
			require.NoError(t, p.Harbour.PublishElsewhere(fixed))
			site, url := p.serve()
			p.source("feed = '"+url+"/feed.json'", "channel = 'stable'", "silence = '2s'")
			mend := c.breaks(p, site, url)
			before := p.Tree()
			began := time.Now()
			r := p.Exits(exitFailed, "refit", "3.5.0")
			assert.Less(t, time.Since(began), 10*time.Second, "what can't be mended is not tried again and again")
			for _, says := range c.says {
				assert.Contains(t, r.Err, says)
			}
			assert.Equal(t, before, p.Tree())
			assert.Empty(t, p.cached(), "nothing is half cached")
			mend()
			r = p.OK("refit", "3.5.0")
			assert.NotContains(t, r.Out+r.Err, "swordfish")
			assert.Equal(t, "3.5.0", p.Status().Version)
			assert.NotContains(t, allOf(t, p.Install, p.Home), "swordfish", "no secret is written down (P9)")
		})
	}
}

func (p *place) readBuild(name string) string {
	p.T.Helper()
	b, err := os.ReadFile(filepath.Join(p.Harbour.Builds, name))
	require.NoError(p.T, err)
	return string(b)
}

func (p *place) putBuild(name, body string) {
	proving.Put(p.T, filepath.Join(p.Harbour.Builds, name), body)
}

// cached lists the builds and half-fetched files in the locker, the installed
// one aside.
func (p *place) cached() (out []string) {
	for _, pat := range []string{"sets/builds/build-*", "incoming/*.part", "incoming/inside-*"} {
		found, err := filepath.Glob(filepath.Join(p.Home, "locker", pat))
		require.NoError(p.T, err)
		out = append(out, found...)
	}
	return
}

// allOf is the text of every file below some folders, packs and programs aside.
func allOf(t *testing.T, dirs ...string) string {
	var all strings.Builder
	for _, dir := range dirs {
		require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() && !strings.Contains(path, "/packs/") {
				b, _ := os.ReadFile(path)
				all.Write(b)
			}
			return nil
		}))
	}
	return all.String()
}

// signer makes a key pair: the public key, and what signs with the other half.
func signer(t *testing.T) (key string, sign func(string) string) {
	pub, priv, err := minisign.GenerateKey(rand.Reader)
	require.NoError(t, err)
	text, err := pub.MarshalText()
	require.NoError(t, err)
	return string(text), func(s string) string {
		r := minisign.NewReader(strings.NewReader(s))
		var b [4096]byte
		for {
			if _, err := r.Read(b[:]); err != nil {
				break
			}
		}
		return string(r.Sign(priv))
	}
}

// keyed has the profile ask for a signature, by a key in a file.
func (p *place) keyed(key string) {
	proving.Put(p.T, filepath.Join(p.Dir, "club.pub"), key)
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "channel = 'stable'", "key = 'file:../club.pub'\nchannel = 'stable'", 1)
	})
}

// What passes by itself is waited for: nothing is spliced of two files, and no
// byte is asked for twice without need.
func TestFetchGoesOnWhereItWas(t *testing.T) {
	for name, c := range map[string]struct {
		fault  demo.Fault
		pinned bool
		ranges []string // asked for, of 3.5.0
		least  time.Duration
	}{
		"the line is cut": {demo.Fault{Times: 1, Cut: 100_000}, true, []string{"", "bytes=100000-"}, 0},
		"the line falls silent": {demo.Fault{Times: 1, Stall: 90_000}, true, []string{"", "bytes=90000-"},
			300 * time.Millisecond},
		"another file half-way": {demo.Fault{Times: 1, Cut: 80_000,
			Instead: []byte(strings.Repeat("other", 50_000))}, false, []string{"", "bytes=80000-"}, 0},
		"cut, and no validator": {demo.Fault{Times: 1, Cut: 70_000, Blind: true}, true, []string{"", ""}, 0},
		"a longer length than comes": {demo.Fault{Times: 1, Longer: 5000}, false, []string{"", "bytes=LENGTH-", ""},
			0},
		"busy, come back in a second": {demo.Fault{Times: 1, Status: http.StatusTooManyRequests, RetryAfter: "1"}, true,
			[]string{"", ""}, time.Second},
		"down for a moment": {demo.Fault{Times: 2, Status: http.StatusServiceUnavailable}, true,
			[]string{"", "", ""}, time.Second},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := mossgate(t, fixed...)
			site, url := p.serve()
			p.source("feed = '"+url+"/feed.json'", "channel = 'stable'", "silence = '300ms'")
			if !c.pinned {
				p.editFeed(unpinned)
			}
			site.Misbehave(wantedZip, c.fault)
			began := time.Now()
			p.OK("refit", "3.5.0")
			assert.GreaterOrEqual(t, time.Since(began), c.least)
			var ranges []string
			for _, r := range site.Seen() {
				if r.Path == wantedZip {
					ranges = append(ranges, r.Range)
					assert.Equal(t, r.Range != "", r.IfRange != "", "a range is asked for under a condition")
				}
			}
			for i := range c.ranges {
				c.ranges[i] = strings.Replace(c.ranges[i], "LENGTH", fmt.Sprint(len(p.readBuild("mossgate-3.5.0.zip"))),
					1)
			}
			assert.Equal(t, c.ranges, ranges)
			assert.Equal(t, "by lantern light\n", p.Read("tracks/lantern-row.track"))
		})
	}
}

// A secret goes to its host alone: not to where that redirects to, not over
// plain http, and into no output.
func TestSecretsGoToTheirHostAlone(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	members, at := p.serve()
	elsewhere, other := p.serve()
	host := strings.TrimPrefix(at, "https://")
	p.source("feed = '"+at+"/feed.json'", "channel = 'stable'")
	proving.Put(t, filepath.Join(p.Dir, "netrc"), "machine "+strings.Split(host, ":")[0]+
		" login ada password swordfish\n")
	proving.Put(t, filepath.Join(p.Dir, "secret"), "swordfish\n")
	p.Env = append(p.Env, "NETRC="+filepath.Join(p.Dir, "netrc"), "CLUB=swordfish")
	const basic = "Basic YWRhOnN3b3JkZmlzaA=="
	members.Misbehave(wantedZip, demo.Fault{Redirect: other + wantedZip})
	for from, want := range map[string]string{"from = 'netrc'": basic, "from = 'file:" + p.Dir +
		"/secret'\nuser = 'ada'": basic, "from = 'env:CLUB'\nheader = 'X-Club-Key'": "swordfish"} {
		p.EditProfile(func(s string) string {
			s, _, _ = strings.Cut(s, "\n[[login]]")
			return s + "\n[[login]]\nhost = '" + host + "'\n" + from + "\n"
		})
		require.NoError(t, os.RemoveAll(filepath.Join(p.Home, "locker", "sets", "builds")))
		r := p.OK("fetch", "3.5.0")
		for _, q := range members.Seen() {
			assert.Equal(t, want, q.Login, from)
		}
		others := elsewhere.Seen()
		require.NotEmpty(t, others)
		for _, q := range others {
			assert.Empty(t, q.Login, "not across a redirect to another host")
		}
		assert.NotContains(t, r.Out+r.Err+p.OK("--json", "builds").Out, "swordfish")
		members.Seen()
	}
	plain, url := p.servePlain()
	p.source("feed = '"+url+"/feed.json'", "channel = 'stable'")
	allow := func(more string) {
		p.EditProfile(func(s string) string {
			s, _, _ = strings.Cut(s, "\n[[login]]")
			return s + "\n[[login]]\nhost = '" + strings.TrimPrefix(url, "http://") + "'\nfrom = 'env:CLUB'\n" + more
		})
	}
	allow("")
	r := p.Exits(exitFailed, "builds")
	assert.Contains(t, r.Err, "would go over plain http; [[login]] plain = true allows it for this host")
	assert.Empty(t, plain.Seen(), "it was not even asked")
	allow("plain = true\n")
	p.OK("builds")
	assert.Equal(t, "Bearer swordfish", plain.Seen()[0].Login)
	p.source("feed = 'http://ada:swordfish@" + strings.TrimPrefix(url, "http://") + "/feed.json'")
	p.EditProfile(func(s string) string { s, _, _ = strings.Cut(s, "\n[[login]]"); return s })
	r = p.Exits(exitFailed, "builds")
	assert.Contains(t, r.Err, "over plain http")
	assert.NotContains(t, r.Err, "swordfish")
}

// A weak digest is checked, and called weak; one that is not there is said.
func TestWeakDigestsAreCheckedAndCalledWeak(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	site, url := p.serve()
	p.source("feed = '"+url+"/feed.json'", "channel = 'stable'")
	sum := md5.Sum([]byte(p.readBuild("mossgate-3.5.0.zip")))
	p.editFeed(part(func(m map[string]any) { m["digests"] = map[string]any{"md5": fmt.Sprintf("%x", sum)} }))
	broken := []byte(p.readBuild("mossgate-3.5.0.zip"))
	broken[99_999] ^= 1
	site.Misbehave(wantedZip, demo.Fault{Times: 1, Instead: broken})
	assert.Contains(t, p.Exits(exitFailed, "fetch", "3.5.0").Err, "its md5 is ")
	r := p.OK("fetch", "3.5.0")
	assert.Contains(t, r.Err, "vouched for by a weak digest alone (md5)")
	assert.Contains(t, p.OK("fetch", "--from", url+wantedZip).Err, "nothing vouches for mossgate-3.5.0.zip")
}

// Without a network what is cached is there to be used, and that it is old is
// said.
func TestOfflineWorksOnWhatIsCached(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	site, url := p.serve()
	p.source("feed = '"+url+"/feed.json'", "channel = 'stable'")
	p.OK("fetch", "3.5.0")
	site.Misbehave("/feed.json", demo.Fault{Cut: 1})
	r := p.Exits(exitNewer, "fetch", "--check")
	assert.Equal(t, "mossgate-east: newer: 3.6.1 (3.4.1 is installed)\n", r.Out)
	assert.Contains(t, r.Err, "offline: "+url+"/feed.json can't be reached")
	r = p.OK("builds")
	assert.Contains(t, r.Out, "the source can't be reached; this is what it offered on")
	assert.Regexp(t, `3\.5\.0 +newer .* fetched`, r.Out)
	r = p.Exits(exitFailed, "refit")
	assert.Contains(t, r.Err, "3.6.1 is not in the locker, and its source can't be reached")
	p.OK("refit", "3.5.0")
	assert.Equal(t, "3.5.0", p.Status().Version)
}

// Parts are fetched side by side; a key in the profile holds for what is named
// by hand, too.
func TestPartsComeSideBySideAndTheKeyHoldsForAllOfThem(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	key, sign := signer(t)
	var both sync.WaitGroup
	both.Add(2)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(r.URL.Path, "/")
		if strings.HasSuffix(name, ".zip") {
			both.Done()
			both.Wait() // neither is answered before both are asked for
		}
		http.ServeFile(w, r, filepath.Join(p.Harbour.Builds, name))
	}))
	t.Cleanup(srv.Close)
	writeZip(t, filepath.Join(p.Harbour.Builds, "more.zip"), map[string]string{"tracks/more.track": "more"})
	p.editFeed(func(b map[string]any) {
		if b["version"] == "3.5.0" {
			b["parts"] = append(b["parts"].([]any), map[string]any{"url": "more.zip"})
		}
	})
	p.source("feed = '"+srv.URL+"/feed.json'", "channel = 'stable'")
	p.OK("fetch", "3.5.0")

	p.keyed(key)
	at := filepath.Join(p.Harbour.Builds, "mossgate-3.6.1.zip")
	assert.Contains(t, p.Exits(exitFailed, "preflight", "--from", at).Err, "it is not signed")
	assert.Contains(t, p.Exits(exitFailed, "preflight", "--from", p.Harbour.Builds).Err,
		"is a folder, which can't be signed")
	proving.Put(t, at+".minisig", sign(p.readBuild("mossgate-3.6.1.zip")))
	p.OK("refit", "--from", at)
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "key = 'file:../club.pub'", "key = 'https://club.example/club.pub'", 1)
	})
	r := p.Exits(exitUsage, "status")
	assert.Contains(t, r.Err, "source.key: a key is never fetched")
}

// Killed while it downloads, the next try goes on at the byte where it was.
func TestKilledWhileFetchingGoesOn(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	site, url := p.serve()
	p.source("feed = '"+url+"/feed.json'", "channel = 'stable'")
	site.Misbehave(wantedZip, demo.Fault{Times: 1, Stall: 90_000})
	cmd := p.Command("fetch", "3.5.0")
	require.NoError(t, cmd.Start())
	proving.Until(t, "half of it is here", func() bool {
		parts, _ := filepath.Glob(filepath.Join(p.Home, "locker", "incoming", "*.part"))
		if len(parts) == 0 {
			return false
		}
		fi, err := os.Stat(parts[0])
		return err == nil && fi.Size() == 90_000
	})
	require.NoError(t, cmd.Process.Kill())
	cmd.Wait()
	site.Seen()
	p.OK("fetch", "3.5.0")
	var ranges []string
	for _, q := range site.Seen() {
		if q.Path == wantedZip && q.Range != "" {
			ranges = append(ranges, q.Range)
		}
	}
	assert.Equal(t, []string{"bytes=90000-"}, ranges)
	left, err := filepath.Glob(filepath.Join(p.Home, "locker", "incoming", "*.part*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// Two commands that want one build share one download; an interrupted one says
// that nothing was changed.
func TestTwoFetchesShareOneDownload(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	site, url := p.serve()
	p.source("feed = '"+url+"/feed.json'", "channel = 'stable'")
	var both sync.WaitGroup
	out := make([]proving.Ran, 4)
	for i := range out {
		both.Go(func() { out[i] = p.Run("--json", "fetch", "3.5.0") })
	}
	both.Wait()
	cached := 0
	for _, r := range out {
		assert.Equal(t, exitDone, r.Code, r.Err)
		var f struct{ Cached bool }
		require.NoError(t, json.Unmarshal([]byte(r.Out), &f))
		if f.Cached {
			cached++
		}
	}
	assert.Equal(t, 3, cached)
	asked := 0
	for _, q := range site.Seen() {
		if q.Path == wantedZip {
			asked++
		}
	}
	assert.Equal(t, 1, asked)

	site.Misbehave("/mossgate-3.6.1.zip", demo.Fault{Stall: 50_000})
	cmd := p.Command("fetch", "3.6.1")
	var errb strings.Builder
	cmd.Stderr = &errb
	require.NoError(t, cmd.Start())
	proving.Until(t, "it is under way", func() bool {
		parts, _ := filepath.Glob(filepath.Join(p.Home, "locker", "incoming", "*.part"))
		return len(parts) > 0
	})
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	cmd.Wait()
	assert.Equal(t, exitFailed, cmd.ProcessState.ExitCode())
	assert.Contains(t, errb.String(), "interrupted; nothing was changed")

	var n struct {
		Newer []struct{ Installed, Version string }
	}
	require.NoError(t, json.Unmarshal([]byte(p.Exits(exitNewer, "--json", "fetch", "--check").Out), &n))
	require.Len(t, n.Newer, 1)
	assert.Equal(t, "3.6.1", n.Newer[0].Version)
	assert.Contains(t, p.OK("fetch", "--dry-run").Out, "WOULD FETCH  3.6.1, ")
	assert.Contains(t, p.OK("fetch", "3.5.0", "--dry-run").Out, "FETCHED  3.5.0 is in the locker already")
}

// A key can't be passed by: not by a build that was fetched before the key was set,
// not by taking the feed's signature away, not by a signed list that leaves a digest
// out. A list that goes back in time, or has expired, is told.
func TestAKeyCanNotBePassedBy(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	key, sign := signer(t)
	p.OK("fetch", "3.5.0") // unsigned, and in the locker from now on
	p.keyed(key)
	assert.Contains(t, p.Exits(exitFailed, "fetch", "3.5.0").Err, "it is not signed")
	signFeed := func() { p.putBuild("feed.json.minisig", sign(p.readBuild("feed.json"))) }
	signFeed()
	r := p.OK("fetch", "3.5.0")
	assert.Contains(t, r.Out, "FETCHED", "again, and held against the list that is signed")
	assert.NotContains(t, p.OK("fetch", "3.5.0").Out, "FETCHED  ", "now it is there, vouched for")

	// Somebody who serves the files has an old archive with a good signature of its
	// own, and a list of his own making.
	proving.Put(t, filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip.minisig"),
		sign(p.readBuild("mossgate-3.4.1.zip")))
	signed := p.readBuild("feed.json")
	require.NoError(t, os.Remove(filepath.Join(p.Harbour.Builds, "feed.json.minisig")))
	relabel := `{"format":"freshkeel-feed/1","builds":[{"version":"9.0.0","channel":"stable","parts":[{"url":"mossgate-3.4.1.zip"}]}]}`
	p.putBuild("feed.json", relabel)
	r = p.Exits(exitFailed, "refit")
	assert.Contains(t, r.Err, "is not signed, and was when it was last asked")
	// To whom the list was never seen signed, what is signed says which version the old archive is.
	afresh := []string{"FRESHKEEL_HOME=" + t.TempDir()}
	r = p.RunWith(afresh, "fetch", "9.0.0")
	assert.Equal(t, exitFailed, r.Code)
	assert.Contains(t, r.Err, "calls it 9.0.0: by what is signed it is 3.4.1")
	// Signed by the maker himself, but with no digest in it.
	p.putBuild("feed.json", relabel)
	signFeed()
	assert.Contains(t, p.Exits(exitFailed, "builds").Err,
		"mossgate-3.4.1.zip has no digest (sha256, sha512 or blake3) in a list that is signed")

	dated := func(made, expires string) {
		p.putBuild("feed.json", strings.Replace(signed, `"builds"`,
			fmt.Sprintf("\"made\": %q,\n\"expires\": %q,\n\"builds\"", made, expires), 1))
		signFeed()
	}
	dated("2026-05-02T00:00:00Z", "2126-01-01")
	assert.NotContains(t, p.OK("builds").Err, "warn")
	dated("2026-05-01T00:00:00Z", "2126-01-01")
	assert.Contains(t, p.Exits(exitFailed, "builds").Err, "a newer list of 2026-05-02")
	p.putBuild("feed.json", signed)
	signFeed()
	assert.Contains(t, p.Exits(exitFailed, "builds").Err, "does not say when it was written, and a list of 2026-05-02")
	dated("2026-05-03T00:00:00Z", "2026-05-04")
	assert.Contains(t, p.OK("builds").Err, "has expired, on 2026-05-04")
}

// A build may come in parts: a base and what is laid over it, each with rules.
func TestBuildInPartsAndTheMakersSteps(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	writeZip(t, filepath.Join(p.Harbour.Builds, "more.zip"),
		map[string]string{"wrap/tracks/dew-loop.track": "laid over", "wrap/tracks/extra.track": "extra"})
	writeTarball(t, filepath.Join(p.Harbour.Builds, "songs.tar.gz"), map[string]string{"night.song": "la"})
	proving.Put(t, filepath.Join(p.Harbour.Builds, "notice.md"), "single")
	b, err := os.ReadFile(filepath.Join(p.Harbour.Builds, "feed.json"))
	require.NoError(t, err)
	var feed map[string]any
	require.NoError(t, json.Unmarshal(b, &feed))
	builds := feed["builds"].([]any)
	feed["builds"] = append(builds[:1:1], map[string]any{"version": "3.4.5", "channel": "stable", "parts": []any{
		map[string]any{"url": "mossgate-3.5.0.zip"},
		map[string]any{"url": "more.zip", "unpack": map[string]any{"strip": 1}},
		map[string]any{"url": "songs.tar.gz", "unpack": map[string]any{"into": "songs"}},
		map[string]any{"url": "notice.md", "unpack": map[string]any{"as": "file", "name": "NOTICE.md"}},
	}}, map[string]any{"version": "3.9.8", "from": []any{"3.4.4"},
		"parts": []any{map[string]any{"url": "mossgate-3.5.0.zip"}}},
		map[string]any{"version": "3.9.9", "channel": "stable", "from": []any{"3.4.5"},
			"parts": []any{map[string]any{"url": "mossgate-3.5.0.zip"}}})
	b, err = json.Marshal(feed)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(p.Harbour.Builds, "feed.json"), b, 0o644))

	r := p.Exits(exitRefused, "refit", "3.9.8")
	assert.Contains(t, r.Out, "the maker does not let 3.4.1 step to 3.9.8 directly")
	assert.Contains(t, r.Out, "no chain of builds that the source offers leads there")
	p.EditProfile(func(s string) string { return strings.Replace(s, "version = '^mossgate", "# '^mossgate", 1) })
	p.OK("refit", "3.4.5")
	assert.Equal(t, "laid over", p.Read("tracks/dew-loop.track"))
	assert.Equal(t, "extra", p.Read("tracks/extra.track"))
	assert.Equal(t, "la", p.Read("songs/night.song"))
	assert.Equal(t, "single", p.Read("NOTICE.md"))
	p.OK("refit", "3.9.9")
	assert.NoFileExists(t, filepath.Join(p.Install, "songs/night.song"))
	assert.NoDirExists(t, filepath.Join(p.Install, "songs"))
}
