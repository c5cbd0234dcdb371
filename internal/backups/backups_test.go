package backups

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// taken stores backups of nothing much, each taken on a day.
func taken(t *testing.T, s *Shelf, at ...time.Time) (ids []string) {
	t.Helper()
	l, err := s.Locker()
	require.NoError(t, err)
	id, err := s.Identity()
	require.NoError(t, err)
	for _, when := range at {
		w := l.Writer()
		f, err := w.Add(context.Background(), strings.NewReader(when.String()), nil)
		require.NoError(t, err)
		f.Entry = tree.Entry{Path: "world", Kind: tree.File, Size: f.Size}
		set := &locker.Set{Owner: id, Taken: when, Entries: []locker.File{f}}
		require.NoError(t, w.Publish(set))
		w.Close()
		ids = append(ids, set.ID)
	}
	return ids
}

// Of each day, week and month the newest backup stays, as many as are asked for.
func TestThinningKeepsTheNewestOfEachPeriod(t *testing.T) {
	s := reading(install.New(t.TempDir(), &profile.Profile{}, install.Options{Home: t.TempDir()}))
	day := func(m time.Month, d, h int) time.Time { return time.Date(2026, m, d, h, 0, 0, 0, time.Local) }
	ids := taken(t, s, day(3, 1, 9), day(8, 30, 9), day(9, 2, 9), day(9, 2, 21), day(9, 3, 8), day(9, 3, 9),
		day(9, 3, 10))
	kept := func(n Keeping) (out []string) {
		t.Helper()
		p, err := s.PlanThin(n)
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
	_, err := s.PlanThin(Keeping{})
	assert.ErrorContains(t, err, "nothing says how many backups to keep")

	// What an unfinished run may need stays, whatever is asked for.
	require.NoError(t, s.Book.Begin(&logbook.Entry{Kind: logbook.Refit, Backup: ids[0]}))
	assert.Contains(t, kept(Keeping{Last: 1}), ids[0])
}

// A choice is what is named, less what is left out.
func TestAChoiceIsWhatIsNamedLessWhatIsLeftOut(t *testing.T) {
	for _, c := range []struct {
		choice Choice
		at     string
		takes  bool
	}{
		{Choice{}, "a", true}, {Choice{Only: tree.Patterns{"g/**"}}, "g/a", true},
		{Choice{Only: tree.Patterns{"g/**"}}, "h/a", false},
		{Choice{Leave: tree.Patterns{"g/**"}}, "g/a", false},
		{Choice{Only: tree.Patterns{"g/**"}, Leave: tree.Patterns{"g/b"}}, "g/b", false},
	} {
		takes := c.choice.Takes()
		assert.Equal(t, c.takes, takes == nil || takes(tree.Entry{Path: c.at}), fmt.Sprintf("%+v", c))
	}
}

// Names that Windows can't have are told by any part of a path.
func TestNamesThatWindowsForbidsAreTold(t *testing.T) {
	var list []locker.File
	for _, at := range []string{"worlds/a:b", "con", "lib/aux.txt", "ends with dot.", "fine.txt", "console.log",
		"a/b c/d", "what?"} {
		list = append(list, locker.File{Entry: tree.Entry{Path: at}})
	}
	assert.Equal(t, []string{"worlds/a:b", "con", "lib/aux.txt", "ends with dot.", "what?"}, Forbidden(list))
}
