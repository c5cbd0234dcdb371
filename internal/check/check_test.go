package check

import (
	"os"
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEveryCheckIsDocumented(t *testing.T) {
	b, err := os.ReadFile("../../docs/checks.md")
	require.NoError(t, err)
	for _, c := range Checks {
		mark := "| |"
		if slices.Contains(Acceptable, c.Name) {
			mark = "| ✓ |"
		}
		assert.Regexp(t, "\\| `"+c.Name+"` \\|.*"+regexp.QuoteMeta(mark), string(b))
	}
}
