//go:build !linux

package host

import (
	"context"
	"errors"
	"fmt"
)

func openManager(name string, _ bool) (manager, error) {
	return nil, fmt.Errorf("[host] unit names the service %s, and this system has no service manager of that kind: "+
		"[host] kind = \"commands\" runs it by commands of your own", name)
}

// Forbidden says that this user may not start and stop a unit, and what would let them.
type Forbidden struct{ Unit, User string }

func (f *Forbidden) Error() string { return f.User + " may not start and stop " + f.Unit }

// Do is what lets the user.
func (f *Forbidden) Do() string { return "" }

func groupProcesses(string) []int { return nil }

func signalName(n int) string { return fmt.Sprint(n) }

func intoConsole(at, _ string) error {
	return fmt.Errorf("%s: named pipes are not written to here", at)
}

func followJournal(context.Context, string, bool, journalQuery, func(journalLine)) error {
	return errors.New("this system has no journal")
}

func unitAnswer(asked, Owner, string, string) ([]journalLine, error) {
	return nil, errors.New("this system has no service manager")
}
