package words

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A line that does not end is held no further than the bound, and its rest never counts as a line.
func TestLinesAreBounded(t *testing.T) {
	var l Lines
	var got []string
	add := func(s string) { l.Add([]byte(s), func(line string) { got = append(got, line) }) }
	add("one\r\ntw")
	add("o\n\n")
	for range 300 {
		add(strings.Repeat("x", 10<<10))
	}
	assert.Len(t, l.Rest(), MaxHeard)
	add("gates open")
	add("\nlast")
	assert.Equal(t, []string{"one", "two", ""}, got[:3])
	assert.Len(t, got, 4)
	assert.Equal(t, strings.Repeat("x", MaxHeard), got[3])
	assert.Equal(t, "last", l.Rest())
	l.Drop()
	assert.Empty(t, l.Rest())
}
