// Package edited tells which settings, scripts and add-ons were edited since the running
// server read them: they are noted when it has come up, and held against what stands there.
package edited

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/profile"
	"freshkeel/internal/settings"
	"freshkeel/internal/tree"
)

// FileName is where the notes are kept, in the install's own folder of ours.
const FileName = "started.json"

const format = "freshkeel-started/1"

// notes are what a server read when it came up.
type notes struct {
	Format string               `json:"format"`
	At     time.Time            `json:"at"`
	Files  map[string]readState `json:"files"`
}

// readState is one file as it was then.
type readState struct {
	Sum   tree.Sum `json:"sum,omitzero"`
	Says  tree.Sum `json:"says,omitzero"` // its keys and values, whatever else stands in it
	Size  int64    `json:"size"`
	Mtime int64    `json:"mtime"`
	Inode uint64   `json:"inode,omitempty"`
}

// LastUp is when the server last came up, as was seen; zero where it never was.
func LastUp(in *install.Install) time.Time {
	var n notes
	b, err := tree.ReadOwn(in.State(FileName))
	if err != nil || json.Unmarshal(b, &n) != nil {
		return time.Time{}
	}
	return n.At
}

// Known tells of files whether the server has read them as they are: those were not edited since it came up, however
// young they are, as many servers write their settings anew at each start.
func Known(in *install.Install) func(e tree.Entry, sum tree.Sum) bool {
	var n notes
	b, err := tree.ReadOwn(in.State(FileName))
	if err != nil || json.Unmarshal(b, &n) != nil {
		n.Files = nil
	}
	return func(e tree.Entry, sum tree.Sum) bool {
		was, known := n.Files[e.Path]
		return known && was.Size == e.Size && (was.Mtime == e.Mtime || !sum.IsZero() && was.Sum == sum)
	}
}

// Edit is one file that is another now.
type Edit struct {
	Path string    `json:"path"`
	What string    `json:"what"` // "settings", "script" or "add-on"
	How  string    `json:"how"`  // "edited", "new" or "gone"
	At   time.Time `json:"at,omitzero"`
}

// String is the edit as a person reads it.
func (e Edit) String() string {
	if e.At.IsZero() {
		return fmt.Sprintf("%s (%s, %s)", e.Path, e.What, e.How)
	}
	return fmt.Sprintf("%s (%s, %s at %s)", e.Path, e.What, e.How, e.At.Local().Format("2006-01-02 15:04"))
}

// maxFile bounds a file whose content is noted, in bytes: of a larger one its times count.
const maxFile = 64 << 20

// kindOf tells whether a path is one that an operator edits and a server reads when it starts;
// "" for none.
func kindOf(in *install.Install, scripts map[string]bool, at string) string {
	switch {
	case scripts[at]:
		return "script"
	case in.Profile.Addons.Files.Match(at):
		return "add-on"
	case in.Profile.Server.Settings.Match(at):
		return "settings"
	}
	return ""
}

// scriptsOf are the launch scripts and those that they run.
func scriptsOf(in *install.Install) map[string]bool {
	out := map[string]bool{}
	for _, script := range in.Profile.Scripts() {
		out[script] = true
		commands, err := launch.Read(in.Dir, script, in.ServerEnv())
		if err != nil {
			continue
		}
		for _, c := range commands {
			out[c.File] = true
		}
	}
	return out
}

// files lists, of the entries of a walk, what counts, with what it is. Without a walk it walks.
func files(in *install.Install, walked tree.List) (list []tree.Entry, kinds map[string]string, err error) {
	scripts := scriptsOf(in)
	kinds = map[string]string{}
	pick := func(found []tree.Entry) {
		for _, e := range found {
			if e.Kind != tree.File {
				continue
			}
			if kind := kindOf(in, scripts, e.Path); kind != "" {
				list, kinds[e.Path] = append(list, e), kind
			}
		}
	}
	if walked == nil {
		err = tree.WalkEach(in.Dir, in.Profile.Server.Skip, pick)
	} else {
		pick(walked)
	}
	return list, kinds, err
}

