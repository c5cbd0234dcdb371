package freshkeel

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"

	"freshkeel/internal/acquire"
	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/kept"
	"freshkeel/internal/resolve"
	"freshkeel/internal/swap"
	"freshkeel/internal/tell"
	"freshkeel/internal/version"
)

// Builds lists what the sources of the build and of its layers offer.
func (k *Keel) Builds(ctx context.Context) ([]*Offer, error) { return k.res.Builds(ctx) }

// News is something newer than what is installed.
type News struct {
	Layer     string `json:"layer,omitempty"` // "": the build
	Installed string `json:"installed"`
	Version   string `json:"version"`
}

// News tells what newer things the followed channels offer. Where versions do
// not tell, content does: it is fetched then, and a refit finds it here.
func (k *Keel) News(ctx context.Context) (out []News, err error) {
	inv, err := k.inv.Head()
	if err != nil {
		return nil, err
	}
	for _, o := range k.res.Origins() {
		here := inv.Of(o.Name)
		if o.Name != "" && here.Name == "" {
			continue // not laid
		}
		f, err := k.res.List(ctx, o)
		if err != nil {
			return nil, err
		}
		c, err := k.res.Pick(ctx, f, "", func(b feed.Build) bool {
			return o.Name == "" || inv.Version == "" || version.Fits(cmp.Or(b.Fits, o.Fits), inv.Version)
		})
		if err != nil {
			return nil, err
		}
		if c == nil {
			continue
		}
		newer, known := c.Newer(here.Version)
		if !known || (!newer && c.Version == here.Version && c.Build.Mark != "") {
			if newer, err = k.differs(ctx, c, here); err != nil {
				return nil, err
			}
		}
		if newer {
			out = append(out, News{o.Name, here.Version, c.Version})
		}
	}
	return out, nil
}

// differs tells by content whether a candidate is other than what is installed.
func (k *Keel) differs(ctx context.Context, c *resolve.Candidate, here Laid) (bool, error) {
	if c.Set != "" && c.Set == here.Build {
		return false, nil
	}
	if c.Offer.Stale && c.Set == "" {
		return false, nil
	}
	f, err := k.acq.Fetch(ctx, c)
	if err != nil {
		return false, err
	}
	if f.Set.ID == here.Build {
		return false, nil
	}
	if c.Layer != "" || here.Build != "" {
		return true, nil
	}
	p, err := k.planner.Make(f, Want{})
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(p.Steps, func(s swap.Step) bool { return s.Do == swap.Replace || s.Do == swap.Add }), nil
}

// Fetch brings a build into the locker, and the layers that are wanted with
// it. What is there already is not fetched again.
func (k *Keel) Fetch(ctx context.Context, w Want) (*acquire.Fetched, error) {
	return k.acq.Goal(ctx, w)
}

// What the locker holds besides backups: see Keel.Keeper.
type (
	Holding  = kept.Holding
	Kept     = kept.Build
	Dropping = kept.Dropping
)

// DropBuilds drops the builds of a plan of Keeper.PlanDrop, and gives their space back.
func (k *Keel) DropBuilds(ctx context.Context, d *Dropping) error {
	unlock, err := k.begin(ctx, "builds drop")
	if err != nil {
		return err
	}
	defer unlock()
	return k.Keeper.Drop(ctx, d)
}

// A feed of one's own: what WriteFeed makes and CheckFeed finds.
type (
	FeedOrder   = feed.Order
	FeedWritten = feed.Feed
	FeedChecked = feed.Checked
)

// WriteFeed makes a feed of a folder of archives, so that a club can publish
// its own.
func WriteFeed(ctx context.Context, o FeedOrder) (*FeedWritten, error) {
	if fi, err := os.Stat(o.Dir); err != nil || !fi.IsDir() {
		return nil, tell.Misuse(o.Dir+" is not a folder", "freshkeel feed write DIR, with the archives in DIR")
	}
	return feed.Write(ctx, o)
}

// CheckFeed reads a feed strictly and looks at every file that it names. whole
// fetches them. key, "" for none, is what it must be signed by.
func CheckFeed(ctx context.Context, where, key string, whole bool, o Options) (*FeedChecked, error) {
	if !fetch.IsURL(where) {
		full, err := filepath.Abs(where)
		if err != nil {
			return nil, err
		}
		if fi, err := os.Stat(full); err == nil && fi.IsDir() {
			full = filepath.Join(full, feed.FileName)
		}
		where = full
	}
	dir, err := os.MkdirTemp("", "freshkeel-feed-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	return feed.Check(ctx, where, key, whole, dir, fetch.New(fetch.Options{Env: o.Env}))
}
