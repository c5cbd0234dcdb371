package proof

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"freshkeel/internal/settings"

	"github.com/stretchr/testify/require"
)

// scene is a file of testdata: two defaults, edits of the operator's, each by itself, and what is expected of them.
type scene struct {
	old, now string
	edits    [][3]string // name, words of the old default, words in their place
}

func readScene(t *testing.T, text string) (s scene, input, expected string) {
	input, expected, _ = strings.Cut(text, "===== values\n")
	defaults, edits, is := strings.Cut(strings.TrimPrefix(input, "===== old\n"), "===== edits\n")
	require.True(t, is)
	s.old, s.now, is = strings.Cut(defaults, "===== now\n")
	require.True(t, is)
	plain := strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\t`, "\t", `\r`, "\r")
	for _, l := range strings.Split(strings.TrimSuffix(edits, "\n"), "\n") {
		e := strings.Split(l, "\t")
		require.Len(t, e, 3, l)
		require.Contains(t, s.old, plain.Replace(e[1]), l)
		s.edits = append(s.edits, [3]string{e[0], plain.Replace(e[1]), plain.Replace(e[2])})
	}
	return s, input, expected
}

// attempt merges three texts, and says of what comes out how it differs from the new default, or why there is nothing.
func (s scene) attempt(t *testing.T, name, old, now, mine string) (text, told, fates string) {
	n, err := settings.Read(name, []byte(now))
	require.NoError(t, err)
	m, err := settings.ReadAs(n.Format, []byte(mine))
	if err != nil {
		return "", err.Error(), ""
	}
	var o *settings.Doc
	var oldText []byte
	if old != "" {
		o, err = settings.ReadAs(n.Format, []byte(old))
		require.NoError(t, err)
		oldText = []byte(old)
	}
	merged, err := settings.Merge(o, n, m, settings.Rules{})
	if err != nil {
		return "", err.Error(), ""
	}
	for _, c := range merged.Changes {
		fates += fmt.Sprintf(" %q %s %d;", c.Key, c.Fate, c.Line)
	}
	wrong, err := Check(n.Format, oldText, []byte(now), []byte(mine), merged.Text, Rules{})
	if err != nil {
		return "", err.Error(), ""
	}
	if len(wrong) > 0 {
		return "", "not proven: " + strings.Join(wrong, ", "), fates
	}
	for _, c := range merged.Changes {
		if c.Fate == settings.Unkept {
			return string(merged.Text), fmt.Sprintf("not kept: %q", c.Mine), fates
		}
	}
	return string(merged.Text), "", fates
}

// differs are the lines that one text has and another has not.
func differs(from, to string) (out string) {
	a, b := strings.SplitAfter(from, "\n"), strings.SplitAfter(to, "\n")
	for _, l := range without(b, a) {
		out += fmt.Sprintf("  + %q\n", l)
	}
	for _, l := range without(a, b) {
		out += fmt.Sprintf("  - %q\n", l)
	}
	return out
}

// damaged counts the lines that can be taken out of a merged text, doubled, or changed in a letter, without the proof finding it.
func damaged(format, old, now, mine, text string) (unseen int) {
	lines := strings.SplitAfter(text, "\n")
	for i, l := range lines {
		for _, other := range []string{"", l + l, strings.Replace(l, "1", "2", 1), strings.ToUpper(l), l + "zz = 1\n"} {
			spoilt := strings.Join(slices.Concat(lines[:i], []string{other}, lines[i+1:]), "")
			if spoilt == text {
				continue
			}
			if wrong, err := Check(format, []byte(old), []byte(now), []byte(mine), []byte(spoilt), Rules{}); err == nil && len(wrong) == 0 {
				unseen++
			}
		}
	}
	return unseen
}

// What lies too deep in itself is refused, whatever its format: a reader that goes down once for each would not come back.
func TestDepthIsBounded(t *testing.T) {
	for name, nested := range map[string]func(n int) string{
		"a.json": func(n int) string { return strings.Repeat(`{"a":`, n) + "1" + strings.Repeat("}", n) },
		"b.json": func(n int) string { return `{"a":` + strings.Repeat("[", n) + strings.Repeat("]", n) + "}" },
		"a.xml":  func(n int) string { return strings.Repeat("<a>", n) + "1" + strings.Repeat("</a>", n) },
		"a.yml": func(n int) (out string) {
			for i := range n {
				out += strings.Repeat(" ", i) + "a:\n"
			}
			return out + strings.Repeat(" ", n) + "b: 1\n"
		},
		"a.cfg": func(n int) string {
			return strings.Repeat("class A {\n", n) + "x = 1;\n" + strings.Repeat("};\n", n)
		},
	} {
		most := map[string]int{"a.json": 65, "b.json": 999, "a.xml": 65, "a.yml": 64, "a.cfg": 64}[name]
		for n, fits := range map[int]bool{most: true, most + 1: false, 1_001: false} {
			_, err := settings.Read(name, []byte(nested(n)))
			require.Equal(t, fits, err == nil, "%s, %d deep: %v", name, n, err)
		}
	}
}

// Each edit of each format is merged into a new default, into one whose old is not known, and back into the old one; and what the
// proof reads is written out. All of it is held against what was once looked through by eye:
// FRESHKEEL_WRITE_EXPECTED=1 writes it anew.
func TestEditsOfEachFormat(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txt")
	require.NoError(t, err)
	require.Len(t, files, 14)
	for _, file := range files {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		s, input, expected := readScene(t, string(b))
		name := strings.TrimSuffix(filepath.Base(file), ".txt")
		switch name {
		case "members":
			name = "members.txt"
		case "pond.blocks":
			name = "pond.cfg"
		}
		d, err := settings.Read(name, []byte(s.now))
		require.NoError(t, err)
		v, err := Read(d.Format, []byte(s.now))
		require.NoError(t, err)
		got := d.Format + "\n"
		for _, path := range slices.Sorted(maps.Keys(v)) {
			got += fmt.Sprintf("%q %q\n", path, v[path])
		}
		got += "===== merges\n"
		for n, e := range s.edits {
			mine := strings.Replace(s.old, e[1], e[2], 1)
			for _, one := range [][3]string{{s.old, s.now, mine}, {"", s.now, mine}, {s.now, s.old, strings.Replace(s.now, e[1], e[2], 1)}} {
				way := "to the new default"
				if one[0] == "" {
					way = "with no old default known"
				} else if one[0] == s.now {
					way = "back"
				}
				text, told, fates := s.attempt(t, name, one[0], one[1], one[2])
				if told != "" {
					got += fmt.Sprintf("%s, %s: told: %s (%s)\n", e[0], way, told, strings.TrimSpace(fates))
					continue
				}
				got += fmt.Sprintf("%s, %s:%s\n%s", e[0], way, fates, differs(one[1], text))
				if one[0] == s.old && n%4 == 0 {
					got += fmt.Sprintf("  %d damages not seen\n", damaged(d.Format, one[0], one[1], one[2], text))
				}
			}
		}
		right, told := 0, 0
		for i, a := range s.edits {
			for j, b := range s.edits[i+1:] {
				if j%4 != 0 { // a share of them
					continue
				}
				mine := strings.Replace(strings.Replace(s.old, a[1], a[2], 1), b[1], b[2], 1)
				if _, why, _ := s.attempt(t, name, s.old, s.now, mine); why == "" {
					right++
				} else {
					told++
				}
			}
		}
		got += fmt.Sprintf("two edits at once: %d proven, %d told\n", right, told)
		if os.Getenv("FRESHKEEL_WRITE_EXPECTED") != "" {
			require.NoError(t, os.WriteFile(file, []byte(input+"===== values\n"+got), 0o644))
			continue
		}
		require.Equal(t, expected, got, file)
	}
}

// What an odd text says is written out as each of the two readers understands it.
func TestOddTexts(t *testing.T) {
	b, err := os.ReadFile("testdata/odd/texts.txt")
	require.NoError(t, err)
	got := ""
	for n, part := range strings.Split(string(b), "===== ")[1:] {
		name, text, _ := strings.Cut(part, "\n")
		if open, is := strings.CutSuffix(text, "\\\n"); is && n > 1 { // it has no end of its last line
			text = open
		}
		got += fmt.Sprintf("===== %s %q\n", name, text)
		d, err := settings.Read(name, []byte(text))
		if err != nil {
			got += "not read: " + err.Error() + "\n"
		} else {
			for _, it := range d.Items {
				got += fmt.Sprintf("%d %q %q\n", it.Line, it.Key, it.Value)
			}
		}
		for _, format := range []string{"lines", "words", "list", "blocks", "json", "toml", "yaml", "xml"} {
			if d != nil && d.Format != format && err == nil {
				continue
			}
			v, err := Read(format, []byte(text))
			if err != nil {
				got += fmt.Sprintf("  as %s: %v\n", format, err)
				continue
			}
			got += fmt.Sprintf("  as %s:", format)
			for _, path := range slices.Sorted(maps.Keys(v)) {
				got += fmt.Sprintf(" %q=%q", path, v[path])
			}
			got += "\n"
		}
	}
	if os.Getenv("FRESHKEEL_WRITE_EXPECTED") != "" {
		require.NoError(t, os.WriteFile("testdata/odd/expected.txt", []byte(got), 0o644))
	}
	expected, err := os.ReadFile("testdata/odd/expected.txt")
	require.NoError(t, err)
	require.Equal(t, string(expected), got)
}
