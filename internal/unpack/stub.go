package unpack

import (
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"path"
	"strings"

	"github.com/klauspost/compress/zip"
	"github.com/nwaples/rardecode/v2"
)

// maxStub is how far into a program its archive is looked for, in bytes: what unpacks itself
// begins with a small program.
const maxStub = 8 << 20

// isProgram tells whether a file begins as a program for Windows or Linux does.
func isProgram(head []byte) bool {
	return bytes.HasPrefix(head, []byte("MZ")) || bytes.HasPrefix(head, []byte("\x7fELF"))
}

// behindStub finds the archive in a program that unpacks itself: its kind, and where it begins.
// It is opened as any other archive, and the program is never run. A program that only has
// some of its data in a zip is a program: an archive of a server holds something to run.
func behindStub(f io.ReaderAt, size int64) (kind string, at int64) {
	if z, err := zip.NewReader(f, size); err == nil && len(z.File) > 0 {
		for _, e := range z.File {
			if runnable(e.Name) {
				return "zip", 0 // its own directory says where it begins
			}
		}
		return "", 0
	}
	head := make([]byte, min(size, maxStub))
	if n, err := f.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return "", 0
	} else {
		head = head[:n]
	}
	for from := 0; ; from++ {
		i := bytes.Index(head[from:], []byte("7z\xbc\xaf\x27\x1c"))
		if i < 0 {
			break
		}
		if from += i; sevenZipAt(head[from:]) {
			return "7z", int64(from)
		}
	}
	for from := 0; ; from++ {
		i := bytes.Index(head[from:], []byte("Rar!\x1a\x07"))
		if i < 0 {
			return "", 0
		}
		if from += i; rarAt(io.NewSectionReader(f, int64(from), size-int64(from))) {
			return "rar", int64(from)
		}
	}
}

// behind is where the archive in a file begins: at its start, but for one that unpacks itself.
func behind(f io.ReaderAt, size int64) int64 {
	head := make([]byte, 4)
	if _, err := f.ReadAt(head, 0); err != nil || !isProgram(head) {
		return 0
	}
	_, at := behindStub(f, size)
	return at
}

// sevenZipAt tells whether an archive begins there, and not only the mark of one that a
// program looks for: its first header has a checksum.
func sevenZipAt(b []byte) bool {
	const header = 32
	return len(b) >= header && crc32.ChecksumIEEE(b[12:header]) == binary.LittleEndian.Uint32(b[8:12])
}

func rarAt(r io.Reader) (is bool) {
	defer func() { recover() }() // of a library that trusts what it reads
	z, err := rardecode.NewReader(r, rardecode.MaxDictionarySize(maxWindow))
	if err != nil {
		return false
	}
	_, err = z.Next()
	return err == nil
}

// runnable tells whether a name is of what a server is run by.
func runnable(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".exe", ".jar", ".sh", ".bat", ".cmd", ".so", ".dll", ".x86_64", ".x86":
		return true
	case "":
		return !strings.HasSuffix(name, "/") && strings.Contains(strings.ToLower(path.Base(name)), "server")
	}
	return false
}
