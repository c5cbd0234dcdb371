package host

import "os"

const noFollow = 0

// follow needs no mark: a file that is open here can't be dropped.
func follow(*os.File) {}

func followed(string) bool { return false }
