// Package bench measures the rooms by themselves; run.sh measures the program
// beside ordinary tools.
package bench

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/tree"
)

// many makes a folder of small files.
func many(b *testing.B, n int) string {
	dir := b.TempDir()
	for i := range n {
		full := filepath.Join(dir, fmt.Sprintf("%03d", i/200), fmt.Sprintf("%05d.txt", i))
		if i%200 == 0 {
			os.MkdirAll(filepath.Dir(full), 0o755)
		}
		if err := os.WriteFile(full, fmt.Appendf(nil, "file %d", i), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	return dir
}

// BenchmarkSecondPass is what a refit's backup does with the server down when
// nothing changed since the pre-copy: it is players who wait for it.
func BenchmarkSecondPass(b *testing.B) {
	dir := many(b, 20_000)
	l, err := locker.Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	w := l.Writer()
	defer w.Close()
	first, err := w.Take(context.Background(), dir, nil, nil, nil, nil)
	if err != nil {
		b.Fatal(err)
	}
	for i := range first.Entries {
		first.Entries[i].ReadAt += int64(time.Minute)
	}
	if err := w.Publish(&locker.Set{Owner: "server-bench", ID: "b0001", Entries: first.Entries}); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		base, err := l.Base("server-bench", "b0001")
		if err != nil {
			b.Fatal(err)
		}
		t, err := w.Take(context.Background(), dir, nil, nil, base, nil)
		if err != nil {
			b.Fatal(err)
		}
		if t.Read != 0 {
			b.Fatalf("%d bytes were read again", t.Read)
		}
		s := &locker.Set{Owner: "server-bench"}
		t.Fill(s)
		if err := w.Publish(s); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkWalk(b *testing.B) {
	dir := many(b, 20_000)
	for b.Loop() {
		if _, err := tree.Walk(dir, nil); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkAdd stores content that does not compress.
func BenchmarkAdd(b *testing.B) {
	l, err := locker.Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	body := make([]byte, 8<<20)
	b.SetBytes(int64(len(body)))
	for n := uint64(0); b.Loop(); n++ {
		for i := range body { // cheap noise, another each time
			n = n*6364136223846793005 + 1442695040888963407
			body[i] = byte(n >> 56)
		}
		w := l.Writer()
		if _, err := w.Add(context.Background(), bytes.NewReader(body), nil); err != nil {
			b.Fatal(err)
		}
		w.Close()
	}
}

// BenchmarkScanJar opens a jar of 100 MiB: 20,000 classes, 80 MiB of pictures
// and sounds, and four jars inside.
func BenchmarkScanJar(b *testing.B) {
	random := rand.New(rand.NewChaCha8([32]byte{}))
	noise := func(n int) []byte {
		out := make([]byte, n)
		for i := range out {
			out[i] = byte(random.Uint32())
		}
		return out
	}
	classes := func(z *zip.Writer, pkg string, n int) {
		for i := range n {
			w, err := z.Create(fmt.Sprintf("%s/p%d/C%d.class", pkg, i/200, i))
			if err != nil {
				b.Fatal(err)
			}
			w.Write(append([]byte{0xCA, 0xFE, 0xBA, 0xBE, 0, 0, 0, 61}, noise(1000)...))
		}
	}
	var jar bytes.Buffer
	z := zip.NewWriter(&jar)
	w, _ := z.Create("META-INF/MANIFEST.MF")
	w.Write([]byte("Manifest-Version: 1.0\r\nMain-Class: moss.p0.C0\r\n\r\n"))
	classes(z, "moss", 16_000)
	for i := range 20 {
		w, _ := z.Create(fmt.Sprintf("sounds/%d.ogg", i))
		w.Write(noise(4 << 20))
	}
	for i := range 4 {
		var inner bytes.Buffer
		iz := zip.NewWriter(&inner)
		classes(iz, fmt.Sprintf("lib%d", i), 1000)
		if err := iz.Close(); err != nil {
			b.Fatal(err)
		}
		w, _ := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("META-INF/lib/%d.jar", i), Method: zip.Store})
		w.Write(inner.Bytes())
	}
	if err := z.Close(); err != nil {
		b.Fatal(err)
	}
	var read int64
	for b.Loop() {
		j, err := needs.ScanMain(bytes.NewReader(jar.Bytes()), int64(jar.Len()), "")
		if err != nil || j.Release != 17 {
			b.Fatal(j, err)
		}
		read = j.Read
	}
	b.ReportMetric(float64(jar.Len())/(1<<20), "MiB")
	b.ReportMetric(float64(read)/(1<<20), "MiB-read")
}
