package freshkeel

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"freshkeel/internal/backups"
	"freshkeel/internal/check"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/plan"
	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A consent is a short text whose one setting says no and which speaks of
// consent; settings files, and what is agreed already, are none.
func TestConsentsAreToldFromOtherFiles(t *testing.T) {
	for name, c := range map[string]struct {
		at, text string
		line     int
		agreed   string
	}{
		"plain":            {"consent.txt", "# Read the rules.\nagreed=false\n", 2, "# Read the rules.\nagreed=true\n"},
		"windows lines":    {"rules.txt", "The rules.\r\nI accept the terms: no\r\n", 2, "The rules.\r\nI accept the terms: yes\r\n"},
		"number":           {"licence.conf", "accepted = 0", 1, "accepted = 1"},
		"by its name":      {"terms.properties", "answer=No\n", 1, "answer=Yes\n"},
		"agreed already":   {"consent.txt", "agreed=true\n", 0, ""},
		"settings":         {"terms.conf", "agreed=false\nport=27750\n", 0, ""},
		"something else":   {"night.conf", "long=false\n", 0, ""},
		"in a comment":     {"consent.txt", "# agreed=false\n", 0, ""},
		"no text":          {"consent.txt", "agreed=false\x00", 0, ""},
		"not UTF-8":        {"consent.txt", "agreed=false \xff", 0, ""},
		"long":             {"consent.txt", "agreed=false\n" + strings.Repeat("and so on\n", 4000), 0, ""},
		"word for a value": {"consent.txt", "agreed=perhaps\n", 0, ""},
	} {
		got, ok := plan.ReadConsent(c.at, []byte(c.text))
		assert.Equal(t, c.line > 0, ok, name)
		if c.line > 0 {
			assert.Equal(t, c.line, got.Line, name)
			assert.Equal(t, c.agreed, string(got.Agreed), name)
		}
	}
}

func TestHeapFlagsAreReadInTheirUnits(t *testing.T) {
	for flag, want := range map[string]int64{
		"-Xmx4G": 4 << 30, "-Xms512m": 512 << 20, "-Xmx1048576": 1 << 20, "-Xmx2t": 2 << 40, "-XX:MaxHeapSize=64k": 64 << 10,
		"--max-old-space-size=2048": 2048 << 20, "-Xmx": 0, "-XmxG": 0, "-Xss4m": 0, "-Xmx-1": 0, "4G": 0,
	} {
		assert.Equal(t, want, launch.HeapBytes(flag), flag)
	}
	assert.Equal(t, "-Xmx2G", launch.LastFlag([]string{"-Xmx1G", "-Xms1G", "-Xmx2G"}, "-Xmx"), "the last one counts")
	assert.Empty(t, launch.LastFlag(nil, "-Xmx"))
}

// taken stores backups of nothing much, each taken on a day.
func (s *stand) taken(at ...time.Time) (ids []string) {
	s.t.Helper()
	l, err := s.k.in.Locker()
	require.NoError(s.t, err)
	id, err := s.k.in.Identity()
	require.NoError(s.t, err)
	for _, when := range at {
		w := l.Writer()
		f, err := w.Add(context.Background(), strings.NewReader(when.String()), nil)
		require.NoError(s.t, err)
		f.Entry = tree.Entry{Path: "world", Kind: tree.File, Size: f.Size}
		set := &locker.Set{Owner: id, Taken: when, Entries: []locker.File{f}}
		require.NoError(s.t, w.Publish(set))
		w.Close()
		ids = append(ids, set.ID)
	}
	return ids
}

// Of each day, week and month the newest backup stays, as many as are asked for.
func TestThinningKeepsTheNewestOfEachPeriod(t *testing.T) {
	s := newStand(t, "")
	day := func(m time.Month, d, h int) time.Time { return time.Date(2026, m, d, h, 0, 0, 0, time.Local) }
	ids := s.taken(day(3, 1, 9), day(8, 30, 9), day(9, 2, 9), day(9, 2, 21), day(9, 3, 8), day(9, 3, 9), day(9, 3, 10))
	kept := func(n Keeping) (out []string) {
		t.Helper()
		p, err := s.k.shelf.PlanThin(n)
		require.NoError(t, err)
		for _, id := range ids {
			if p.Keep[id] != "" {
				out = append(out, id)
			}
		}
		assert.Len(t, p.Drop, len(ids)-len(out))
		return out
	}
	assert.Equal(t, ids[5:], kept(Keeping{Last: 2}))
	assert.Equal(t, []string{ids[3], ids[6]}, kept(Keeping{Days: 2}))
	assert.Equal(t, []string{ids[1], ids[3], ids[6]}, kept(Keeping{Days: 3}))
	assert.Equal(t, []string{ids[1], ids[6]}, kept(Keeping{Weeks: 2}))
	assert.Equal(t, []string{ids[0], ids[1], ids[6]}, kept(Keeping{Months: 12}))
	assert.Equal(t, []string{ids[1], ids[5], ids[6]}, kept(Keeping{Last: 2, Weeks: 2}))
	_, err := s.k.shelf.PlanThin(Keeping{})
	assert.ErrorContains(t, err, "nothing says how many backups to keep")

	// What an unfinished run may need stays, whatever is asked for.
	require.NoError(t, s.k.in.Book.Begin(&logbook.Entry{Kind: logbook.Refit, Backup: ids[0]}))
	assert.Contains(t, kept(Keeping{Last: 1}), ids[0])
}

// A choice is what is named, less what is left out.
func TestAChoiceIsWhatIsNamedLessWhatIsLeftOut(t *testing.T) {
	for _, c := range []struct {
		choice Choice
		at     string
		takes  bool
	}{
		{Choice{}, "a", true}, {Choice{Only: tree.Patterns{"g/**"}}, "g/a", true}, {Choice{Only: tree.Patterns{"g/**"}}, "h/a", false},
		{Choice{Leave: tree.Patterns{"g/**"}}, "g/a", false}, {Choice{Only: tree.Patterns{"g/**"}, Leave: tree.Patterns{"g/b"}}, "g/b", false},
	} {
		takes := c.choice.Takes()
		assert.Equal(t, c.takes, takes == nil || takes(tree.Entry{Path: c.at}), fmt.Sprintf("%+v", c))
	}
}

// Names that Windows can't have are told by any part of a path.
func TestNamesThatWindowsForbidsAreTold(t *testing.T) {
	var list []locker.File
	for _, at := range []string{"worlds/a:b", "con", "lib/aux.txt", "ends with dot.", "fine.txt", "console.log", "a/b c/d", "what?"} {
		list = append(list, locker.File{Entry: tree.Entry{Path: at}})
	}
	assert.Equal(t, []string{"worlds/a:b", "con", "lib/aux.txt", "ends with dot.", "what?"}, backups.Forbidden(list))
	assert.True(t, slices.Contains(check.Acceptable, "addons"))
}
