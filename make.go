package freshkeel

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/host"
	"freshkeel/internal/tree"
)

// make runs the command that makes a build, in a work folder of its own that
// stays from run to run, since such tools keep what they fetched there. What
// an earlier run made is taken away first: only what this run makes counts.
func (k *Keel) make(ctx context.Context, c *Candidate, m *feed.Make) (string, error) {
	work := filepath.Join(strings.TrimSuffix(c.offer.memory.path, ".json") + ".work")
	if err := os.MkdirAll(work, 0o700); err != nil {
		return "", err
	}
	lock := tree.NewLock(work + ".lock")
	if ok, err := lock.TryLock(); err != nil || !ok {
		return "", &Advised{fmt.Errorf("another run of %s is under way", m.Run[0]), "wait for it to end"}
	}
	defer lock.Unlock()
	for _, old := range picked(work, m.Pick) {
		if err := os.RemoveAll(old); err != nil {
			return "", err
		}
	}
	log, err := os.OpenFile(filepath.Join(work, "output.log"), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	defer log.Close()
	argv := slices.Clone(m.Run)
	if strings.Contains(argv[0], "/") && !filepath.IsAbs(argv[0]) { // a tool that stands in the install
		argv[0] = k.path(argv[0])
	}
	env := append(slices.Clone(k.o.Env), "FRESHKEEL_VERSION="+c.Version, "FRESHKEEL_INSTALL="+k.Dir)
	var last []string
	err = host.RunTool(ctx, host.Tool{Argv: argv, Dir: work, Env: env, Limit: m.Limit}, func(l string) {
		fmt.Fprintln(log, l)
		if last = append(last, l); len(last) > 12 {
			last = last[1:]
		}
		k.tell(Event{Kind: ToolSaid, Text: l})
	})
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	made := picked(work, m.Pick)
	if err == nil && len(made) != 1 {
		err = fmt.Errorf("it ended well, and %q matches %s in its work folder, not one", m.Pick, plural(len(made), "file"))
	}
	if err != nil {
		return "", &ToolFailed{What: fmt.Sprintf("make %s: %v", c.label(), err), Lines: last, Log: filepath.Join(work, "output.log")}
	}
	return made[0], nil
}

func picked(work, pattern string) (out []string) {
	list, _ := tree.Walk(work, nil)
	for _, e := range list {
		if e.Path != "output.log" && (tree.Patterns{pattern}).Match(e.Path) {
			out = append(out, filepath.Join(work, filepath.FromSlash(e.Path)))
		}
	}
	return
}

// madeAs holds what a command made against the version that was asked for.
func (k *Keel) madeAs(c *Candidate, v *fetch.Verified) error {
	said, from := feed.VersionIn(v.Name), "its name"
	if j := jarVersion(v.Path); j != "" && c.src.Version != "name" {
		said, from = j, "its manifest"
	}
	if said != "" && said != c.Version {
		return fmt.Errorf("make %s: %s was made, and %s says that it is %s", c.Version, v.Name, from, said)
	}
	return nil
}
