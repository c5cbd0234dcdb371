package words

import "regexp"

// PathLike is what of a line may be a file's name or path.
var PathLike = regexp.MustCompile(`[\pL\pN_.+~/-]+`)
