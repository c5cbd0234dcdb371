package tell

// Usage is a request that makes no sense as it is.
type Usage struct{ What, Do string }

func (u *Usage) Error() string { return u.What }

// Advised is an error with a next step.
type Advised struct {
	Err error
	Do  string
}

func (a *Advised) Error() string { return a.Err.Error() }
func (a *Advised) Unwrap() error { return a.Err }

// ToolFailed says that a command of the profile, or of a build, did not do its work.
type ToolFailed struct {
	What  string
	Lines []string // the last that it printed
	Log   string   // where all of it is
	Err   error    // how it ended, which What tells
}

func (t *ToolFailed) Error() string { return t.What }

func (t *ToolFailed) Unwrap() error { return t.Err }

// Advise gives an error a next step.
func Advise(err error, do string) error { return &Advised{err, do} }

// Misuse refuses a request, and tells how it is made right.
func Misuse(what, do string) error { return &Usage{what, do} }
