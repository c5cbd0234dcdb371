package host

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/tree"

	"github.com/coreos/go-systemd/v22/dbus"
)

// Units that are bound to a server's (PartOf=, Requires=, BindsTo=) stop with it, and nothing starts them
// again. Those that were active before a stop are noted, where only the one who stops may write: root's list
// stands in a folder of root's, and is never read from an install.

// boundFile is where the units are noted that stopped with this one.
func (b *bus) boundFile() string {
	dir := "/run"
	if b.user || os.Geteuid() != 0 {
		dir = cmp.Or(os.Getenv("XDG_RUNTIME_DIR"), filepath.Join("/run/user", fmt.Sprint(os.Geteuid())))
	}
	return filepath.Join(dir, "freshkeel", "bound", b.name+".json")
}

// boundNow are the units that are active and stop with this one.
func (b *bus) boundNow(ctx context.Context) (active []string, err error) {
	u, err := b.unit(ctx)
	if err != nil || len(u.Bound) == 0 {
		return nil, err
	}
	c, err := b.conn()
	if err != nil {
		return nil, err
	}
	list, err := c.ListUnitsByNamesContext(ctx, u.Bound)
	if err != nil {
		return nil, err
	}
	for _, one := range list {
		if (one.ActiveState == "active" || one.ActiveState == "activating") && !strings.HasSuffix(one.Name, ".target") {
			active = append(active, one.Name)
		}
	}
	return active, nil
}

func (b *bus) readBound() (names []string) {
	if text, err := tree.ReadUpTo(b.boundFile(), mostUnit); err == nil {
		json.Unmarshal(text, &names)
	}
	return names
}

// noteBound notes what will stop with this unit.
func (b *bus) noteBound(ctx context.Context) error {
	active, err := b.boundNow(ctx)
	if err != nil || len(active) == 0 {
		return err
	}
	names := append(b.readBound(), active...)
	slices.Sort(names)
	text, err := json.Marshal(slices.Compact(names))
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(b.boundFile()), 0o700); err != nil {
		return err
	}
	return tree.WriteFile(b.boundFile(), text, 0o600)
}

// startBound starts what stopped with this unit, as far as its manager still names it as bound, and tells
// what can't be brought back.
func (b *bus) startBound(ctx context.Context) (started, failed []string, err error) {
	if asks() && !b.user {
		lines, err := askLines(asked{Unit: b.name, Do: "start bound"})
		for _, l := range lines {
			if name, ok := strings.CutPrefix(l, "+"); ok {
				started = append(started, name)
			} else {
				failed = append(failed, strings.TrimPrefix(l, "-"))
			}
		}
		return started, failed, err
	}
	noted := b.readBound()
	if len(noted) == 0 {
		return nil, nil, nil
	}
	c, err := b.conn()
	if err != nil {
		return nil, nil, err
	}
	for _, name := range noted {
		if !b.binds(ctx, c, name) {
			failed = append(failed, name+": it is not bound to "+b.name+" any more")
			continue
		}
		switch why := startOne(ctx, c, name); {
		case why == "already":
		case why != "":
			failed = append(failed, name+": "+why)
		default:
			started = append(started, name)
		}
	}
	if err := os.Remove(b.boundFile()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return started, failed, err
	}
	return started, failed, nil
}

// binds tells whether a unit is bound to this one, as it says itself: of one that is down and that nothing
// needs, its manager tells no more from the other side.
func (b *bus) binds(ctx context.Context, c *dbus.Conn, name string) bool {
	p, err := c.GetUnitPropertiesContext(ctx, name)
	if err != nil {
		return false
	}
	for _, key := range []string{"BindsTo", "Requires", "PartOf"} {
		if to, _ := p[key].([]string); slices.Contains(to, b.name) {
			return true
		}
	}
	return false
}

// boundWait is how long one unit may take to start.
const boundWait = 20 * time.Second

// startOne starts a unit, and tells why it did not; "already" where it was active.
func startOne(ctx context.Context, c *dbus.Conn, name string) (why string) {
	state := func() string {
		p, err := c.GetUnitPropertyContext(ctx, name, "ActiveState")
		if err != nil {
			return err.Error()
		}
		s, _ := p.Value.Value().(string)
		return s
	}
	if state() == "active" {
		return "already"
	}
	done := make(chan string, 1)
	if _, err := c.StartUnitContext(ctx, name, "replace", done); err != nil {
		return err.Error()
	}
	select {
	case result := <-done:
		if result != "done" {
			return "its start ended with " + result
		}
	case <-time.After(boundWait):
		return fmt.Sprintf("its start did not end within %s", boundWait)
	case <-ctx.Done():
		return ctx.Err().Error()
	}
	if now := state(); now != "active" && now != "activating" {
		return "it is " + now
	}
	return ""
}
