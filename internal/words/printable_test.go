package words

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestPrintableLeavesNothingThatATerminalObeys(t *testing.T) {
	for in, want := range map[string]string{
		"plain\ttext\n":                          "plain\ttext\n",
		"snøil ✓ 蝸牛\n":                           "snøil ✓ 蝸牛\n",
		"\x1b[31mred\x1b[0m":                     "red",
		"\x1b[2J\x1b[Hgone":                      "gone",
		"\x1b]0;title\x07text":                   "text",
		"\x1b]52;c;cm0gLXJm\x1b\\text":           "text",
		"\x1bPq#0;2\x1b\\x":                      "x",
		"\u009b31mred":                           "red",
		"\x1bcreset":                             "reset",
		"a\rb":                                   "a\uFFFDb",
		"line\r\nnext":                           "line\nnext",
		"bell\x07 back\x08":                      "bell\uFFFD back\uFFFD",
		"gnp.\u202eexe":                          "gnp.\uFFFDexe",
		"bad \xff\xfe bytes":                     "bad \uFFFD\uFFFD bytes",
		"\x1b":                                   "\uFFFD",
		"\x1b]0;no end of it":                    "",
		"two\x1b]0;never ended\nlines":           "two\nlines",
		"\x9b31mraw C1, which is not UTF-8 here": "\uFFFD31mraw C1, which is not UTF-8 here",
	} {
		assert.Equal(t, want, Printable(in), "%q", in)
	}
	long := Printable(strings.Repeat("é", MaxLine) + "\nshort\n")
	assert.True(t, strings.HasSuffix(long, "é …\nshort\n"))
	assert.Less(t, len(long), MaxLine+32)
}

func FuzzPrintable(f *testing.F) {
	for _, s := range []string{"\x1b[31m", "\x1b]0;x\x07", "a\u202eb", "\xff", "x\x1b\x1b[[m"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		out := Printable(s)
		if !utf8.ValidString(out) || Printable(out) != out {
			t.Errorf("%q becomes %q, then %q", s, out, Printable(out))
		}
		for _, r := range out {
			if r != '\n' && r != '\t' && hidden(r) {
				t.Errorf("%q leaves %q", s, r)
			}
		}
	})
}
