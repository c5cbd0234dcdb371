package host

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
)

// Started is a program as it was about to start: nothing of it had run.
type Started struct {
	Program string   `json:"program"` // the file
	Argv    []string `json:"argv"`
	Dir     string   `json:"dir"`
	Env     []string `json:"env"`
}

// ErrStartsNothing says that a script ended, or took too long, and started no server.
var ErrStartsNothing = errors.New("it started no server")

// Ask runs a launch script apart, and tells the first server program that it was about to start. Programs that no script needs
// to come to that (shells and small tools do) are ended before their first instruction.
func Ask(ctx context.Context, self []string, a Apart, b Bounds) (s Started, err error) {
	a.Note = true
	found := false
	var said string
	run, err := RunApart(ctx, self, a, b, func(line string) {
		if !found && json.Unmarshal([]byte(line), &s) == nil && s.Program != "" {
			found = true
		} else if !found {
			said = line
		}
	})
	if err != nil {
		return s, err
	}
	run.in.Close() // nobody answers it
	<-run.Done()
	switch err := run.Err(); {
	case found:
		return s, nil
	case errors.Is(err, ErrNotApart):
		return s, fmt.Errorf("%w: %s", err, said)
	case err != nil && ctx.Err() == nil && !errors.Is(err, ErrTooLong):
		return s, fmt.Errorf("%w: it ended with %v", ErrStartsNothing, err)
	case err != nil:
		return s, fmt.Errorf("%w: %w", ErrStartsNothing, err)
	}
	return s, ErrStartsNothing
}
