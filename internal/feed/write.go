package feed

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/pages"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/version"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
)

// Order is a feed to be written.
type Order struct {
	Dir     string // folder of archives; a folder in it is a channel
	Name    string // of the software; "": as the feed there has it
	Listing bool   // publish each file by itself too
}

// FileName is the feed's name in its folder.
const FileName = "feed.json"

// Write makes a feed of a folder of archives, each named after its version. What
// a feed that stands there says of a version, and no file can tell (channel,
// notes, date, needs, from, fits, runtimes), is kept. Builds come in the order of their versions.
func Write(ctx context.Context, o Order) (*Feed, error) {
	old := &Feed{}
	at := filepath.Join(o.Dir, FileName)
	if b, err := os.ReadFile(at); err == nil {
		if old, err = Parse(b); err != nil {
			return nil, fmt.Errorf("%s: %w", at, err)
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	f := &Feed{Format: Format, Name: orOther(o.Name, old.Name), Steps: old.Steps, Expires: old.Expires}
	rows, folders, err := archivesIn(ctx, o.Dir)
	if err != nil {
		return nil, err
	}
	made, err := (&reader{}).builds(rows)
	if err != nil {
		return nil, err
	}
	f.Builds = made.Builds
	listed := map[string][]ListedFile{}
	for i := range f.Builds {
		b := &f.Builds[i]
		if was, ok := old.Find(b.Version); ok {
			b.Notes, b.Number, b.Needs, b.From, b.Fits, b.Runtimes = was.Notes, was.Number, was.Needs, was.From, was.Fits, was.Runtimes
			if was.Date != "" {
				b.Date = was.Date
			}
			if was.Channel != "" && !folders[b.Version] {
				b.Channel = was.Channel
			}
			b.keepRules(was)
		}
		if o.Listing {
			if err := publishFiles(ctx, o.Dir, b, f.Builds[max(0, i-changesKept):i], listed); err != nil {
				return nil, fmt.Errorf("%s: %w", b.Version, err)
			}
		}
	}
	// A list that says the same is the same, to the byte: a signature over it holds.
	if was, err := json.Marshal(old.Builds); err == nil {
		if now, err := json.Marshal(f.Builds); err == nil && bytes.Equal(was, now) {
			f.Made = old.Made
		}
	}
	if f.Made == "" {
		f.Made = time.Now().UTC().Format(time.RFC3339)
	}
	text, err := json.MarshalIndent(f, "", "  ")
	if err != nil {
		return nil, err
	}
	if _, err := Parse(text); err != nil {
		return nil, fmt.Errorf("the feed that would be written can't be read back: %w", err)
	}
	return f, tree.WriteFile(at, append(text, '\n'), 0o644)
}

// archivesIn lists the archives of a folder and of those directly in it, each with what its
// name and its content tell. folders are the versions whose channel is that of their folder.
func archivesIn(ctx context.Context, dir string) (rows []offered, folders map[string]bool, err error) {
	list, err := tree.Walk(dir, tree.Patterns{"files/**", "listings/**", "runtimes/**"})
	if err != nil {
		return nil, nil, err
	}
	var skipped []string
	folders = map[string]bool{}
	for _, e := range list {
		name := path.Base(e.Path)
		if e.Kind != tree.File || !isArchiveName(name) || strings.Count(e.Path, "/") > 1 {
			continue
		}
		row := nameTells(name)
		if row.version == "" {
			skipped = append(skipped, e.Path)
			continue
		}
		row.channel = "stable"
		if channel := path.Dir(e.Path); channel != "." {
			row.channel, folders[row.version] = channel, true
		} else if version.Compare(row.version, release(row.version)) < 0 {
			row.channel = "preview"
		}
		row.date = time.Unix(0, e.Mtime).UTC().Format(time.DateOnly)
		if row.part.Wanted, err = wantedFile(ctx, filepath.Join(dir, filepath.FromSlash(e.Path))); err != nil {
			return nil, nil, err
		}
		row.part.URL = e.Path
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return nil, nil, fmt.Errorf("no archive in %s has a version in its name %v", dir, skipped)
	}
	return rows, folders, nil
}

func orOther(s, other string) string {
	if s != "" {
		return s
	}
	return other
}

// keepRules takes over how each part is to be opened, by its address.
func (b *Build) keepRules(was Build) {
	rules := map[string]unpack.Rule{}
	for _, ps := range append([][]Part{was.Parts}, variantParts(was.Variants)...) {
		for _, p := range ps {
			rules[p.URL] = p.Unpack
		}
	}
	for _, ps := range append([][]Part{b.Parts}, variantParts(b.Variants)...) {
		for i := range ps {
			ps[i].Unpack = rules[ps[i].URL]
		}
	}
}

var (
	nameParts = regexp.MustCompile(`[-_ ]+`)
	preWord   = regexp.MustCompile(`(?i)[-.+]?(alpha|beta|rc|pre|preview|snapshot|dev|nightly)[-.\d]*$`)
)

// release is the version that a pre-release leads to.
func release(v string) string { return preWord.ReplaceAllString(v, "") }

// nameTells reads version, system, processor and variant from a file name:
// "mossgate-addons-3.5.0-linux-arm64.zip".
func nameTells(name string) (o offered) {
	o.version = version.In(name)
	if o.version == "" {
		return o
	}
	stem := name
	for isArchiveName(stem) || strings.HasSuffix(stem, ".tar") {
		stem = strings.TrimSuffix(stem, path.Ext(stem))
	}
	_, after, _ := strings.Cut(stem, o.version)
	var words []string
	for _, w := range nameParts.Split(strings.Trim(after, "-_. "), -1) {
		low := strings.ToLower(w)
		s, a := canonical(systems, low), canonical(processors, low)
		switch {
		case w == "":
		case slices.Contains([]string{"linux", "windows", "darwin"}, s):
			o.os = s
		case slices.Contains([]string{"amd64", "386", "arm64", "arm", "riscv64"}, a):
			o.arch = a
		default:
			words = append(words, low)
		}
	}
	o.variant = strings.Join(words, "-")
	return o
}

// wantedFile hashes a file of this machine.
func wantedFile(ctx context.Context, full string) (w fetch.Wanted, err error) {
	f, err := os.Open(full)
	if err != nil {
		return w, err
	}
	defer f.Close()
	a, b := sha256.New(), blake3.New()
	if w.Size, err = io.Copy(io.MultiWriter(a, b), readerOf(ctx, f)); err != nil {
		return w, err
	}
	w.Digests = map[string]string{"sha256": hex.EncodeToString(a.Sum(nil)), "blake3": hex.EncodeToString(b.Sum(nil))}
	return w, nil
}

type cancelable struct {
	ctx context.Context
	r   io.Reader
}

func readerOf(ctx context.Context, r io.Reader) io.Reader { return cancelable{ctx, r} }

func (c cancelable) Read(b []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(b)
}

// changesKept is for how many versions before it a build's listing says what
// changed since.
const changesKept = 3

// publishFiles lays each file of a build out under its digest, once for all
// builds, and writes its listing, and what changed since the builds before it.
// listed holds the files of each build and variant so far.
func publishFiles(ctx context.Context, dir string, b *Build, before []Build, listed map[string][]ListedFile) error {
	one := func(v Variant) (*Listing, error) {
		name := strings.Trim(nameParts.ReplaceAllString(b.Version+" "+v.String(), "-"), "-")
		now, err := layOutFiles(ctx, dir, v.Parts)
		if err != nil {
			return nil, err
		}
		listed[name] = now
		l := &Listing{Files: "../files/", Layout: "digest", Tree: TreeSum(now)}
		if l.Wanted, err = writeListing(ctx, dir, name, Files{Format: ListingFormat, Version: b.Version,
			Files: now}); err != nil {
			return nil, err
		}
		for _, o := range before {
			was := strings.Trim(nameParts.ReplaceAllString(o.Version+" "+v.String(), "-"), "-")
			old, ok := listed[was]
			if !ok {
				continue
			}
			c := Change{Over: o.Version}
			if c.Wanted, err = writeListing(ctx, dir, name+"-over-"+o.Version,
				difference(o.Version, old, now)); err != nil {
				return nil, err
			}
			l.Changes = append(l.Changes, c)
		}
		return l, nil
	}
	if len(b.Variants) == 0 {
		var err error
		b.Listing, err = one(Variant{Parts: b.Parts})
		return err
	}
	for i := range b.Variants {
		var err error
		if b.Variants[i].Listing, err = one(b.Variants[i]); err != nil {
			return err
		}
	}
	return nil
}

// layOutFiles opens the parts of a build, and lays their files out under their
// digests.
func layOutFiles(ctx context.Context, dir string, parts []Part) ([]ListedFile, error) {
	files := filepath.Join(dir, "files")
	got := map[string]ListedFile{}
	for _, p := range parts {
		var mu sync.Mutex
		v := &fetch.Verified{Path: filepath.Join(dir, filepath.FromSlash(p.URL)), URL: p.URL, Size: p.Size}
		found, err := unpack.Unpacked(ctx, v, p.Unpack, os.TempDir(), func(it unpack.Item) error {
			if it.Body == nil {
				if it.Target != "" {
					return fmt.Errorf("%s is a link, which a listing can't hold", it.Path)
				}
				return nil
			}
			lf, err := publishFile(files, it)
			mu.Lock()
			defer mu.Unlock()
			got[it.Path] = lf
			return err
		})
		if err != nil {
			return nil, err
		}
		if len(found.Removals) > 0 {
			return nil, errors.New("an increment that removes files can't be listed by itself")
		}
	}
	return slices.SortedFunc(maps.Values(got), byPath), nil
}

func writeListing(ctx context.Context, dir, name string, doc Files) (w fetch.Wanted, err error) {
	text, err := json.Marshal(doc)
	if err != nil {
		return w, err
	}
	z, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBetterCompression))
	if err != nil {
		return w, err
	}
	at := path.Join("listings", name+".json.zst")
	full := filepath.Join(dir, filepath.FromSlash(at))
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		return w, err
	}
	if err := tree.WriteFile(full, z.EncodeAll(text, nil), 0o644); err != nil {
		return w, err
	}
	w, err = wantedFile(ctx, full)
	w.URL = at
	return w, err
}

