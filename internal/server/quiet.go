package server

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"freshkeel/internal/host"
	"freshkeel/internal/tell"
	"freshkeel/internal/words"
)

// Quiet has a running server save, and hold still until release is called: by
// the profile's own console lines. It may be called more than once.
func (sv *Server) Quiet(ctx context.Context) (release func(), err error) {
	b := sv.Profile.Backup
	if len(b.Before)+len(b.After) == 0 || !sv.Host().Status().Running {
		return func() {}, nil
	}
	var once sync.Once
	_, err = sv.Step("quiet", func() (string, error) {
		from := sv.Host().Mark()
		let, err := sv.Host().Hold(b.Before, b.After)
		if err != nil {
			return "", fmt.Errorf("tell the server to save: %w", err)
		}
		release = func() { once.Do(let) }
		if !b.Saved.Given() {
			return "told: " + strings.Join(b.Before, ", "), nil
		}
		said, err := host.AwaitLine(ctx, sv.Host(), from, b.Wait.Std(),
			func(l string) bool { return b.Saved.MatchString(words.Printable(l)) })
		if err != nil {
			release()
			return "", tell.Advise(fmt.Errorf("no line that matches %s came within %s of %q",
				words.Quote(b.Saved.String()), b.Wait, strings.Join(b.Before, ", ")),
				"compare [backup] saved with what the server says: freshkeel log")
		}
		return said, sv.Halt("quiet")
	})
	if err != nil && release != nil {
		release()
	}
	return release, err
}
