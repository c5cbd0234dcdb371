package server

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"sync"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
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
		if err := sv.noteHeld(b.After); err != nil {
			return "", err
		}
		let, err := sv.Host().Hold(b.Before, b.After)
		if err != nil {
			os.Remove(sv.State(heldFile))
			return "", fmt.Errorf("tell the server to save: %w", err)
		}
		release = func() {
			once.Do(func() {
				let()
				os.Remove(sv.State(heldFile))
			})
		}
		if !b.Saved.Given() {
			return "told: " + strings.Join(b.Before, ", "), nil
		}
		said, err := host.AwaitAnswer(ctx, sv.Host(), from, b.Wait.Std(), b.Saved.Regexp)
		if err != nil {
			release()
			return "", tell.Advise(fmt.Errorf("no line that matches %s came within %s of %q",
				words.Quote(b.Saved.String()), b.Wait, strings.Join(b.Before, ", ")),
				"compare [backup] saved with what the server says: freshkeel log; a line of a player's does not count, nor "+
					"one in which the pattern begins behind other words and a sign")
		}
		return said[0], sv.Halt("quiet")
	})
	if err != nil && release != nil {
		release()
	}
	return release, err
}

// heldFile has the lines that let a server go on that holds still. A minder keeps them itself; of
// any other host they would be lost with a command that is killed.
const heldFile = "held.json"

// noteHeld writes the lines down where no minder keeps them, before the server is told to hold still.
func (sv *Server) noteHeld(after []string) error {
	var last *install.Install
	for _, part := range sv.Install.Parts() {
		if !part.Outside() {
			last = part
		}
	}
	if len(after) == 0 || last == nil || last.Minded() {
		return nil
	}
	b, err := json.Marshal(after)
	if err != nil {
		return err
	}
	return tree.WriteFile(sv.State(heldFile), b, 0o600)
}

// Held tells whether a command was killed while the server held still for it.
func (sv *Server) Held() bool {
	_, err := os.Lstat(sv.State(heldFile))
	return err == nil
}

// LetGo has the server go on where a command that was killed kept it still. Only a command that
// holds the lock may call it.
func (sv *Server) LetGo() {
	b, err := tree.ReadOwn(sv.State(heldFile))
	if err != nil {
		return
	}
	var lines []string
	if err := json.Unmarshal(b, &lines); err == nil && sv.Host().Status().Running {
		for _, l := range lines {
			if err := sv.Host().Send(l); err != nil {
				sv.Warn(
					"a command was killed while the server held still for it, and it can't be told to go on: %v",
					err,
				)
				return
			}
		}
		sv.Note("a command was killed while the server held still for it: it was told to go on (%s)",
			strings.Join(lines, ", "))
	}
	os.Remove(sv.State(heldFile))
}
