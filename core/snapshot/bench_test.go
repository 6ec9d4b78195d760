package snapshot

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/core/progress"
	"wetland/core/site/cms"
)

// BenchmarkFiles compares storing and proving a tree with tar and zstd writing the
// same tree, in one run: "x-tar-zstd" is the ratio of the times, below 1 is faster.
func BenchmarkFiles(b *testing.B) {
	if _, err := exec.LookPath("zstd"); err != nil {
		b.Skip("SKIPPED: zstd is not on this machine")
	}
	top := filepath.Join(b.TempDir(), "uploads")
	data := make([]byte, 128<<10)
	for i := range 800 {
		if i%4 != 0 {
			_, _ = rand.Read(data) // never fails, by its contract
		} else {
			clear(data)
		}
		name := filepath.Join(top, fmt.Sprintf("%02d/%d.bin", i%20, i))
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(name, data, 0o644); err != nil {
			b.Fatal(err)
		}
	}
	var ours, proof, theirs time.Duration
	for b.Loop() {
		store, err := Open(b.TempDir())
		if err != nil {
			b.Fatal(err)
		}
		start := time.Now()
		m := &Manifest{Format: manifestFormat, Name: "snap-1"}
		volume, err := newVolume(store.bytes, volumeFolder+"v1.wet", store.index)
		if err != nil {
			b.Fatal(err)
		}
		if err := store.storeArea(context.Background(), m, cms.Area{Name: "site", Path: top}, files.Local{}, volume, progress.Silent{}); err != nil {
			b.Fatal(err)
		}
		if err := volume.finish(); err != nil {
			b.Fatal(err)
		}
		ours += time.Since(start)
		start = time.Now()
		if err := store.prove(context.Background(), m, progress.Silent{}); err != nil {
			b.Fatal(err)
		}
		proof += time.Since(start)
		start = time.Now()
		command := exec.Command("sh", "-c", `tar -C "$1" -c . | zstd -q -T0 -3 -o "$2/plain.tar.zst" && sync "$2/plain.tar.zst"`, "sh", top, b.TempDir())
		if out, err := command.CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", err, out)
		}
		theirs += time.Since(start)
	}
	b.ReportMetric(float64(ours)/float64(theirs), "x-tar-zstd")
	b.ReportMetric(float64(ours+proof)/float64(theirs), "x-tar-zstd-with-proof")
}
