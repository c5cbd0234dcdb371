package feed

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFeedErrorsSayWhatAndWhere(t *testing.T) {
	build := func(s string) string { return `{"format":"freshkeel-feed/1","builds":[` + s + `]}` }
	for want, text := range map[string]string{
		"an HTML page":                     "<html><body>503",
		"line 2":                           "{\n \"format\": }",
		`its format is "other/1"`:          `{"format":"other/1"}`,
		"build 1: its version is empty":    build(`{"parts":[{"url":"x"}]}`),
		"build 1 (1.0) has no parts":       build(`{"version":"1.0"}`),
		"build 2 (1.0) is listed twice":    build(`{"version":"1.0","parts":[{"url":"x"}]},{"version":"1.0","parts":[{"url":"x"}]}`),
		"not written 2006-01-02":           build(`{"version":"1.0","date":"yesterday","parts":[{"url":"x"}]}`),
		"a part has no url":                build(`{"version":"1.0","parts":[{}]}`),
		`digest "crc" is not known`:        build(`{"version":"1.0","parts":[{"url":"x","digests":{"crc":"00"}}]}`),
		"is not a sha256 digest of 64 hex": build(`{"version":"1.0","parts":[{"url":"x","digests":{"sha256":"00"}}]}`),
		`unpack as "exe"`:                  build(`{"version":"1.0","parts":[{"url":"x","unpack":{"as":"exe"}}]}`),
		`"../up" is not a path inside`:     build(`{"version":"1.0","parts":[{"url":"x","unpack":{"into":"../up"}}]}`),
	} {
		_, err := Parse([]byte(text))
		assert.ErrorContains(t, err, want)
	}
	f, err := Parse([]byte(build(`{"version":"1","channel":"stable","parts":[{"url":"a/b.zip"}]},{"version":"2","channel":"preview","parts":[{"url":"http://x/y"}]}`)))
	require.NoError(t, err)
	newest, _ := f.Newest("", nil)
	assert.Equal(t, "2", newest.Version)
	newest, _ = f.Newest("stable", nil)
	assert.Equal(t, "1", newest.Version)
}

func TestVersionsAreOrderedByParts(t *testing.T) {
	inOrder := []string{"0.9", "1", "1.0.1", "1.2", "1.2.0-rc1", "1.2.0-rc2", "1.2.0", "1.10", "2.0-beta", "2.0", "2026.1"}
	for i := range inOrder {
		for j := range inOrder {
			a, b := inOrder[i], inOrder[j]
			if (a == "1.2" && strings.HasPrefix(b, "1.2.0")) || (b == "1.2" && strings.HasPrefix(a, "1.2.0")) {
				continue // 1.2 is 1.2.0
			}
			want := 0
			if i < j {
				want = -1
			} else if i > j {
				want = 1
			}
			assert.Equal(t, want, Compare(a, b), "%s against %s", a, b)
		}
	}
	for name, want := range map[string]string{"mossgate-server-3.4.1.jar": "3.4.1", "/srv/pond-1.2.zip": "1.2", "server_v2.0.1-rc1.tar.gz": "2.0.1-rc1", "pond": "", "pond2": ""} {
		assert.Equal(t, want, VersionIn(name), name)
	}
}