func publishFile(files string, it unpack.Item) (lf ListedFile, err error) {
	if err := os.MkdirAll(files, 0o755); err != nil {
		return lf, err
	}
	tmp, err := os.CreateTemp(files, ".part-*")
	if err != nil {
		return lf, err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	h := tree.NewHash()
	n, err := io.Copy(io.MultiWriter(tmp, h), it.Body)
	if err != nil {
		return lf, err
	}
	lf = ListedFile{Path: it.Path, Size: n, Blake3: h.Sum(), Run: it.Mode&0o111 != 0}
	sum := lf.Blake3.String()
	at := filepath.Join(files, sum[:2], sum[2:])
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return lf, err
	}
	if n >= pages.From {
		if lf.Pages, err = publishPages(io.NewSectionReader(tmp, 0, n), at+PagesSuffix); err != nil {
			return lf, err
		}
	}
	if err := errors.Join(tmp.Chmod(0o644), tmp.Close()); err != nil {
		return lf, err
	}
	return lf, tree.Rename(tmp.Name(), at)
}

// PagesSuffix is what the address of a list of pages has behind that of its file.
const PagesSuffix = ".pages"

// publishPages writes the list of a file's pages.
func publishPages(r io.Reader, at string) (sum tree.Sum, err error) {
	l, err := pages.Of(r)
	if err != nil {
		return sum, err
	}
	text := l.Bytes()
	return tree.SumBytes(text), tree.WriteFile(at, text, 0o644)
}

