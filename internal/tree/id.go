package tree

import (
	"fmt"
	"math"
	"strconv"
)

// ID is the number of a user or a group. Four bytes hold it, as the system calls have it:
// a large install has some hundred thousand entries in memory. In JSON NoID is -1.
type ID uint32

// NoID is the ID where the system has none.
const NoID ID = math.MaxUint32

// Int is the number as package os takes it: -1 for NoID.
func (id ID) Int() int {
	if id == NoID {
		return -1
	}
	return int(id)
}

// String is the number in decimal, as people read it.
func (id ID) String() string { return strconv.Itoa(id.Int()) }

// MarshalJSON writes the number.
func (id ID) MarshalJSON() ([]byte, error) { return strconv.AppendInt(nil, int64(id.Int()), 10), nil }

// UnmarshalJSON reads the number; what is no number of a user is an error.
func (id *ID) UnmarshalJSON(b []byte) error {
	n, err := strconv.ParseInt(string(b), 10, 64)
	if err != nil || n < -1 || n >= int64(NoID) {
		return fmt.Errorf("%s is no number of a user or a group", b)
	}
	*id = ID(uint32(n))
	return nil
}
