// Package needs tells what a build needs to run, from the build itself, and
// which runtimes this machine has.
package needs

import (
	"encoding/binary"
	"fmt"
	"io"
)

// classMagic begins every class file (The Java Virtual Machine Specification,
// section 4.1).
const classMagic = 0xCAFEBABE

// ClassVersion reads a class file's version from its first eight bytes.
func ClassVersion(r io.Reader) (major, minor int, err error) {
	var head struct {
		Magic        uint32
		Minor, Major uint16
	}
	if err := binary.Read(r, binary.BigEndian, &head); err != nil {
		return 0, 0, fmt.Errorf("it is too short for a class file: %w", err)
	}
	if head.Magic != classMagic {
		return 0, 0, fmt.Errorf("it begins with %08x, a class file with %08x", head.Magic, uint32(classMagic))
	}
	return int(head.Major), int(head.Minor), nil
}

// Release is the Java release whose class files have a major version (same
// specification, table 4.1-A): 52 is 8, 61 is 17.
func Release(major int) int { return major - 44 }
