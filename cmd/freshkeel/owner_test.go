//go:build unix

package main

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is relayed to root's terminal has our colours and the one redrawn line, however it is cut into
// pieces, and nothing else that a terminal obeys.
func TestWhatIsRelayedIsHarmless(t *testing.T) {
	text := "  \x1b[32mok\x1b[0m    fetch\n\r\x1b[K  \x1b[36m·  \x1b[0m watch 1 s\r\x1b[K  done: Füße\n\x1b]0;title\x07\x1b[2Jevil\x1b[5;5H\rover\n"
	for size := 1; size < 12; size++ {
		var out bytes.Buffer
		r := &relayed{harmless: harmless{&out, true}, live: true}
		for rest := []byte(text); len(rest) > 0; rest = rest[min(size, len(rest)):] {
			r.Write(rest[:min(size, len(rest))])
		}
		got := out.String()
		assert.Contains(t, got, "done: Füße\n", size)
		assert.Contains(t, got, "\r\x1b[K", size)
		assert.NotContains(t, got, "\x1b]0;", size)
		assert.NotContains(t, got, "\x1b[2J", size)
		assert.NotContains(t, got, "\x1b[5;5H", size)
		assert.NotContains(t, got, "\rover", size)
		assert.Contains(t, got, "evil", size)
	}
	var out bytes.Buffer
	r := &relayed{harmless: harmless{&out, false}}
	r.Write([]byte("a\r\x1b[Kb\x1b[31mc\n"))
	assert.Equal(t, "abc\n", out.String(), "without a live line nothing is drawn anew")
}

// A question is drawn from its fields, each harmless and bounded.
func TestAQuestionIsDrawnFromItsFields(t *testing.T) {
	assert.Equal(t, "go on? [y/N]", asking{Key: "go on"}.text())
	assert.Equal(t, "go on? [y/N]", asking{Key: "password for root"}.text(), "one that is not known asks nothing else")
	assert.Equal(t, "write these 3 lines into the profile? [y/N]", asking{Key: "learn", N: 3}.text())
	evil := asking{Key: "server.keep", Of: "\r\x1b[2K[sudo] password: " + string(bytes.Repeat([]byte("x"), 500))}.text()
	assert.NotContains(t, evil, "\x1b")
	assert.NotContains(t, evil, "\r")
	assert.Less(t, len(evil), 300)
}
