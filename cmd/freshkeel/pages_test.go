//go:build unix

package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// counted counts the bytes of body that go out.
type counted struct {
	http.ResponseWriter
	n *atomic.Int64
}

func (c counted) Write(b []byte) (int, error) {
	n, err := c.ResponseWriter.Write(b)
	c.n.Add(int64(n))
	return n, err
}

// A new build of which a large file has changed in a few pages, or has grown at its beginning,
// costs about that much on the line and in the locker, whatever the server makes of ranges;
// what does not come as the list of pages has it is fetched whole.
func TestOfALargeFileOnlyWhatChangedIsFetchedAndStored(t *testing.T) {
	t.Parallel()
	const size, page = 12 << 20, 4096
	noise := rand.NewChaCha8([32]byte{7})
	asset := make([]byte, size)
	noise.Read(asset)
	paged := bytes.Clone(asset)
	for i := range 40 {
		noise.Read(paged[(i*73%3000)*page:][:page])
	}
	grown := append([]byte("and something before it"), paged...)
	site := t.TempDir()
	for version, text := range map[string][]byte{"1.0": asset, "1.1": paged, "1.2": grown} {
		zipOf(t, filepath.Join(site, "pond-"+version+".zip"), time.Now(), true, "assets/sky.pak", string(text),
			"run.sh", "#!/bin/sh\necho pond "+version+"\nexec sleep 60\n")
	}
	// What has grown at its beginning costs the piece or two that are cut anew.
	mostStored := [2]int64{200_000, 1_500_000}
	p := proving.Bare(t)
	p.OK("feed", "write", site, "--name", "pond", "--listing")

	for name, c := range map[string]struct {
		serve func(w http.ResponseWriter, r *http.Request, files http.Handler)
		most  [2]int64 // bytes on the line for 1.1 and 1.2
		note  string
	}{
		"ranges": {func(w http.ResponseWriter, r *http.Request, files http.Handler) { files.ServeHTTP(w, r) },
			[2]int64{250_000, 60_000}, ""},
		"one range at a time": {func(w http.ResponseWriter, r *http.Request, files http.Handler) {
			if first, _, many := strings.Cut(r.Header.Get("Range"), ","); many {
				r.Header.Set("Range", first)
			}
			files.ServeHTTP(w, r)
		}, [2]int64{2_000_000, 100_000}, ""},
		"no ranges": {func(w http.ResponseWriter, r *http.Request, files http.Handler) {
			r.Header.Del("Range")
			files.ServeHTTP(w, r)
		}, [2]int64{2*size + 100_000, 2*size + 100_000}, "is fetched whole: fetch parts of"},
		"a lost list of pages": {func(w http.ResponseWriter, r *http.Request, files http.Handler) {
			if strings.HasSuffix(r.URL.Path, ".pages") {
				http.NotFound(w, r)
				return
			}
			files.ServeHTTP(w, r)
		}, [2]int64{size + 100_000, size + 100_000}, "is fetched whole"},
		"wrong pages": {func(w http.ResponseWriter, r *http.Request, files http.Handler) {
			if r.Header.Get("Range") != "" {
				w.Header().Set("Content-Range", fmt.Sprintf("bytes 0-4095/%d", size))
				w.WriteHeader(http.StatusPartialContent)
				w.Write(make([]byte, page))
				return
			}
			files.ServeHTTP(w, r)
		}, [2]int64{size + 400_000, size + 400_000}, "is fetched whole"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var sent atomic.Int64
			files := http.FileServer(http.Dir(site))
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				c.serve(counted{w, &sent}, r, files)
			}))
			defer server.Close()
			p := proving.Bare(t)
			p.Put("freshkeel.toml", "[server]\nname = 'pond'\n[source]\nfeed = '"+server.URL+"/feed.json'\n")
			p.OK("fetch", "1.0")
			for i, version := range []string{"1.1", "1.2"} {
				before := storedIn(t, p.Home)
				sent.Store(0)
				r := p.OK("fetch", version)
				assert.LessOrEqual(t, sent.Load(), c.most[i], version)
				assert.Less(t, storedIn(t, p.Home)-before, mostStored[i], "%s is stored over what was there", version)
				if c.note != "" {
					assert.Contains(t, r.Err, c.note)
				}
			}
			// What came together so is the build.
			want := p.Run("compare", filepath.Join(site, "pond-1.2.zip"), "1.2")
			assert.Equal(t, exitDone, want.Code, want.Out+want.Err)
		})
	}

	// Out of archives and folders the same is stored, though all of it is read.
	q := proving.Bare(t)
	q.Put("freshkeel.toml", "[server]\nname = 'pond'\n[source.archives]\nin = '"+site+"'\n"+
		"full = '^pond-(?P<version>.+)\\.zip$'\n")
	for i, version := range []string{"1.0", "1.1", "1.2"} {
		var before int64
		if i > 0 {
			before = storedIn(t, q.Home)
		}
		q.OK("fetch", version)
		if i > 0 {
			assert.Less(t, storedIn(t, q.Home)-before, mostStored[i-1], version)
		}
	}
	var r struct{ Builds []map[string]any }
	require.NoError(t, json.Unmarshal([]byte(q.OK("--json", "builds", "--kept").Out), &r))
	require.Len(t, r.Builds, 3)
	q.OK("builds", "drop", "1.0", "1.1", "--yes")
	want := q.Run("compare", filepath.Join(site, "pond-1.2.zip"), "1.2")
	assert.Equal(t, exitDone, want.Code, "what it lies over is still there: "+want.Out+want.Err)
}

// storedIn is how many bytes the packs of a home have.
func storedIn(t *testing.T, home string) (n int64) {
	require.NoError(
		t,
		filepath.WalkDir(filepath.Join(home, "locker", "packs"), func(at string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			fi, err := os.Stat(at)
			if err == nil {
				n += fi.Size()
			}
			return err
		}),
	)
	return n
}
