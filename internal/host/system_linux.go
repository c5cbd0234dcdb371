package host

// These say what this system is like, so that nobody has to ask for its name.
const (
	HasModes    = true // files have an execute bit and an owner, and scripts are run by their first line
	OpenIsFree  = true // a file that a program has open can be renamed
	HasFrozen   = true // a file system can forbid a file's exchange to everybody
	KnowsLoader = true // its programs are loaded as package needs reads them
	IsWindows   = false
)
