package needs

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A version that its maker forgot to quote is the one that is written: 1.20 is no 1.2.
func TestANumberIsAVersionAsItIsWritten(t *testing.T) {
	for name, text := range map[string]string{
		"pond.yml":  "name: lily\nfits: 1.20\nneeds:\n  pond: 1.10\nalso: [1.20, 2]\n",
		"pond.json": `{"name":"lily","fits":1.20,"needs":{"pond":1.10},"also":[1.20,2]}`,
		"pond.toml": "name = 'lily'\nfits = 1.20 # soon 1.21\nalso = ['1.20', 2]\n[needs]\npond = 1.10\n",
	} {
		d, err := ReadDescriptor(name, []byte(text))
		require.NoError(t, err, name)
		for field, want := range map[string][]string{"name": {"lily"}, "fits": {"1.20"}, "needs.pond": {"1.10"}, "also": {"1.20", "2"}} {
			assert.Equal(t, want, d.Field(field), "%s of %s", field, name)
		}
	}
}
