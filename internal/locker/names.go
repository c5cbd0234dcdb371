package locker

import "freshkeel/internal/locker/set"

// These are what stands in a locker, by the names under which everybody outside of it
// knows them; room set has them.
type (
	Set    = set.Set
	File   = set.File
	Taken  = set.Taken
	Base   = set.Base
	Damage = set.Damage
)

// Builds is the owner of the sets that are builds.
const Builds = set.Builds

// ErrNoSet says that a set is not there.
var ErrNoSet = set.ErrNoSet
