package host

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/words"
)

// While files of an install are exchanged, a power cut may leave files of two builds there, and the
// service manager starts enabled units at the next boot. A guard keeps it from that: a drop-in that asserts
// that a mark is not there, and a unit that is ordered before the server's, makes the files whole, and
// starts nothing. A mark that stays makes the start fail loudly. Without the mark, or without the
// install, both do nothing.

// Guarding says what a guard guards.
type Guarding struct {
	Mark string   `json:"mark"` // the file that stands while files may be of two builds
	Home string   `json:"home"` // FRESHKEEL_HOME of what makes them whole
	Need []string `json:"need"` // units that this needs: a database's

	self string // the program
	dir  string // the install
}

const (
	guardName = "zz-freshkeel-guard.conf"
	guardMark = "# Fresh Keel wrote this: it keeps the service from starting between two builds.\n" +
		"# The command that exchanges files takes it away when it ends; freshkeel recover does so, too.\n"
)

// settleName is the unit that makes files whole before another unit starts.
func settleName(unit string) string {
	return "freshkeel-settle-" + strings.ReplaceAll(unit, "@", "-")
}

// guardDropIn is the drop-in over the guarded unit. settles says that the other unit stands, too.
func guardDropIn(unit string, g Guarding, settles bool) string {
	text := guardMark + "[Unit]\n"
	if settles {
		text += "Wants=" + settleName(unit) + "\nAfter=" + settleName(unit) + "\n"
	}
	return text + "AssertPathExists=!" + UnitPath(g.Mark) + "\n"
}

// settleUnit is the unit that makes the files whole. Root's command becomes the owner of the install, as any
// other of root's does, and keeps what is needed for the line of a unit.
func settleUnit(g Guarding) string {
	text := guardMark + "[Unit]\nDescription=Whole files for " + UnitPath(g.dir) + " after a cut, by Fresh Keel\n" +
		"ConditionPathExists=" + UnitPath(g.Mark) + "\nRequiresMountsFor=" + UnitWord(g.dir) + " " + UnitWord(g.Home) + "\n"
	for _, n := range g.Need {
		text += "Wants=" + n + "\nAfter=" + n + "\n"
	}
	return text + "[Service]\nType=oneshot\nEnvironment=" + UnitWord("FRESHKEEL_HOME="+g.Home) + "\n" +
		"ExecStart=" + UnitLine(unexpanded([]string{g.self, "-d", g.dir, "--plain", "recover", "--no-start"})) + "\n"
}

// unexpanded are words in which a manager is to find no variables.
func unexpanded(words []string) (out []string) {
	for _, w := range words {
		out = append(out, strings.ReplaceAll(w, "$", "$$"))
	}
	return out
}

// UnitPath is a path, or a text, where a unit has the rest of a line for it.
func UnitPath(at string) string { return strings.ReplaceAll(at, "%", "%%") }

// check refuses what no unit can say.
func (g Guarding) check() error {
	for _, w := range append([]string{g.Mark, g.Home, g.self, g.dir}, g.Need...) {
		if strings.ContainsFunc(w, func(r rune) bool { return r < ' ' || r == 0x7f }) || strings.TrimSpace(w) != w {
			return fmt.Errorf("a unit can't say the name %q", w)
		}
	}
	if !filepath.IsAbs(g.Mark) || !filepath.IsAbs(g.Home) {
		return fmt.Errorf("%s and %s are to be full paths", g.Mark, g.Home)
	}
	for _, n := range g.Need {
		if !words.IsUnit(n) {
			return fmt.Errorf("%q is no service's name", n)
		}
	}
	return nil
}

// Guard lays a guard over the unit, and has its manager know it. It may be called again.
func (s *Service) Guard(g Guarding, self string) error {
	if s.err != nil {
		return s.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*busLimit)
	defer cancel()
	g.self, g.dir = self, s.Dir
	return s.bus.guard(ctx, &g)
}

// Unguard takes the guard away.
func (s *Service) Unguard() error {
	if s.err != nil {
		return s.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*busLimit)
	defer cancel()
	return s.bus.guard(ctx, nil)
}

// MayGuard tells why no guard can be laid over the unit by this user; nil: it can, or lines that somebody
// wrote into the unit guard it already.
func (s *Service) MayGuard(mark string) error {
	if s.err != nil {
		return s.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), busLimit)
	defer cancel()
	u, err := s.bus.unit(ctx)
	if err == nil && u.Guarded(mark) {
		return nil
	}
	return s.bus.mayGuard(ctx)
}

// Guarded tells whether the unit asserts that a mark is not there.
func (u *Unit) Guarded(mark string) bool { return slices.Contains(u.Asserted, mark) }

// GuardLines are the lines by which somebody who may write the unit guards it once and for all.
func (s *Service) GuardLines(mark string) string {
	return fmt.Sprintf("«[Unit]», «AssertPathExists=!%s»", UnitPath(mark))
}
