// Package data is what a server keeps outside its folder, a database say: dumped into each
// backup, and loaded back from it, by the profile's own commands.
package data

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/secrets"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
)

// Outside is the data outside one install.
type Outside struct{ *install.Install }

// New is the data outside an install.
func New(in *install.Install) *Outside { return &Outside{in} }

// dataFolder is where a backup holds the dumps of data outside the install: in
// our own folder, where no file of the install is.
const dataFolder = tree.StateFolder + "/data"

// dumpLimit bounds a dump or a load whose profile gives no time.
const dumpLimit = time.Hour

// Is tells whether a path of a backup is a dump of data outside the install.
func Is(at string) bool { return strings.HasPrefix(at, dataFolder+"/") }

// Dump adds dumps of the server's data outside its folder to a pass.
// Nothing is kept of one that fails: a backup without it would be none.
func (od *Outside) Dump(ctx context.Context, w *locker.Writer, taken *locker.Taken) error {
	for _, d := range od.Profile.Data {
		f, err := od.dump(ctx, w, d, "backup")
		if err != nil {
			return err
		}
		size := f.Size
		f.Entry = tree.Entry{Path: path.Join(dataFolder, d.Name), Kind: tree.File, Mode: 0o600, UID: tree.NoID,
			GID:   tree.NoID,
			Mtime: time.Now().UnixNano()}
		f.Size = size
		taken.Insert(f)
	}
	if len(od.Profile.Data) == 0 {
		return nil
	}
	return od.dumpHad(ctx, w, taken)
}

// dump puts one dump into the locker.
func (od *Outside) dump(ctx context.Context, w *locker.Writer, d profile.Data, step string) (f locker.File, err error) {
	began := time.Now()
	r, out := io.Pipe()
	stored := make(chan error, 1)
	go func() {
		var err error
		f, err = w.Add(ctx, r, func(n int64) {
			od.Tell(tell.Event{Kind: tell.StepMoves, Step: step, Text: "dump " + d.Name, Done: n})
		})
		r.CloseWithError(err)
		stored <- err
	}()
	err = od.dataTool(ctx, d, "dump", d.Dump, nil, out)
	out.CloseWithError(err)
	// The pipe hands each side's error to the other: the first to fail is told, once.
	serr := <-stored
	if err == nil || (serr != nil && !errors.Is(serr, err)) {
		err = serr
	}
	if err == nil && f.Size == 0 {
		err = tell.Advise(fmt.Errorf("dump %s: it printed nothing", d.Name),
			"let its command print the dump on its standard output")
	}
	if err == nil {
		od.seen(d.Name, Seen{f.Size, time.Since(began)})
	}
	return f, err
}

// Seen is what the last dump of some data was like.
type Seen struct {
	Bytes int64         `json:"bytes"`
	Took  time.Duration `json:"took_ns"`
}

// LastSeen is what the last dumps were like, by name; those that were never taken are not in it.
func (od *Outside) LastSeen() map[string]Seen {
	out := map[string]Seen{}
	if b, err := tree.ReadOwn(od.State(seenFile)); err == nil {
		json.Unmarshal(b, &out)
	}
	return out
}

const seenFile = "dumps.json"

// seen notes what a dump was like. Nothing depends on it but a forecast.
func (od *Outside) seen(name string, s Seen) {
	all := od.LastSeen()
	all[name] = s
	if b, err := json.Marshal(all); err == nil {
		tree.WriteFile(od.State(seenFile), b, 0o600)
	}
}

// DumpLimit is how long a dump or a load may take.
func DumpLimit(d profile.Data) time.Duration { return cmp.Or(d.Limit.Std(), dumpLimit) }

// Dumped is a dump in a backup.
type Dumped struct {
	Name  string    `json:"name"`
	Bytes int64     `json:"bytes"`
	Taken time.Time `json:"taken"`
}

// In are the dumps of a backup that Load would load.
func (od *Outside) In(set *locker.Set) (out []Dumped) {
	for _, f := range set.Entries {
		if Is(f.Path) && slices.ContainsFunc(od.Profile.Data,
			func(d profile.Data) bool { return d.Name == path.Base(f.Path) }) {
			out = append(out, Dumped{path.Base(f.Path), f.Size, set.Taken})
		}
	}
	return out
}

