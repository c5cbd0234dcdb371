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
	elfArch = map[elf.Machine]string{elf.EM_X86_64: "amd64", elf.EM_AARCH64: "arm64", elf.EM_386: "386", elf.EM_ARM: "arm", elf.EM_RISCV: "riscv64", elf.EM_PPC64: "ppc64"}
	peArch  = map[uint16]string{pe.IMAGE_FILE_MACHINE_AMD64: "amd64", pe.IMAGE_FILE_MACHINE_ARM64: "arm64", pe.IMAGE_FILE_MACHINE_I386: "386", pe.IMAGE_FILE_MACHINE_ARMNT: "arm"}
	machO   = map[macho.Cpu]string{macho.CpuAmd64: "amd64", macho.CpuArm64: "arm64"}
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
		if n, _ := r.ReadAt(h[:], int64(binary.LittleEndian.Uint32(b[0x3c:]))); n < 6 || !bytes.HasPrefix(h[:], []byte("PE\x00\x00")) {
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
