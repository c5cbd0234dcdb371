package freshkeel

import (
	"context"
	"os"
	"path/filepath"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/tell"
)

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
