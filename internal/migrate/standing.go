package migrate

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/data"
	"freshkeel/internal/host"
	"freshkeel/internal/profile"
)

// Word is what the operator says by hand about migrations: names.
type Word struct{ Has, Lacks []string }

// Standing is whether a migration that is due is run on the data as it is.
type Standing struct {
	profile.Migration
	LeftOut string // why it is left out; "": it is not
	Stop    string // why it is not known, or must not be; "": it is run, or left out
	Said    bool   // the operator said that the data has had it
}

// doneLimit is how long the data may take to say whether it has had a migration.
const doneLimit = 30 * time.Second

// Standing looks whether the data has had a migration: by the operator's word, by its own where the profile
// names a command that asks it, and by the record.
func (mg *Migrator) Standing(ctx context.Context, m profile.Migration, had []data.Had, word Word) Standing {
	s := Standing{Migration: m}
	var last *data.Had
	for i := range had {
		if had[i].Name == m.Name {
			last = &had[i]
		}
	}
	switch {
	case slices.Contains(word.Has, m.Name):
		s.LeftOut, s.Said = "you say that the data has had it", true
		return s
	case slices.Contains(word.Lacks, m.Name):
		return s
	}
	if len(m.Done) > 0 {
		has, err := mg.ask(ctx, m)
		switch {
		case err != nil:
			s.Stop = fmt.Sprintf("whether the data has had it can't be told: %v", err)
		case has:
			s.LeftOut = fmt.Sprintf("the data has had it, as %s says", m.Done[0])
		}
		return s
	}
	if last != nil && (!last.Done || m.When != profile.EachTime) {
		s.Stop = last.String()
	}
	return s
}

// ask runs the command by which the data says whether it has had a migration: it ends with status 0
// where it has, and with 1 where it has not.
func (mg *Migrator) ask(ctx context.Context, m profile.Migration) (has bool, err error) {
	argv := slices.Clone(m.Done)
	if strings.Contains(argv[0], "/") && !filepath.IsAbs(argv[0]) { // one that stands in the install
		argv[0] = mg.Path(argv[0])
	}
	said := ""
	err = host.RunTool(ctx, host.Tool{Argv: argv, Dir: mg.Dir, Env: append(slices.Clone(mg.Env), m.Env...),
		Limit: min(doneLimit, m.Limit.Std())}, func(l string) {
		if strings.TrimSpace(l) != "" {
			said = ": " + strings.TrimSpace(l)
		}
	})
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) && exit.ExitCode() == 1 {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("%w%s (0 means that it has, 1 that it has not)", err, said)
	}
	return true, nil
}
