package feed

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"

	"golang.org/x/sync/errgroup"
)

// notServer are what makers put beside a build for people: instructions,
// signatures, keys, checksums and archives. An archive source that says nothing
// of leave leaves them out.
var notServer = tree.Patterns{
	"**/*.{minisig,asc,sig,sha256,sha512,sha1,md5,b3}", "**/{SHA256SUMS,SHA512SUMS,B3SUMS,MD5SUMS}*",
	"**/*.{pub,key,pem}", "*[Kk][Ee][Yy]*.txt",
	"{README,Readme,readme,CHANGE,Change,change}*",
	"*{INSTALL,Install,install,INSTRUCTIONS,Instructions,instructions,UPGRADE,Upgrade,upgrade}*.{txt,md,html,pdf}",
	"**/*.{zip,7z,rar,tar,tgz,gz,xz,zst,bz2}",
}

// archives are full builds in a folder of this machine, and increments that
// are laid over them in the order of their versions.
func (r *reader) archives() (*Feed, error) {
	in := r.at(r.Archives.In)
	if len(r.Leave) == 0 {
		r.Leave = notServer
	}
	if len(r.Archives.Parts) > 0 {
		var parts []Part
		mark := tree.NewHash() // of the files as they lie there: one that is exchanged is another build
		for _, name := range r.Archives.Parts {
			full := filepath.Join(in, filepath.FromSlash(name))
			p, err := r.part(full)
			if err != nil {
				return nil, err
			}
			fi, err := os.Stat(full)
			if err != nil {
				return nil, fmt.Errorf("[source.archives] parts: %w", err)
			}
			mark.WriteString(fmt.Sprintf("%q %d %d\n", name, fi.Size(), fi.ModTime().UnixNano()))
			parts = append(parts, p)
		}
		last := r.Archives.Parts[len(r.Archives.Parts)-1]
		return &Feed{Builds: []Build{{Version: r.versionOf(&fetch.Seen{Name: last}), Parts: parts,
			Mark: "parts-" + mark.Sum().String()[:16]}}}, nil
	}
	list, err := os.ReadDir(in)
	if err != nil {
		return nil, err
	}
	full, steps := map[string]Part{}, map[string]Part{}
	over := map[string]string{}
	for _, d := range list {
		if d.IsDir() {
			continue
		}
		into, pattern := full, r.Archives.Full
		m := pattern.FindStringSubmatch(d.Name())
		if inc := r.Archives.Increment; inc.Given() {
			if im := inc.FindStringSubmatch(d.Name()); im != nil {
				into, pattern, m = steps, inc, im
			}
		}
		if m == nil {
			continue
		}
		v := m[pattern.SubexpIndex("version")]
		if first, twice := into[v]; twice {
			return nil, fmt.Errorf("%s and %s both say that they are %s", fetch.NameOf(first.URL), d.Name(), v)
		}
		if into[v], err = r.part(filepath.Join(in, d.Name())); err != nil {
			return nil, err
		}
		if i := pattern.SubexpIndex("over"); i >= 0 && into[v].URL != "" {
			over[v] = m[i]
		}
	}
	f := &Feed{}
	for v, p := range full {
		f.Builds = append(f.Builds, Build{Version: v, Parts: []Part{p}, Notes: "full build"})
	}
	for v := range steps {
		if _, whole := full[v]; !whole {
			f.Builds = append(f.Builds, increments(v, full, steps, over))
		}
	}
	if len(f.Builds) == 0 {
		return nil, errors.New("no archive there matches [source.archives] full")
	}
	r.sort(f)
	return f, nil
}

