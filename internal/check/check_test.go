package check

import (
	"context"
	"os"
	"regexp"
	"slices"
	"testing"

	"freshkeel/internal/acquire"
	"freshkeel/internal/backups"
	"freshkeel/internal/plan"
	"freshkeel/internal/resolve"
	"freshkeel/proving/stand"

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

// Each case is an install and a build that one check has something to say of, whatever the
// others find.
func TestChecksFindWhatTheyAreFor(t *testing.T) {
	const script = "[launch]\nscript = 'run.sh'\n"
	run := "#!/bin/sh\nexec java -jar pond.jar\n"
	for name, c := range map[string]struct {
		profile    string
		here, next map[string]string
		want       resolve.Want
		check      string
		level      Level // "": it does not apply
	}{
		"an older build": {"", nil, map[string]string{"pond.jar": "old"}, resolve.Want{Version: "0.9"},
			"direction", Stop},
		"an older build that is meant": {"", nil, map[string]string{"pond.jar": "old"},
			resolve.Want{Version: "0.9", Back: true}, "direction", ""},
		"an older one, accepted": {"", nil, map[string]string{"pond.jar": "old"},
			resolve.Want{Version: "0.9", Accept: []string{"direction"}}, "direction", Warn},
		"a newer build": {"", nil, map[string]string{"pond.jar": "new"}, resolve.Want{Version: "1.1"},
			"direction", OK},
		"what the script runs goes": {script, map[string]string{"run.sh": run},
			map[string]string{"lib/moss.dat": "x"}, resolve.Want{Version: "1.1"}, "names", Stop},
		"what the script runs comes": {script, map[string]string{"run.sh": run}, map[string]string{"pond.jar": "new"},
			resolve.Want{Version: "1.1"}, "names", OK},
		"a script with returns": {script,
			map[string]string{"run.sh": "#!/bin/sh\r\nexec java -jar pond.jar\r\n"},
			map[string]string{"pond.jar": "new"}, resolve.Want{Version: "1.1"}, "scripts", Stop},
		"a changed file of the build": {"", map[string]string{"pond.jar": "mine"},
			map[string]string{"pond.jar": "new"}, resolve.Want{Version: "1.1"}, "drift", Stop},
		"no ready line": {script, map[string]string{"run.sh": run}, map[string]string{"pond.jar": "new"},
			resolve.Want{Version: "1.1"}, "ready", Warn},
		"no layers": {"", nil, map[string]string{"pond.jar": "new"}, resolve.Want{Version: "1.1"},
			"layers", ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := stand.New(t, c.profile)
			s.Put(map[string]string{"pond.jar": "1.0"})
			s.Put(c.here)
			s.Installed("1.0", map[string]string{"pond.jar": "1.0"})
			planner := plan.New(s.Inv, s.Res, s.Runtimes)
			ck := New(s.Inv, s.Res, s.Runtimes, planner, backups.New(s.In, acquire.New(s.Inv, s.Res), s.Res))
			pre, err := ck.Run(context.Background(), c.want, s.Build(c.want.Version, c.next), 0)
			require.NoError(t, err)
			var found []Finding
			for _, f := range pre.Findings {
				if f.Check == c.check {
					found = append(found, f)
				}
			}
			if c.level == "" {
				assert.Empty(t, found)
				return
			}
			require.NotEmpty(t, found)
			assert.Equal(t, c.level, found[0].Level, "%+v", found)
			if c.level == Stop {
				assert.NotEmpty(t, found[0].Why)
				assert.NotEmpty(t, found[0].Do)
			}
		})
	}
}
