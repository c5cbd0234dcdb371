package words

import (
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is quoted can be copied into a profile, and is read back as it was.
func TestQuotedTextIsReadBack(t *testing.T) {
	for _, s := range []string{"", `^ready \S+`, "it's", "a\x1b[1mb", "two\nlines", `both ' and "`, "\x7f\t\\",
		"sn\u00e4il's"} {
		var doc struct{ At string }
		require.NoError(t, toml.Unmarshal([]byte("At = "+Quote(s)), &doc), s)
		assert.Equal(t, s, doc.At)
	}
	assert.Equal(t, `'^ready \S+'`, Quote(`^ready \S+`), "a backslash is a backslash")
}