// increments is the build that an increment ends in: the newest full build
// before it, and each increment from there on.
func increments(v string, full, steps map[string]Part, over map[string]string) Build {
	b := Build{Version: v}
	base := ""
	for w := range full {
		if version.Compare(w, v) < 0 && (base == "" || version.Compare(w, base) > 0) {
			base = w
		}
	}
	broken := func(why string) Build {
		b.Notes = why
		b.details = func(context.Context, *Build) error { return errors.New(why) }
		return b
	}
	if base == "" {
		return broken("there is no full build before it")
	}
	order := []string{}
	for w := range steps {
		if version.Compare(w, base) > 0 && version.Compare(w, v) <= 0 {
			order = append(order, w)
		}
	}
	slices.SortFunc(order, version.Compare)
	b.Parts = []Part{full[base]}
	at := base
	for _, w := range order {
		if over[w] != "" && over[w] != at {
			return broken(fmt.Sprintf("the increment to %s goes over %s, and that is not there", w, over[w]))
		}
		b.Parts = append(b.Parts, steps[w])
		at = w
	}
	b.Notes = fmt.Sprintf("%d over %s", len(order), base)
	if len(order) == 1 {
		b.Notes = "one increment over " + base
	} else {
		b.Notes = fmt.Sprintf("%d increments over %s", len(order), base)
	}
	return b
}

// remembered is what a folder's file held when it was last read.
type remembered struct {
	tree.Entry
	Sum    tree.Sum `json:"sum"`
	ReadAt int64    `json:"read_at"` // nanoseconds since 1970
}

// folder is a folder of this machine. What it holds is told by content: only
// files whose times prove nothing are read again.
func (r *reader) folder(ctx context.Context) (*Feed, error) {
	root := r.at(r.Folder.At)
	rule := r.rule()
	if err := rule.Check(); err != nil {
		return nil, err
	}
	if tree.Inside(root, r.Dir) || tree.Inside(r.Dir, root) {
		return nil, errors.New("it lies in the install, or the install in it")
	}
	list, err := tree.Walk(root, tree.Patterns{"freshkeel.toml"})
	if err != nil {
		return nil, err
	}
	memo := map[string]remembered{}
	if b, err := os.ReadFile(r.Memo); err == nil {
		json.Unmarshal(b, &memo)
	}
	now := map[string]remembered{}
	held := map[string]tree.Sum{}
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for _, e := range list {
		to := rule.Path(e.Path)
		if to == "" || e.Kind == tree.Dir {
			continue
		}
		if e.Kind == tree.Link {
			mu.Lock()
			held[to] = tree.SumBytes([]byte("link to " + e.Target))
			mu.Unlock()
			continue
		}
		g.Go(func() error {
			m, ok := memo[e.Path]
			if !ok || !e.SameIdentity(m.Entry) || !e.Settled(m.ReadAt) {
				if err := ctx.Err(); err != nil {
					return err
				}
				m = remembered{Entry: e, ReadAt: time.Now().UnixNano()}
				var err error
				if m.Sum, err = tree.SumFile(filepath.Join(root, filepath.FromSlash(e.Path))); err != nil {
					return err
				}
			}
			mu.Lock()
			defer mu.Unlock()
			now[e.Path], held[to] = m, m.Sum
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	if len(held) == 0 {
		return nil, errors.New("nothing of it is left by take and leave")
	}
	if b, err := json.Marshal(now); err == nil && r.Memo != "" {
		if err := os.MkdirAll(filepath.Dir(r.Memo), 0o700); err == nil {
			tree.WriteFile(r.Memo, b, 0o600) // only saves reading: a full disk is no reason to stop
		}
	}
	b := Build{Mark: "content-" + sumOf(held), Tree: held, Parts: []Part{{Folder: root, Unpack: rule}}}
	if kind, at, _ := strings.Cut(r.Version, ":"); kind == "file" {
		text, err := os.ReadFile(filepath.Join(root, filepath.FromSlash(at)))
		if err != nil {
			return nil, fmt.Errorf("the version: %w", err)
		}
		b.Version = version.InText(string(text))
	}
	return &Feed{Builds: []Build{b}}, nil
}
