package needs

import (
	"bytes"
	"debug/elf"
	"debug/macho"
	"debug/pe"
	"encoding/binary"
	"fmt"
	"io"
)

// Program is a native program or library: what system and processor it is for,
// as Go names them.
type Program struct{ OS, Arch string }

func (p Program) String() string { return p.OS + "/" + p.Arch }

var (
	elfArch = map[elf.Machine]string{elf.EM_X86_64: "amd64", elf.EM_AARCH64: "arm64", elf.EM_386: "386",
		elf.EM_ARM: "arm", elf.EM_RISCV: "riscv64", elf.EM_PPC64: "ppc64"}
	peArch = map[uint16]string{pe.IMAGE_FILE_MACHINE_AMD64: "amd64", pe.IMAGE_FILE_MACHINE_ARM64: "arm64",
		pe.IMAGE_FILE_MACHINE_I386: "386", pe.IMAGE_FILE_MACHINE_ARMNT: "arm"}
	machO = map[macho.Cpu]string{macho.CpuAmd64: "amd64", macho.CpuArm64: "arm64"}
)

// ReadProgram reads the first bytes of a file: ELF (System V gABI, chapter 4),
// PE (Microsoft's PE format) or Mach-O. ok is false for anything else.
func ReadProgram(r io.ReaderAt) (p Program, ok bool) {
	var b [64]byte
	if n, _ := r.ReadAt(b[:], 0); n < 20 {
		return p, false
	}
	known := func(os, arch string, raw any) (Program, bool) {
		if arch == "" {
			arch = fmt.Sprintf("processor %v", raw)
		}
		return Program{os, arch}, true
	}
	switch {
	case bytes.HasPrefix(b[:], []byte(elf.ELFMAG)):
		var order binary.ByteOrder = binary.LittleEndian
		if elf.Data(b[elf.EI_DATA]) == elf.ELFDATA2MSB {
			order = binary.BigEndian
		}
		m := elf.Machine(order.Uint16(b[18:]))
		return known("linux", elfArch[m], m)
	case bytes.HasPrefix(b[:], []byte("MZ")):
		var h [6]byte
		if n, _ := r.ReadAt(h[:], int64(binary.LittleEndian.Uint32(b[0x3c:]))); n < 6 ||
			!bytes.HasPrefix(h[:], []byte("PE\x00\x00")) {
			return p, false
		}
		m := binary.LittleEndian.Uint16(h[4:])
		return known("windows", peArch[m], m)
	case bytes.HasPrefix(b[:], []byte{0xcf, 0xfa, 0xed, 0xfe}):
		c := macho.Cpu(binary.LittleEndian.Uint32(b[4:]))
		return known("darwin", machO[c], c)
	}
	return p, false
}

// CutShort tells whether a native program or library ends before its own headers say
// that it does, and where they say so, in bytes: the end of what is loaded into memory,
// of the tables, and of the sections (System V gABI, chapters 4 and 5; Microsoft's PE
// format). A file of another kind is not cut short.
func CutShort(r io.ReaderAt, size int64) (end int64, cut bool) {
	var b [64]byte
	n, _ := r.ReadAt(b[:], 0)
	switch {
	case n >= 52 && bytes.HasPrefix(b[:], []byte(elf.ELFMAG)):
		end = elfEnd(r, b[:], size)
	case n >= 64 && bytes.HasPrefix(b[:], []byte("MZ")):
		f, err := pe.NewFile(io.NewSectionReader(r, 0, size))
		if err != nil {
			return 0, false
		}
		defer f.Close()
		for _, s := range f.Sections {
			end = max(end, int64(s.Offset)+int64(s.Size))
		}
	}
	return end, end > size
}

// elfEnd is where the headers of an ELF file say that it ends; 0 where they make no sense.
func elfEnd(r io.ReaderAt, head []byte, size int64) (end int64) {
	var order binary.ByteOrder = binary.LittleEndian
	if elf.Data(head[elf.EI_DATA]) == elf.ELFDATA2MSB {
		order = binary.BigEndian
	}
	half := func(at int) int64 { return int64(order.Uint16(head[at:])) }
	word := func(b []byte, at int) int64 { return int64(order.Uint32(b[at:])) }
	long := func(b []byte, at int) int64 { return int64(order.Uint64(b[at:]) & (1<<62 - 1)) }
	var programs, sections, programSize, programCount, sectionSize, sectionCount int64
	wide := elf.Class(head[elf.EI_CLASS]) == elf.ELFCLASS64
	if wide {
		programs, sections = long(head, 32), long(head, 40)
		programSize, programCount, sectionSize, sectionCount = half(54), half(56), half(58), half(60)
	} else {
		programs, sections = word(head, 28), word(head, 32)
		programSize, programCount, sectionSize, sectionCount = half(42), half(44), half(46), half(48)
	}
	end = max(programs+programSize*programCount, sections+sectionSize*sectionCount)
	if end > size || programSize < 32 || (wide && programSize < 56) {
		return end
	}
	entry := make([]byte, programSize)
	for i := range programCount {
		if _, err := r.ReadAt(entry, programs+i*programSize); err != nil {
			return end
		}
		if elf.ProgType(word(entry, 0)) != elf.PT_LOAD {
			continue
		}
		if wide {
			end = max(end, long(entry, 8)+long(entry, 32))
		} else {
			end = max(end, word(entry, 4)+word(entry, 16))
		}
	}
	return end
}

// Package names the kind of installer or package that a file is, which puts
// itself where it likes and is no build; "" for anything else.
func Package(r io.ReaderAt) string {
	var b [16]byte
	r.ReadAt(b[:], 0)
	for magic, what := range map[string]string{
		"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1": "a Windows installer package",
		"!<arch>\ndebian":                  "a Debian package",
		"\xed\xab\xee\xdb":                 "an RPM package",
		"xar!":                             "a macOS installer package",
	} {
		if bytes.HasPrefix(b[:], []byte(magic)) {
			return what
		}
	}
	return ""
}
