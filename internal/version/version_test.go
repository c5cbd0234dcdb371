package version

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestVersionsAreOrderedByParts(t *testing.T) {
	for _, inOrder := range [][]string{
		{"0.9", "1", "1.0.1", "1.2.0-rc1", "1.2.0-rc2", "1.2.0", "1.10", "2.0-beta", "2.0", "2026.1"},
		{"3.5-dev", "3.5-alpha2", "3.5b1", "3.5-beta.2", "3.5-pre1", "3.5rc1", "3.5-RC2", "3.5", "3.5-hotfix", "3.5.1"},
		{"2026-09-30", "2026-10-01", "2026-11-23"}, {"20260930", "20261001"}, {"b99", "b100", "b1000"},
		{"3.5.0+57", "3.5.0+100"}, {"3.5.0-56", "3.5.0-57"}, {"99999999999999999999", "100000000000000000000"},
		{"build 9", "build 10"},
	} {
		for i := range inOrder {
			for j := range inOrder {
				want := 0
				if i < j {
					want = -1
				} else if i > j {
					want = 1
				}
				assert.Equal(t, want, Compare(inOrder[i], inOrder[j]), "%s against %s", inOrder[i], inOrder[j])
			}
		}
	}
	for _, same := range [][2]string{{"1.2", "1.2.0"}, {"v3.5", "3.5"}, {"3.5-final", "3.5"}} {
		assert.Zero(t, Compare(same[0], same[1]), same)
	}
	for r, fits := range map[string]map[string]bool{
		"":              {"1": true},
		">=3.4 <4":      {"3.3": false, "3.4": true, "3.9.9": true, "4.0": false, "4.0-rc1": true},
		"3.5.*":         {"3.5": true, "3.5.7": true, "3.50": false, "3.5-rc1": true},
		"!=3.5.* >=3":   {"3.5.1": false, "3.6": true},
		"3.4.1 || >=4":  {"3.4.1": true, "3.5": false, "4": true},
		"=2 || = || <1": {"9": false},
	} {
		for v, want := range fits {
			assert.Equal(t, want, Fits(r, v), "%q and %s", r, v)
		}
	}
	for name, want := range map[string]string{"mossgate-server-3.4.1.jar": "3.4.1", "/srv/pond-1.2.zip": "1.2",
		"server_v2.0.1-rc1.tar.gz": "2.0.1-rc1", "pond": "", "pond2": "", "pond-2026-11-23.zip": "2026-11-23",
		"pond-b1234.7z": "b1234", "moss_1.4.tar.zst": "1.4"} {
		assert.Equal(t, want, In(name), name)
	}
}

// Makers of add-ons write ranges in several notations, and each is read as they mean it.
func TestRangesOfAddonsAreReadInAnyNotation(t *testing.T) {
	for text, c := range map[string][2]string{"[3.4,4.0)": {"3.9.1", "4.0.0"}, "(3.4,]": {"5.0", "3.4"},
		"[3.5]": {"3.5.0", "3.5.1"}, ">=3.4 <4": {"3.5.0", "4.1.0"}, "~3.4": {"3.4.9", "3.5.0"},
		"3.4.x": {"3.4.1", "3.5.0"}, "3.5": {"3.5.2", "3.50.0"}, ">=3.7": {"3.7.1-pre1", "3.6.0"}} {
		fits, err := FitsAddon(text, c[0], false)
		assert.True(t, fits && err == nil, "%s %s: %v", text, c[0], err)
		fits, err = FitsAddon(text, c[1], false)
		assert.False(t, fits || err != nil, "%s %s: %v", text, c[1], err)
	}
}

func TestANumberByItselfIsAVersionToo(t *testing.T) {
	for name, want := range map[string]string{"pond-12.zip": "12", "pond_server_v7.tar.gz": "7", "pond-1.2.zip": "", "pond-linux-64.zip": "",
		"pond-9-linux-64.zip": "9", "pond2.zip": "", "pond.zip": "", "7.zip": ""} {
		assert.Equal(t, want, Number(name), name)
	}
}

func TestSpellingsOfOneVersionAreAlike(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want Likeness
	}{
		{"2.4+g20260101", "2.4.20260101", Same}, {"v3.5.0", "3.5", Same}, {"3.5.0", "3.5.0", Same},
		{"mossgate-1.2.3", "1.2.3", Same}, {"3.0-rc1", "3.0rc.1", Same}, {"20260101", "2026.01.01", Same},
		{"2.4", "2.4.1", Doubtful}, {"2.4.1-beta", "2.4.1", Doubtful},
		{"3.4.1", "3.5.0", Other}, {"3.50", "3.5", Other}, {"2.4", "24.1", Other}, {"", "1", Other},
	} {
		assert.Equal(t, c.want, Alike(c.a, c.b), "%s %s", c.a, c.b)
		assert.Equal(t, c.want, Alike(c.b, c.a), "%s %s", c.b, c.a)
	}
}
