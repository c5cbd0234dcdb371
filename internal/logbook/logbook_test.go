package logbook

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEntriesCountUpAndAnOpenOneIsFound(t *testing.T) {
	b := Book{filepath.Join(t.TempDir(), "logbook")}
	none, err := b.All()
	require.NoError(t, err)
	assert.Empty(t, none)
	for _, want := range []string{"r0001", "r0002", "r0003"} {
		e := &Entry{Kind: Refit, From: "1", To: "2", Phase: Preparing}
		require.NoError(t, b.Begin(e))
		assert.Equal(t, want, e.ID)
		open, err := b.Unfinished()
		require.NoError(t, err)
		require.NotNil(t, open)
		assert.Equal(t, want, open.ID)
		e.Outcome, e.Phase = Confirmed, Done
		require.NoError(t, b.Save(e))
		open, err = b.Unfinished()
		require.NoError(t, err)
		assert.Nil(t, open)
	}
	e, err := b.Get("r0002")
	require.NoError(t, err)
	assert.Equal(t, Confirmed, e.Outcome)
	for _, id := range []string{"r0004", "../r0001", "", "r1"} {
		_, err = b.Get(id)
		assert.ErrorIs(t, err, ErrNone, id)
	}
	// A stray file is nobody's entry; a broken entry is said to be one.
	require.NoError(t, os.WriteFile(filepath.Join(b.Dir, ".r0004.json.123"), []byte("{"), 0o600))
	all, err := b.All()
	require.NoError(t, err)
	assert.Len(t, all, 3)
	require.NoError(t, os.WriteFile(filepath.Join(b.Dir, "r0004.json"), []byte("{"), 0o600))
	_, err = b.All()
	assert.ErrorContains(t, err, "r0004.json: not an entry")
}
