package update_test

import (
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"wetland/core/archive"
	"wetland/core/restore"
	"wetland/core/runs"
	"wetland/core/session"
)

// unpacked is how long tar takes to write the uploads, until the disk has them safely.
func unpacked(b *testing.B, root string) time.Duration {
	b.Helper()
	dir := b.TempDir()
	shell := func(script string) time.Duration {
		start := time.Now()
		if out, err := exec.Command("sh", "-c", script).CombinedOutput(); err != nil {
			b.Fatalf("%s: %v\n%s", script, err, out)
		}
		return time.Since(start)
	}
	shell(fmt.Sprintf("tar -C %s -cf %s/uploads.tar uploads && mkdir %s/out && sync", root, dir, dir))
	took := shell(fmt.Sprintf("tar -C %s/out -xf %s/uploads.tar && sync", dir, dir))
	shell("rm -rf " + dir + "/out " + dir + "/uploads.tar && sync")
	return took
}

// BenchmarkRestore compares restoring one changed theme with restoring all of a site of
// 1 GiB in 8,000 files. Both take a snapshot of the present state first, and prove what
// they did. Writing the files is compared with tar as well.
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
	if _, err := archive.Snapshot(b.Context(), j.workspace, archive.SnapshotOptions{}); err != nil {
		b.Fatal(err)
	}
	time.Sleep(3 * time.Second) // what was just written must look old enough
	wanted := func() (whole, written time.Duration) {
		start := time.Now()
		run, err := restore.Restore(b.Context(), j.workspace, restore.Options{Snapshot: "snap-1",
			Guard: session.Guard{Clock: still{}}})
		if err != nil || run.State != runs.Restored {
			b.Fatalf("%+v %v", run, err)
		}
		i := slices.IndexFunc(run.Steps, func(step runs.Step) bool { return step.Name == "files" })
		return time.Since(start), run.Steps[i].Took
	}
	var all, written, theirs, theme time.Duration
	for b.Loop() {
		theirs += unpacked(b, j.dir+"/www")
		if err := os.RemoveAll(j.dir + "/www/uploads"); err != nil {
			b.Fatal(err)
		}
		one, files := wanted()
		all, written = all+one, written+files
		time.Sleep(3 * time.Second)
		if _, err := archive.Snapshot(b.Context(), j.workspace, archive.SnapshotOptions{}); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(j.dir+"/www/themes/quay/page.txt", []byte("good"), 0o644); err != nil {
			b.Fatal(err)
		}
		one, _ = wanted()
		theme += one
	}
	b.ReportMetric(float64(written)/float64(theirs), "files/tar")
	b.ReportMetric(float64(all)/float64(theirs), "all/tar")
	b.ReportMetric(float64(theme)/float64(all), "theme/all")
	b.ReportMetric(all.Seconds()/float64(b.N), "s-for-all")
}
