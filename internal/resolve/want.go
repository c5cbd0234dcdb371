package resolve

// Want says which build.
type Want struct {
	Version string            // "": the newest of the profile's channel
	From    string            // a path or URL to take a build from, instead of the source
	As      string            // the version of a build taken From somewhere, where its name doesn't tell
	Over    bool              // it is an increment, laid over the build that is installed
	Back    bool              // an older version is meant
	Start   bool              // leave the server running even if it wasn't
	Accept  []string          // checks to go past although they say stop
	Layers  map[string]string // layers to change too, and to which version ("": the newest that fits)
	Without []string          // layers to go without
	Mend    bool              // put changed build files back as the build has them
	Consent []string          // files in which the makers ask for a consent that is given
	Runtime string            // which runtime the launch script is to run: a release, a range, or a program
	LetBoot bool              // boot a build for its defaults although the system can't shut it off
	Has     []string          // migrations that the data has had, by the operator's word: they are left out
	Lacks   []string          // and those that it has not had, whatever the record says
	Hold    []string          // add-ons to leave out this time, by path or name
}

// onlyLayers tells whether the build itself is to stay.
func (w Want) onlyLayers() bool { return w.Version == "" && w.From == "" && len(w.Layers) > 0 }
