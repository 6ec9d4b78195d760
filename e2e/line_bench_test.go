package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"wetland/internal/testenv"
)

// The line of the benchmark: there and back in 50 ms, 20 Mbit/s.
const (
	lineDelay = 25 * time.Millisecond
	lineWidth = 20_000_000 / 8
)

// BenchmarkOverALine does on a real site, over a line, what is done beside it on the same machine.
func BenchmarkOverALine(b *testing.B) {
	b.Run("3,000 files of 65 MB", func(b *testing.B) { overALine(b, 0, 0) })
	b.Run("8,000 files of 1 GiB", func(b *testing.B) { overALine(b, 5100, 188<<10) })
}

// overALine also puts so many files of such a size among the site's uploads.
func overALine(b *testing.B, uploads, size int) {
	account := testenv.OwnSSHAccount(b)
	line := testenv.StartLine(b, account.Address(), lineDelay, lineWidth)
	site := testenv.WordPress(b)
	putUploads(b, filepath.Join(site.Root, "wp-content/uploads"), uploads, size)
	near, far := b.TempDir(), b.TempDir()
	run := func(workspace string, code int, args ...string) time.Duration {
		b.Helper()
		command := exec.Command(program, args...)
		command.Env = append(os.Environ(), "HOME="+account.Home)
		start := time.Now()
		finish(b, command, workspace).want(b, code)
		return time.Since(start)
	}
	run(near, 0, "adopt", site.Root, "--address", site.Address, "--no-browser")
	run(far, 0, "adopt", account.By(line.Address, site.Root), "--address", site.Address, "--no-browser", "--put-helper")
	good := themePackage(b, site, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
	for b.Loop() {
		before := line.Received.Load()
		first := run(far, 0, "snapshot")
		needs := time.Duration(float64(line.Received.Load()-before) / lineWidth * float64(time.Second))
		run(near, 0, "snapshot")
		again, againNear := run(far, 0, "snapshot"), run(near, 0, "snapshot")
		updated, updatedNear := time.Hour, time.Hour // the best of some, for the site answers now faster, now slower
		for range 3 {
			updated = min(updated, run(far, 0, "update", good))
			run(far, 0, "restore", "snap-1", "--yes")
			updatedNear = min(updatedNear, run(near, 0, "update", good))
			run(near, 0, "restore", "snap-1", "--yes")
		}
		rehearsed, rehearsedNear := run(far, 0, "rehearse", good), run(near, 0, "rehearse", good)
		info, err := os.Stat(good)
		if err != nil {
			b.Fatal(err)
		}
		trips := (updated - updatedNear - time.Duration(float64(info.Size())/lineWidth*float64(time.Second))) / (2 * lineDelay)
		b.ReportMetric(first.Seconds()/needs.Seconds(), "first/bytes")
		b.ReportMetric((again - againNear).Seconds(), "s-unchanged-beyond-local")
		b.ReportMetric(float64(trips), "trips-of-an-update")
		b.Logf("first %s (the bytes need %s), unchanged %s (here %s), update %s (here %s), rehearsal %s (here %s)", first, needs, again, againNear, updated, updatedNear, rehearsed, rehearsedNear)
	}
}

// BenchmarkFilesOverALine does the same by SFTP alone, and holds it against what cannot be spared: the bytes, and
// four ways there and back for each file, 32 of them at the same time; for files that are as before, four for each
// folder, 16 at the same time, and two seconds. It also tells for how long a folder that is replaced is not there
// for whoever is on the site's machine.
func BenchmarkFilesOverALine(b *testing.B) {
	account := testenv.StartFilesAccount(b)
	line := testenv.StartLine(b, account.Address(), lineDelay, lineWidth)
	site := testenv.WordPress(b)
	reachBySSH(b, account)
	care := b.TempDir()
	run := func(args ...string) time.Duration {
		b.Helper()
		start := time.Now()
		wetland(b, care, args...).want(b, 0)
		return time.Since(start)
	}
	run("adopt", account.By(line.Address, site.Root), "--address", site.Address, "--no-browser")
	var files, folders int
	var size int64
	must(b, filepath.WalkDir(site.Root, func(_ string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			folders++
			return err
		}
		info, err := entry.Info()
		files, size = files+1, size+info.Size()
		return err
	}))
	trip := 2 * lineDelay.Seconds()
	good := themePackage(b, site, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
	for b.Loop() {
		first, again := run("snapshot"), run("snapshot")
		b.ReportMetric(first.Seconds()/(1.15*float64(size)/lineWidth+4*trip*float64(files)/32), "first/bound")
		b.ReportMetric(again.Seconds()/(4*trip*float64(folders)/16+2), "unchanged/bound")
		absent := watchAbsence(b, filepath.Join(site.Root, "wp-content/themes/twentytwentyone"))
		updated := run("update", good)
		b.ReportMetric(float64(absent().Microseconds())/1000, "ms-absent")
		b.Logf("%d files of %d MB in %d folders: first %s, unchanged %s, update %s", files, size>>20, folders, first, again, updated)
		run("restore", "snap-1", "--yes")
	}
}

// watchAbsence looks at a folder all the time, until its result is called: the longest time that it was not there.
func watchAbsence(b *testing.B, folder string) (longest func() time.Duration) {
	stop, most := make(chan struct{}), make(chan time.Duration)
	go func() {
		var longest time.Duration
		last := time.Now()
		for {
			select {
			case <-stop:
				most <- longest
				return
			default:
			}
			if _, err := os.Lstat(folder); err == nil {
				last = time.Now()
			} else {
				longest = max(longest, time.Since(last))
			}
		}
	}()
	return func() time.Duration {
		close(stop)
		return <-most
	}
}

// putUploads puts files there of which half is as hard to pack as pictures are.
func putUploads(b *testing.B, folder string, count, size int) {
	random := rand.NewChaCha8([32]byte{1})
	data := make([]byte, size)
	for i := range count {
		at := filepath.Join(folder, fmt.Sprintf("2024/%02d/upload-%d.jpg", i%12+1, i))
		_, _ = random.Read(data[:size/2])
		copy(data[size/2:], bytes.Repeat([]byte(fmt.Sprintf("high water %d ", i)), size/16))
		if err := errors.Join(os.MkdirAll(filepath.Dir(at), 0o755), os.WriteFile(at, data, 0o644)); err != nil {
			b.Fatal(err)
		}
	}
}
