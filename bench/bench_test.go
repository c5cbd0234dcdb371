// Package bench measures the rooms by themselves; run.sh measures the program
// beside ordinary tools.
package bench

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"freshkeel/internal/locker"
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
	first, err := w.Take(context.Background(), dir, nil, nil, nil)
	if err != nil {
		b.Fatal(err)
	}
	base := map[string]locker.File{}
	for _, f := range first.Entries {
		f.ReadAt += int64(time.Minute)
		base[f.Path] = f
	}
	for b.Loop() {
		t, err := w.Take(context.Background(), dir, nil, base, nil)
		if err != nil {
			b.Fatal(err)
		}
		if t.Read != 0 {
			b.Fatalf("%d bytes were read again", t.Read)
		}
		if err := w.Publish(&locker.Set{Owner: "server-bench", Entries: t.Entries}); err != nil {
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
