package profile

import (
	"errors"
	"testing"

	"freshkeel/internal/tree"
)

// Whatever stands in a profile is a profile or an error of ours that names the file.
func FuzzParse(f *testing.F) {
	f.Add([]byte("[server]\nname = \"pond\"\nkeep = [\"world/**\"]\n[place]\n\"a-*.jar\" = \"a.jar\"\n[ready]\nline = '^ready'\nport = \"udp/27750\"\nwithin = \"2m\"\n"))
	f.Add([]byte("[server]\nname = \"pond\"\n[[layer]]\nname = \"x\"\ninto = \".freshkeel\"\n[layer.source]\nfeed = \"f\"\n"))
	f.Add([]byte("[server]\nname = \"pond\"\n[[layer]]\nname = \"x\"\ninto = \".\"\n[layer.source]\nfeed = \"f\"\n"))
	f.Add([]byte("[server\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := Parse("freshkeel.toml", b)
		if err != nil {
			if e := (*Error)(nil); !errors.As(err, &e) {
				t.Errorf("%T: %v", err, err)
			}
			return
		}
		for _, to := range p.Place {
			if !tree.Local(to) || Reserved(to) {
				t.Errorf("[place] leads to %q", to)
			}
		}
		for _, l := range p.Layers {
			if l.Into != "" && (!tree.Local(l.Into) || Reserved(l.Into)) {
				t.Errorf("a layer is laid into %q", l.Into)
			}
		}
	})
}
