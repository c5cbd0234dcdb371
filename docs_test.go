package freshkeel_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"freshkeel/internal/feed"
	"freshkeel/internal/profile"
	"freshkeel/internal/unpack"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func page(t *testing.T, name string) string {
	t.Helper()
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	return string(b)
}

// What the pages promise is there: every key, every command, every link.
func TestDocumentationCoversWhatThereIs(t *testing.T) {
	prof := page(t, "docs/profile.md")
	for _, key := range profile.Keys() {
		assert.True(t, strings.Contains(prof, "`"+key+"`"), "docs/profile.md does not tell of %s", key)
	}
	help, err := exec.Command("go", "run", "./cmd/freshkeel", "help").CombinedOutput()
	require.NoError(t, err, string(help))
	readme := page(t, "README.md")
	commands := regexp.MustCompile(`(?m)^   ([a-z]+)(?:, \w+)? {2,}\S`).FindAllStringSubmatch(string(help), -1)
	require.GreaterOrEqual(t, len(commands), 15)
	for _, c := range commands {
		if c[1] != "help" {
			assert.Regexp(t, "`"+c[1]+"[ `]", readme, "README.md")
		}
	}
	pages, err := filepath.Glob("docs/*.md")
	require.NoError(t, err)
	for _, name := range append(pages, "README.md") {
		for _, l := range regexp.MustCompile(`\]\(([^)#:]+)\)`).FindAllStringSubmatch(page(t, name), -1) {
			_, err := os.Stat(filepath.Join(filepath.Dir(name), l[1]))
			assert.NoError(t, err, "%s links to it", name)
		}
	}
}

// The page's example is a feed, and the schema knows each of its keys.
func TestFeedPageAndSchemaAgreeWithTheReader(t *testing.T) {
	doc := page(t, "docs/feed.md")
	_, example, ok := strings.Cut(doc, "```json\n")
	require.True(t, ok)
	example, _, _ = strings.Cut(example, "```")
	f, err := feed.Parse([]byte(example))
	require.NoError(t, err)
	require.Len(t, f.Builds, 1)
	assert.Equal(t, []string{"3.4.0", "3.4.1"}, f.Builds[0].From)

	var schema map[string]any
	require.NoError(t, json.Unmarshal([]byte(page(t, "docs/feed.schema.json")), &schema))
	known := map[string]bool{}
	var collect func(v any)
	collect = func(v any) {
		m, ok := v.(map[string]any)
		if !ok {
			return
		}
		if props, ok := m["properties"].(map[string]any); ok {
			for k := range props {
				known[k] = true
			}
		}
		for _, sub := range m {
			collect(sub)
		}
	}
	collect(schema)
	var keys func(t reflect.Type) []string
	keys = func(t reflect.Type) (out []string) {
		for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct || t.PkgPath() == "freshkeel/internal/tree" {
			return nil
		}
		for i := range t.NumField() {
			f := t.Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if name == "-" || !f.IsExported() {
				continue
			}
			if name != "" {
				out = append(out, name)
			}
			out = append(out, keys(f.Type)...)
		}
		return out
	}
	all := append(keys(reflect.TypeFor[feed.Feed]()), keys(reflect.TypeFor[feed.Files]())...)
	require.Contains(t, all, "removals")
	for _, k := range all {
		assert.True(t, known[k], "the schema does not know %q", k)
		assert.Contains(t, doc, k, "docs/feed.md")
	}
	rules := reflect.TypeFor[unpack.Rule]()
	named := 0
	for i := range rules.NumField() {
		if rules.Field(i).Tag.Get("json") != "-" {
			named++
		}
	}
	assert.Equal(t, 10, named, "a new rule is documented, and can stand in a profile")
}
