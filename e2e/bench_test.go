package e2e

import (
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"wetland/internal/testenv"
)

// BenchmarkMemory reports the peak memory of the program for a site with 512 MiB of
// uploads and one file of 10 GiB, in MB.
func BenchmarkMemory(b *testing.B) {
	f := adopted(b)
	data := make([]byte, 1<<20)
	for i := range 512 {
		_, _ = rand.Read(data) // never fails, by its contract
		if err := os.WriteFile(filepath.Join(f.root, fmt.Sprintf("uploads/%d.bin", i)), data, 0o644); err != nil {
			b.Fatal(err)
		}
	}
	huge, err := os.Create(filepath.Join(f.root, "uploads/huge.bin"))
	must(b, err, huge.Truncate(10<<30), huge.Close())
	peak := func(name string, args ...string) {
		command := exec.Command(program, args...)
		command.Dir = f.care
		if out, err := command.CombinedOutput(); err != nil {
			b.Fatalf("%v: %v\n%s", args, err, out)
		}
		b.ReportMetric(float64(command.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)/1000, name)
	}
	for b.Loop() {
		peak("MB-snapshot", "snapshot")
		peak("MB-again", "snapshot")
		peak("MB-verify", "verify", "snap-1")
		must(b, os.Remove(filepath.Join(f.root, "uploads/huge.bin")))
		peak("MB-restore", "restore", "snap-1", "--yes")
	}
}

// BenchmarkUpdate compares the whole update of one theme of the real CMS, settling aside,
// with the sum of its parts: a snapshot, the baseline, and one smoke test.
func BenchmarkUpdate(b *testing.B) {
	site := testenv.WordPress(b)
	workspace := b.TempDir()
	timed := func(args ...string) time.Duration {
		b.Helper()
		command := exec.Command(program, args...)
		command.Dir = workspace
		start := time.Now()
		if out, err := command.CombinedOutput(); err != nil {
			b.Fatalf("%v: %v\n%s", args, err, out)
		}
		return time.Since(start)
	}
	wetland(b, workspace, "adopt", site.Root, "--address", site.Address, "--no-browser").want(b, 0)
	theme := themePackage(b, site, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
	const settling = 3500*time.Millisecond + time.Second // the second look is a second later
	var whole, parts time.Duration
	for b.Loop() {
		timed("snapshot") // the first one reads everything
		parts += timed("snapshot") + timed("smoke", "--learn") + timed("smoke")
		whole += timed("update", theme) - settling
		timed("restore", "twentytwentyone@1.7")
	}
	b.ReportMetric(float64(whole)/float64(parts), "update/parts")
	b.ReportMetric(whole.Seconds()/float64(b.N), "s-update")
}

// BenchmarkRefusal compares a refusal that needs no page with looking at the pages once, with
// a browser configured.
func BenchmarkRefusal(b *testing.B) {
	f := layOut(b)
	f.run(b, "adopt", f.root, "--address", f.address).want(b, 0)
	var refused, looked time.Duration
	for b.Loop() {
		start := time.Now()
		f.run(b, "update", f.pkg("harbourlight-3.0.0")).want(b, 2, "the pages were not looked at")
		refused += time.Since(start)
		start = time.Now()
		f.run(b, "smoke").want(b, 0)
		looked += time.Since(start)
	}
	b.ReportMetric(float64(refused)/float64(looked), "refusal/look")
	b.ReportMetric(refused.Seconds()/float64(b.N), "s-refusal")
}
