// Package stand makes an install file by file, for tests of rooms: what stands there, what
// the old build put there, and a new build in the locker.
package stand

import (
	"bytes"
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"freshkeel/internal/acquire"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/tree"

	"github.com/stretchr/testify/require"
)

// Stand is an install whose old build, present content and new build are given file by
// file.
type Stand struct {
	T        *testing.T
	In       *install.Install
	Inv      *inventory.Kept
	Res      *resolve.Resolver
	Runtimes *runtimes.Rack
}

// New is an empty install with a profile; prof is what stands in it besides its name.
func New(t *testing.T, prof string) *Stand {
	t.Helper()
	dir := t.TempDir()
	p, err := profile.Parse("p", []byte("[server]\nname = 'x'\n"+prof))
	require.NoError(t, err)
	in := install.New(dir, p, install.Options{Home: t.TempDir()})
	inv := inventory.New(in)
	res := resolve.New(in, inv)
	require.NoError(t, os.MkdirAll(in.State(), 0o755))
	return &Stand{t, in, inv, res, runtimes.New(in, res)}
}

// Put writes files of the install; a name that ends in a slash is a folder.
func (s *Stand) Put(files map[string]string) {
	s.T.Helper()
	for at, body := range files {
		full := s.In.Path(at)
		if strings.HasSuffix(at, "/") {
			require.NoError(s.T, os.MkdirAll(full, 0o755))
			continue
		}
		require.NoError(s.T, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(s.T, os.WriteFile(full, []byte(body), 0o644))
	}
}

// Build stores files as a build in the locker.
func (s *Stand) Build(ver string, files map[string]string) *acquire.Fetched {
	s.T.Helper()
	l, err := s.In.Locker()
	require.NoError(s.T, err)
	w := l.Writer()
	defer w.Close()
	set := &locker.Set{Owner: locker.Builds, ID: "build-" + ver, Version: ver, Taken: time.Now()}
	for _, at := range slices.Sorted(maps.Keys(files)) {
		f := locker.File{}
		if !strings.HasSuffix(at, "/") {
			f, err = w.Add(context.Background(), bytes.NewReader([]byte(files[at])), nil)
			require.NoError(s.T, err)
		}
		size := f.Size
		f.Entry = tree.Entry{Path: strings.TrimSuffix(at, "/"), Kind: tree.File, Mode: 0o644, UID: tree.NoID,
			GID: tree.NoID, Mtime: 1}
		f.Size = size
		if strings.HasSuffix(at, "/") {
			f.Kind, f.Mode = tree.Dir, 0o755
		}
		set.Entries = append(set.Entries, f)
	}
	require.NoError(s.T, w.Publish(set))
	return &acquire.Fetched{Set: set, Version: ver,
		Candidate: &resolve.Candidate{Version: ver, Place: s.In.Profile.Place}}
}

// Installed records files as what the old build put there.
func (s *Stand) Installed(ver string, files map[string]string) {
	s.T.Helper()
	inv := &inventory.Inventory{Version: ver, Known: true}
	for at, body := range files {
		inv.Files = append(inv.Files, inventory.Owned{Entry: tree.Entry{Path: at, Kind: tree.File,
			Size: int64(len(body)), Mode: 0o644}, Sum: tree.SumBytes([]byte(body))})
	}
	require.NoError(s.T, inventory.Write(s.In.State("inventory.json"), inv))
}