// Try takes every dump while the server runs, and keeps none: what fails, is too slow or too large for what
// is free is known before the server is stopped. What it writes into the locker spares the dump that counts
// most of its work.
func (od *Outside) Try(ctx context.Context, w *locker.Writer) error {
	for _, d := range od.Profile.Data {
		if _, err := od.dump(ctx, w, d, "pre-copy"); err != nil {
			return fmt.Errorf("while the server ran: %w", err)
		}
	}
	return nil
}

// probeLimit is how long a first look at a dump may take, and probeBytes how much of it is looked at.
const (
	probeLimit = 10 * time.Second
	probeBytes = 64 << 10
)

// Probe tells why no dump of the data can be taken now: by the profile's own check, or by a dump's first bytes,
// which are thrown away. A dump that says nothing within the time is not judged.
func (od *Outside) Probe(ctx context.Context, d profile.Data) error {
	if len(d.Check) > 0 {
		d.Limit = profile.Duration(3 * probeLimit)
		return od.dataTool(ctx, d, "check", d.Check, nil, nil)
	}
	ctx, enough := context.WithCancelCause(ctx)
	defer enough(nil)
	seen := &first{enough: func() { enough(errEnough) }}
	d.Limit = profile.Duration(probeLimit)
	err := od.dataTool(ctx, d, "dump", d.Dump, nil, seen)
	switch cause := context.Cause(ctx); {
	case errors.Is(cause, errEnough), errors.Is(err, host.ErrTooLong):
		return nil
	case err == nil && seen.n == 0:
		return fmt.Errorf("dump %s: it printed nothing", d.Name)
	}
	return err
}

var errEnough = errors.New("enough was seen")

// first counts the first bytes of a dump.
type first struct {
	n      int
	enough func()
}

func (f *first) Write(b []byte) (int, error) {
	if f.n += len(b); f.n >= probeBytes {
		f.enough()
	}
	return len(b), nil
}

// Load puts the dumps of a backup back in place, each by its profile's
// command. One that the profile knows no more is told.
func (od *Outside) Load(ctx context.Context, set *locker.Set) (loaded []string, err error) {
	l, err := od.Locker()
	if err != nil {
		return nil, err
	}
	for _, f := range set.Entries {
		if !Is(f.Path) {
			continue
		}
		name := path.Base(f.Path)
		i := slices.IndexFunc(od.Profile.Data, func(d profile.Data) bool { return d.Name == name })
		if i < 0 {
			od.Warn("backup %s holds a dump of %s, and the profile has no [[data]] of that name: it is not loaded",
				set.ID, name)
			continue
		}
		r, in := io.Pipe()
		go func() { in.CloseWithError(l.Copy(in, f)) }()
		err := od.dataTool(ctx, od.Profile.Data[i], "load", od.Profile.Data[i].Load, r, nil)
		r.CloseWithError(io.ErrClosedPipe)
		if err != nil {
			return loaded, err
		}
		loaded = append(loaded, name)
	}
	if len(loaded) == 0 {
		return nil, nil
	}
	return loaded, od.loadHad(l, set)
}

func (od *Outside) dataTool(ctx context.Context, d profile.Data, do string, argv []string, in io.Reader,
	out io.Writer) error {
	argv = slices.Clone(argv)
	if strings.Contains(argv[0], "/") && !filepath.IsAbs(argv[0]) { // one that stands in the install
		argv[0] = od.Path(argv[0])
	}
	for _, kv := range d.Env {
		name, value, _ := strings.Cut(kv, "=")
		secrets.KnowIn(name, value)
	}
	var last []string
	err := host.RunTool(ctx, host.Tool{Argv: argv, Dir: od.Dir, Env: append(slices.Clone(od.Env), d.Env...),
		Limit: DumpLimit(d), In: in, Out: out}, func(l string) {
		if last = append(last, l); len(last) > 12 {
			last = last[1:]
		}
		od.Tell(tell.Event{Kind: tell.ToolSaid, Text: l})
	})
	if err != nil {
		return &tell.ToolFailed{What: fmt.Sprintf("%s %s: %v", do, d.Name, err), Lines: last, Err: err}
	}
	return nil
}