// Note notes what stands there now as what the server has read; where parts of it came up while
// others ran on, only what these read. It is only for later: what keeps it from that is no reason
// to stop.
func Note(in *install.Install, only tree.Patterns) {
	list, _, err := files(in, nil)
	if err != nil {
		return
	}
	n := notes{Files: map[string]readState{}}
	if b, err := tree.ReadOwn(in.State(FileName)); err == nil && len(only) > 0 {
		if json.Unmarshal(b, &n) != nil || n.Files == nil {
			return
		}
		maps.DeleteFunc(n.Files, func(at string, _ readState) bool { return only.Match(at) })
	}
	n.Format, n.At = format, time.Now().Round(0)
	for _, e := range list {
		if len(only) == 0 || only.Match(e.Path) {
			n.Files[e.Path] = stateOf(in, e)
		}
	}
	if b, err := json.Marshal(n); err == nil {
		tree.WriteFile(in.State(FileName), b, 0o600)
	}
}

func stateOf(in *install.Install, e tree.Entry) readState {
	s := readState{Size: e.Size, Mtime: e.Mtime, Inode: e.Inode}
	if e.Size > maxFile {
		return s
	}
	if f, err := in.Open(e.Path); err == nil {
		s.Sum, _ = tree.SumOf(f)
		f.Close()
	}
	if profile.SettingsByName(e.Path) && e.Size <= mostSettings {
		if text, err := tree.ReadUpTo(in.Path(e.Path), mostSettings); err == nil {
			s.Says = says(e.Path, text)
		}
	}
	return s
}

// mostSettings bounds a file of settings that is read for its values, in bytes.
const mostSettings = 1 << 20

// SaysTheSame tells whether two texts of a file of settings have the same keys and values; false where that can't be
// known.
func SaysTheSame(name string, a, b []byte) bool {
	sum := says(name, a)
	return !sum.IsZero() && sum == says(name, b)
}

// says is a sum of the keys and values of a file of settings; zero where it can't be read as one.
func says(name string, text []byte) tree.Sum {
	d, err := settings.Read(name, text)
	if err != nil || len(d.Items) == 0 || d.Format == "list" {
		return tree.Sum{}
	}
	lines := make([]string, len(d.Items))
	for i, it := range d.Items {
		lines[i] = fmt.Sprintf("%q=%q", it.Key, it.Value)
	}
	return tree.SumBytes([]byte(strings.Join(lines, "\n")))
}

// Since lists what was edited since the last good start, and when that was; the zero time where
// none is known. walked are the entries of a walk; nil: it walks itself.
func Since(in *install.Install, walked tree.List) (out []Edit, start time.Time) {
	var n notes
	b, err := tree.ReadOwn(in.State(FileName))
	if err != nil || json.Unmarshal(b, &n) != nil || n.Format != format {
		return nil, start
	}
	list, kinds, err := files(in, walked)
	if err != nil {
		return nil, start
	}
	scripts := scriptsOf(in)
	for _, e := range list {
		was, known := n.Files[e.Path]
		edit := Edit{e.Path, kinds[e.Path], "edited", time.Unix(0, e.Mtime)}
		switch {
		case !known:
			edit.How = "new"
			out = append(out, edit)
		case was.Size == e.Size && was.Mtime == e.Mtime && was.Inode == e.Inode:
		case was.Size == e.Size && !was.Sum.IsZero() && stateOf(in, e).Sum == was.Sum:
		case !was.Says.IsZero() && stateOf(in, e).Says == was.Says: // the server wrote it anew, with another date say
		default:
			out = append(out, edit)
		}
	}
	here := map[string]bool{}
	for _, e := range list {
		here[e.Path] = true
	}
	for at := range n.Files {
		if !here[at] {
			out = append(out, Edit{Path: at, What: cmp.Or(kindOf(in, scripts, at), "settings"), How: "gone"})
		}
	}
	slices.SortFunc(out, func(a, b Edit) int { return strings.Compare(a.Path, b.Path) })
	return out, n.At
}