// Checked is what a check found wrong, or poor, with a feed.
type Checked struct {
	Builds int      `json:"builds"`
	Files  int      `json:"files"`
	Wrong  []string `json:"wrong"` // nobody can use that build
	Poor   []string `json:"poor"`  // it works, and could be better
}

// Check reads a feed as strictly as it can be read and looks at each file that
// it names: those of this machine are hashed; others are asked for their size,
// or fetched and held against their digests with whole.
func Check(ctx context.Context, where, key string, whole bool, dir string, c *fetch.Client) (*Checked, error) {
	f, err := readFeed(ctx, where, key, c)
	if err != nil {
		return nil, err
	}
	out := &Checked{Builds: len(f.Builds), Wrong: []string{}, Poor: []string{}}
	if b, err := c.Document(ctx, where, maxFeed); err == nil {
		d := json.NewDecoder(strings.NewReader(string(b)))
		d.DisallowUnknownFields()
		if err := d.Decode(&Feed{}); err != nil {
			out.Poor = append(out.Poor, strings.TrimPrefix(err.Error(), "json: ")+": it is not read")
		}
	}
	for _, b := range f.Builds {
		var wanted []fetch.Wanted
		for _, ps := range append([][]Part{b.Parts}, variantParts(b.Variants)...) {
			for _, p := range ps {
				wanted = append(wanted, p.Wanted)
			}
		}
		for _, l := range append([]*Listing{b.Listing}, listings(b.Variants)...) {
			if l == nil {
				continue
			}
			wanted = append(wanted, l.Wanted)
			for _, c := range l.Changes {
				wanted = append(wanted, c.Wanted)
			}
		}
		for _, w := range wanted {
			out.Files++
			at := fmt.Sprintf("%s: %s", b.Version, fetch.NameOf(w.URL))
			if err := checkFile(ctx, w, whole, dir, c); err != nil {
				out.Wrong = append(out.Wrong, fmt.Sprintf("%s: %v", at, err))
			}
			strong := w.Sums != "" || w.Key != ""
			for name := range w.Digests {
				strong = strong || !fetch.Weak(name)
			}
			switch {
			case len(w.Digests) == 0 && !strong:
				out.Poor = append(out.Poor, at+" has no digest: what comes is taken on trust")
			case !strong:
				out.Poor = append(out.Poor, at+" has weak digests alone; add sha256 or blake3")
			}
			if w.Size == 0 {
				out.Poor = append(out.Poor, at+" has no size: nobody can tell how long it takes")
			}
		}
	}
	return out, nil
}

func checkFile(ctx context.Context, w fetch.Wanted, whole bool, dir string, c *fetch.Client) error {
	if fetch.IsURL(w.URL) && !whole {
		seen, err := c.Look(ctx, w.URL)
		if err == nil && w.Size > 0 && seen.Size > 0 && seen.Size != w.Size {
			err = fmt.Errorf("it is %d bytes there, the feed says %d", seen.Size, w.Size)
		}
		return err
	}
	tmp := filepath.Join(dir, "check-"+tree.SumBytes([]byte(w.URL)).String()[:16]+".part")
	defer os.Remove(tmp)
	_, err := c.Download(ctx, w, tmp, nil)
	return err
}
