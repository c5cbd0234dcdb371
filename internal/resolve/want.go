package resolve

import "freshkeel/internal/tell"

// Want says which build.
type Want struct {
	Version string   // "": the newest of the profile's channel
	From    string   // a path or URL to take a build from, or the one layer that is named
	As      string   // the version of a build taken From somewhere, where its name doesn't tell
	Over    bool     // it is an increment, laid over the build that is installed
	Lay     bool     // it is a layer: a folder around all of it may be its own
	Back    bool     // an older version is meant
	Start   bool     // leave the server running even if it wasn't
	Accept  []string // checks to go past although they say stop
	// files that become the build's though they may be the operator's own: paths and patterns, as they were typed
	Overwrite []string
	Layers    map[string]string // layers to change too, and to which version ("": the newest that fits)
	Without   []string          // layers to go without
	Mend      bool              // put changed build files back as the build has them
	Consent   []string          // files in which the makers ask for a consent that is given
	Runtime   string            // which runtime the launch script is to run: a release, a range, or a program
	LetBoot   bool              // boot a build for its defaults although the system can't shut it off
	Has       []string          // migrations that the data has had, by the operator's word: they are left out
	Lacks     []string          // and those that it has not had, whatever the record says
	Hold      []string          // add-ons to leave out this time, by path or name
}

// onlyLayers tells whether the build itself is to stay.
func (w Want) onlyLayers() bool { return w.Version == "" && len(w.Layers) > 0 }

// layerFrom is the layer that is taken From somewhere; "" for none.
func (w Want) layerFrom() string {
	if w.From == "" {
		return ""
	}
	for name := range w.Layers {
		return name
	}
	return ""
}

// Check refuses what contradicts itself, and words that would have no effect.
func (w Want) Check() error {
	switch {
	case w.From != "" && w.Version != "" && w.layerFrom() == "":
		return tell.Misuse("a version and --from together: which one is meant?",
			"give the version of a build taken --from somewhere with --as")
	case w.From != "" && w.Version != "":
		return tell.Misuse("--layer with --from takes that layer alone, and the build stays: "+w.Version+" would not "+
			"be installed", "lay the layer first, then: freshkeel refit "+w.Version)
	case w.From == "" && (w.As != "" || w.Over):
		return tell.Misuse("--as and --over say something of a build that is taken --from somewhere, and there is none",
			"add --from PATH")
	case w.From != "" && len(w.Layers) > 1:
		return tell.Misuse("--from takes one layer, and several are named", "name one: --layer NAME --from PATH")
	case w.layerFrom() != "" && w.Over:
		return tell.Misuse("--over and --layer together: a layer lies over the build by nature", "leave --over out")
	}
	return nil
}
