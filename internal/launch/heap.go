package launch

import (
	"strconv"
	"strings"
)

// heapFlags are the arguments that bound a runtime's heap, and the unit of a
// bare number, in bytes.
var heapFlags = map[string]int64{"-Xmx": 1, "-Xms": 1, "-XX:MaxHeapSize=": 1, "-XX:InitialHeapSize=": 1,
	"--max-old-space-size=": 1 << 20}

// HeapBytes reads -Xmx4G, -Xms512m and the like; 0 for anything else.
func HeapBytes(arg string) int64 {
	for flag, unit := range heapFlags {
		v, ok := strings.CutPrefix(arg, flag)
		if !ok || v == "" {
			continue
		}
		letter := true
		switch v[len(v)-1] | 0x20 {
		case 'k':
			unit = 1 << 10
		case 'm':
			unit = 1 << 20
		case 'g':
			unit = 1 << 30
		case 't':
			unit = 1 << 40
		default:
			letter = false
		}
		if letter {
			v = v[:len(v)-1]
		}
		if n, err := strconv.ParseInt(v, 10, 40); err == nil && n > 0 {
			return n * unit
		}
	}
	return 0
}

// LastFlag is the last argument with a prefix: where one is given twice, that
// counts.
func LastFlag(args []string, prefix string) (last string) {
	for _, a := range args {
		if strings.HasPrefix(a, prefix) {
			last = a
		}
	}
	return last
}
