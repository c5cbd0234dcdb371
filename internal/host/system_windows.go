package host

// These say what this system is like, so that nobody has to ask for its name.
const (
	HasModes    = false // files have an execute bit and an owner, and scripts are run by their first line
	OpenIsFree  = false // a file that a program has open can be renamed
	HasFrozen   = false // a file system can forbid a file's exchange to everybody
	KnowsLoader = false // its programs are loaded as package needs reads them
	IsWindows   = true
)

// BootID numbers the start of the machine: not told here.
func BootID() string { return "" }
