package install

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// belongs is the file that marks a folder elsewhere as an install's own, in our folder
// at its top. It tells an empty mount point from the disk that should be mounted there,
// and keeps a second server away.
const belongs = "belongs.json"

// belonging is what that file holds.
type belonging struct {
	Server string `json:"server"` // the install's identity
	Dir    string `json:"dir"`    // where the install was then; for people
}

// bound lists, by name, the folders elsewhere that were marked.
func (in *Install) bound() tree.Elsewhere {
	out := tree.Elsewhere{}
	if b, err := tree.ReadOwn(in.State("elsewhere.json")); err == nil {
		json.Unmarshal(b, &out)
	}
	return out
}

// apart refuses folders elsewhere that are no such thing, since they lie in the install or
// hold it or the locker, and, for root, those that somebody else could exchange.
func (in *Install) apart() error {
	dir := tree.Real(in.Dir)
	for _, name := range in.Profile.Elsewhere.Names() {
		folder := in.Profile.Elsewhere[name]
		real := tree.Real(folder)
		bad := func(why string) error {
			return &profile.Error{File: filepath.Join(in.Dir, profile.FileName), Key: "elsewhere." + name,
				Why: fmt.Sprintf("%s %s", folder, why)}
		}
		switch {
		case tree.Inside(dir, real):
			return bad("lies in the install: it is part of it already")
		case tree.Inside(real, dir):
			return bad("holds the install itself")
		case systemFolder(real):
			return bad("is the system's own, or holds much that is no server's: name a folder below it that is this server's alone")
		case in.anothers(real) != "":
			return bad("is part of another server, that at " + in.anothers(real))
		case tree.Inside(real, tree.Real(in.Home)) || tree.Inside(tree.Real(in.Home), real):
			return bad("and FRESHKEEL_HOME, " + in.Home + ", lie in one another")
		}
		if _, err := os.Stat(real); os.Geteuid() == 0 && err == nil { // Whole tells of one that is not there
			h, err := tree.Hold(real)
			if err != nil {
				return err
			}
			err = led(h, in.Dir)
			h.Close()
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// systemFolder tells whether a folder is the system's, or one that holds the folders of many.
func systemFolder(dir string) bool {
	for _, top := range []string{"/etc", "/usr", "/bin", "/sbin", "/lib", "/lib64", "/boot", "/dev", "/proc", "/sys", "/run", "/System",
		"/Library", os.Getenv("SystemRoot")} {
		if top != "" && tree.Inside(top, dir) {
			return true
		}
	}
	home, _ := os.UserHomeDir()
	return dir == filepath.Dir(dir) || slices.Contains([]string{"/home", "/root", "/var", "/var/lib", "/var/tmp", "/var/log", "/tmp",
		"/srv", "/opt", "/mnt", "/media", "/Users", home}, dir) || (home != "" && tree.Inside(dir, home))
}

// anothers is the other install of which a folder is part, or that stands in it; "" for none.
func (in *Install) anothers(dir string) string {
	if at, err := Find(dir); err == nil && tree.Real(at) != tree.Real(in.Dir) {
		return at
	}
	for _, at := range in.Servers() {
		if tree.Real(at) != tree.Real(in.Dir) && tree.Inside(dir, tree.Real(at)) {
			return at
		}
	}
	return ""
}

// inTheWay is what stands in the install where a folder elsewhere is to be seen, "" for
// nothing: a link to it may, and an empty folder.
func (in *Install) inTheWay(name, folder string) string {
	at := in.path(name)
	e, _, err := tree.Describe(at, name)
	if err != nil {
		return ""
	}
	switch e.Kind {
	case tree.Link: // it may lead to a disk that is not mounted now
		to := e.Target
		if !filepath.IsAbs(to) {
			to = filepath.Join(in.Dir, to)
		}
		if tree.Real(to) == folder {
			return ""
		}
	case tree.Dir:
		if list, err := os.ReadDir(at); err == nil && len(list) == 0 {
			return ""
		}
	}
	return e.Kind.Word()
}

// path is what stands in the install's own folder at a path.
func (in *Install) path(name string) string { return filepath.Join(in.Dir, filepath.FromSlash(name)) }

// Whole refuses an install of which a folder that stands elsewhere is not there, or is
// another server's. To take it for empty would be to take all its files for lost.
func (in *Install) Whole() error {
	bound := in.bound()
	for _, name := range in.Profile.Elsewhere.Names() {
		folder := in.Profile.Elsewhere[name]
		if fi, err := os.Stat(folder); err != nil || !fi.IsDir() {
			return tell.Advise(fmt.Errorf("%s, which [elsewhere] in the profile calls %s, is not there", folder, name),
				"mount the disk that it is on, or mend the profile's line")
		}
		if what := in.inTheWay(name, tree.Real(folder)); what != "" {
			return tell.Advise(
				fmt.Errorf("%s can't be called %s, as [elsewhere] in the profile says: the install has a %s "+
					"of that name, which is not a link to it", folder, name, what),
				"give one of the two another name: "+in.path(name),
			)
		}
		of, err := readBelonging(folder)
		if err != nil {
			return err
		}
		mine, err := in.Identity()
		switch {
		case err != nil:
			return err
		case of == nil && bound[name] == folder:
			return tell.Advise(fmt.Errorf("%s has lost the mark that it belongs to this server, %s: another disk, or "+
				"none, may be mounted there", folder, filepath.Join(folder, tree.StateFolder, belongs)),
				"mount the right disk; if the folder is new on purpose: rm "+words.Shell(in.State("elsewhere.json")))
		case of != nil && of.Server != mine:
			return tell.Advise(fmt.Errorf("%s belongs to another server, that at %s: two servers must not exchange "+
				"files in one folder", folder, of.Dir),
				"give each a folder of its own; if that server is gone: rm "+
					words.Shell(filepath.Join(folder, tree.StateFolder, belongs)))
		}
	}
	return nil
}

// readBelonging reads the mark of a folder; nil where it has none.
func readBelonging(folder string) (*belonging, error) {
	b, err := tree.ReadOwn(filepath.Join(folder, tree.StateFolder, belongs))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	of := &belonging{}
	if err == nil {
		err = json.Unmarshal(b, of)
	}
	return of, err
}

// Bind marks the folders elsewhere that are new, once Whole has nothing against any.
func (in *Install) Bind() error {
	bound := in.bound()
	if len(in.Profile.Elsewhere) == 0 && len(bound) == 0 {
		return nil
	}
	if err := in.Whole(); err != nil {
		return err
	}
	if bound.Same(in.Profile.Elsewhere) {
		return nil
	}
	mine, err := in.Identity()
	if err != nil {
		return err
	}
	for name, folder := range in.Profile.Elsewhere {
		if bound[name] == folder {
			continue
		}
		b, err := json.Marshal(belonging{mine, in.Dir})
		if err != nil {
			return err
		}
		own := filepath.Join(folder, tree.StateFolder)
		if err := tree.MakeDirs(own, 0o700); err != nil {
			return fmt.Errorf("mark %s as this server's: %w", folder, err)
		}
		if err := tree.WriteFile(filepath.Join(own, belongs), append(b, '\n'), 0o600); err != nil {
			return fmt.Errorf("mark %s as this server's: %w", folder, err)
		}
	}
	b, err := json.Marshal(in.Profile.Elsewhere)
	if err != nil {
		return err
	}
	return tree.WriteFile(in.State("elsewhere.json"), append(b, '\n'), 0o600)
}

// Unbind takes our folder away from the folders that stand elsewhere.
func (in *Install) Unbind() error {
	var errs []error
	mine, err := in.Identity()
	if err != nil {
		return err
	}
	for _, folder := range in.Profile.Elsewhere {
		if of, err := readBelonging(folder); err == nil && of != nil && of.Server == mine {
			errs = append(errs, os.RemoveAll(filepath.Join(folder, tree.StateFolder)))
		}
	}
	return errors.Join(errs...)
}
