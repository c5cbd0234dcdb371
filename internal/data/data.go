// Package data is what a server keeps outside its folder, a database say: dumped into each
// backup, and loaded back from it, by the profile's own commands.
package data

import (
	"context"
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
		at := path.Join(dataFolder, d.Name)
		var f locker.File
		r, out := io.Pipe()
		stored := make(chan error, 1)
		go func() {
			var err error
			f, err = w.Add(ctx, r, func(n int64) {
				od.Tell(tell.Event{Kind: tell.StepMoves, Step: "backup", Text: "dump " + d.Name, Done: n})
			})
			r.CloseWithError(err)
			stored <- err
		}()
		err := od.dataTool(ctx, d, "dump", d.Dump, nil, out)
		out.CloseWithError(err)
		// The pipe hands each side's error to the other: the first to fail is told, once.
		serr := <-stored
		if err == nil || (serr != nil && !errors.Is(serr, err)) {
			err = serr
		}
		if err != nil {
			return err
		}
		if f.Size == 0 {
			return tell.Advise(fmt.Errorf("dump %s: it printed nothing", d.Name),
				"let its command print the dump on its standard output")
		}
		size := f.Size
		f.Entry = tree.Entry{Path: at, Kind: tree.File, Mode: 0o600, UID: tree.NoID, GID: tree.NoID,
			Mtime: time.Now().UnixNano()}
		f.Size = size
		taken.Insert(f)
	}
	return nil
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
	return loaded, nil
}

func (od *Outside) dataTool(ctx context.Context, d profile.Data, do string, argv []string, in io.Reader,
	out io.Writer) error {
	argv = slices.Clone(argv)
	if strings.Contains(argv[0], "/") && !filepath.IsAbs(argv[0]) { // one that stands in the install
		argv[0] = od.Path(argv[0])
	}
	limit := d.Limit.Std()
	if limit == 0 {
		limit = dumpLimit
	}
	for _, kv := range d.Env {
		name, value, _ := strings.Cut(kv, "=")
		secrets.KnowIn(name, value)
	}
	var last []string
	err := host.RunTool(ctx, host.Tool{Argv: argv, Dir: od.Dir, Env: append(slices.Clone(od.Env), d.Env...),
		Limit: limit, In: in, Out: out}, func(l string) {
		if last = append(last, l); len(last) > 12 {
			last = last[1:]
		}
		od.Tell(tell.Event{Kind: tell.ToolSaid, Text: l})
	})
	if err != nil {
		return &tell.ToolFailed{What: fmt.Sprintf("%s %s: %v", do, d.Name, err), Lines: last}
	}
	return nil
}
