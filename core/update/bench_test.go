package update

import (
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// BenchmarkRestore compares restoring one changed theme with restoring all of a site of
// 1 GiB in 8,000 files. Both take a snapshot of the present state first, and prove what
// they did.
func BenchmarkRestore(b *testing.B) {
	j := newJetty(b)
	data := make([]byte, 128<<10)
	for i := range 8000 {
		_, _ = rand.Read(data) // never fails, by its contract
		name := filepath.Join(j.dir, "www/uploads", fmt.Sprint(i%40), fmt.Sprint(i))
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(name, data, 0o644); err != nil {
			b.Fatal(err)
		}
	}
	if _, _, err := Snapshot(b.Context(), j.workspace, SnapshotOptions{}); err != nil {
		b.Fatal(err)
	}
	time.Sleep(3 * time.Second) // what was just written must look old enough
	restore := func() time.Duration {
		start := time.Now()
		run, err := Restore(b.Context(), j.workspace, RestoreOptions{Snapshot: "snap-1", Guard: Guard{Clock: still{}}})
		if err != nil || run.State != Restored {
			b.Fatalf("%+v %v", run, err)
		}
		return time.Since(start)
	}
	var all, theme time.Duration
	for b.Loop() {
		if err := os.RemoveAll(j.dir + "/www/uploads"); err != nil {
			b.Fatal(err)
		}
		all += restore()
		time.Sleep(3 * time.Second)
		if _, _, err := Snapshot(b.Context(), j.workspace, SnapshotOptions{}); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(j.dir+"/www/themes/quay/page.txt", []byte("good"), 0o644); err != nil {
			b.Fatal(err)
		}
		theme += restore()
	}
	b.ReportMetric(float64(theme)/float64(all), "theme/all")
	b.ReportMetric(all.Seconds()/float64(b.N), "s-for-all")
}
