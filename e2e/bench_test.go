package e2e

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
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
	peak := func(name string, args ...string) { measured(b, f.care, name, args...) }
	for b.Loop() {
		peak("MB-snapshot", "snapshot")
		peak("MB-again", "snapshot")
		peak("MB-verify", "verify", "snap-1")
		must(b, os.Remove(filepath.Join(f.root, "uploads/huge.bin")))
		peak("MB-restore", "restore", "snap-1", "--yes")
	}
}

// timed runs the program, which must end well, and returns how long that took.
func timed(b *testing.B, workspace string, args ...string) (time.Duration, *os.ProcessState) {
	b.Helper()
	command := exec.Command(program, args...)
	command.Dir = workspace
	start := time.Now()
	if out, err := command.CombinedOutput(); err != nil {
		b.Fatalf("%v: %v\n%s", args, err, out)
	}
	return time.Since(start), command.ProcessState
}

// measured runs the program, reports its peak memory in MB, and returns how long it took.
func measured(b *testing.B, workspace, name string, args ...string) time.Duration {
	b.Helper()
	took, ended := timed(b, workspace, args...)
	b.ReportMetric(float64(ended.SysUsage().(*syscall.Rusage).Maxrss)/1000, name)
	return took
}

// BenchmarkUpdate compares the whole update of one theme of the real CMS, settling aside,
// with the sum of its parts: a snapshot, the baseline, and one smoke test.
func BenchmarkUpdate(b *testing.B) {
	site := testenv.WordPress(b)
	workspace := b.TempDir()
	took := func(args ...string) time.Duration {
		one, _ := timed(b, workspace, args...)
		return one
	}
	wetland(b, workspace, "adopt", site.Root, "--address", site.Address, "--no-browser").want(b, 0)
	theme := themePackage(b, site, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
	const settling = 3500*time.Millisecond + time.Second // the second look is a second later
	var whole, parts time.Duration
	for b.Loop() {
		took("snapshot") // the first one reads everything
		parts += took("snapshot") + took("smoke", "--learn") + took("smoke")
		whole += took("update", theme) - settling
		took("restore", "twentytwentyone@1.7")
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

// BenchmarkTable restores one large table of which all rows were removed, changed, or are new,
// and compares the whole command with the server's own client loading its own dump. Peak memory
// is reported in MB.
func BenchmarkTable(b *testing.B) {
	for _, rows := range []int{1_000_000, 10_000_000} {
		b.Run(fmt.Sprint(rows), func(b *testing.B) { benchTable(b, rows) })
	}
}

func benchTable(b *testing.B, rows int) {
	site := testenv.WordPress(b)
	workspace := b.TempDir()
	wetland(b, workspace, "adopt", site.Root, "--address", site.Address, "--no-browser").want(b, 0)
	execute := func(statement string) {
		b.Helper()
		if _, err := site.Account.Root.Exec(statement); err != nil {
			b.Fatal(err)
		}
	}
	execute("CREATE TABLE of_sailings (id BIGINT PRIMARY KEY AUTO_INCREMENT, at DATETIME NOT NULL, boat VARCHAR(40) NOT NULL, berth INT, note TEXT, KEY (at), KEY (boat)) ENGINE=InnoDB")
	fill := func(from int) {
		execute(fmt.Sprintf("INSERT INTO of_sailings (id, at, boat, berth, note) SELECT seq, '2026-01-01' + INTERVAL seq SECOND, ELT(1 + seq %% 5, 'Otter', 'Heron', 'Moorhen', 'Bittern', 'Teal'), seq %% 97, CONCAT('crossing ', MD5(seq)) FROM seq_%d_to_%d", from, from+rows-1))
	}
	for b.Loop() {
		execute("TRUNCATE of_sailings")
		fill(1)
		measured(b, workspace, "MB-snapshot", "snapshot")
		client := loadedByClient(b, site, workspace)
		for _, change := range []struct {
			name string
			make func()
		}{
			{"removed", func() { execute("TRUNCATE of_sailings") }},
			{"changed", func() { execute("UPDATE of_sailings SET berth = berth + 1") }},
			{"added", func() { fill(rows + 1) }},
		} {
			change.make()
			took := measured(b, workspace, "MB-"+change.name, "restore", "snap-1", "--only", "of_sailings", "--yes")
			b.ReportMetric(float64(took)/float64(client), change.name+"/client")
		}
	}
}

// loadedByClient is how long the server's own client takes to load the newest snapshot's
// tables, as they are exported, into another database.
func loadedByClient(b *testing.B, site *testenv.Site, workspace string) time.Duration {
	b.Helper()
	out := filepath.Join(b.TempDir(), "exported")
	wetland(b, workspace, "export", "snap-1", out).want(b, 0)
	if _, err := site.Account.Root.Exec("DROP DATABASE IF EXISTS of_client; CREATE DATABASE of_client"); err != nil {
		b.Fatal(err)
	}
	dump, err := os.Open(filepath.Join(out, "database.sql"))
	must(b, err)
	defer dump.Close()
	load := site.Client("--max-allowed-packet=1G", "of_client")
	load.Stdin = dump
	start := time.Now()
	if out, err := load.CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	took := time.Since(start)
	_, err = site.Account.Root.Exec("DROP DATABASE of_client")
	must(b, err, os.RemoveAll(out))
	return took
}

// BenchmarkExposure tells for how long visitors can meet a theme that dies, on nginx and
// php-fpm: from the swap until the version before is back on disk. What more there is without a
// pool that can be asked is PHP's own, and the same in every run.
func BenchmarkExposure(b *testing.B) {
	for _, bad := range []struct {
		name    string
		changes map[string]string
	}{
		{"every page", map[string]string{"header.php": "<?php tideline_show_notice();\n"}},
		{"one template", map[string]string{"single.php": brokenSingle}},
	} {
		for _, pool := range []bool{true, false} {
			b.Run(fmt.Sprintf("%s, pool asked %v", bad.name, pool), func(b *testing.B) { benchExposure(b, bad.changes, pool) })
		}
	}
}

func benchExposure(b *testing.B, changes map[string]string, pool bool) {
	site := testenv.NginxWordPress(b)
	workspace := b.TempDir()
	wetland(b, workspace, "adopt", site.Root, "--address", site.Address).want(b, 0)
	askPool(b, workspace, site, pool)
	theme := themePackage(b, site, "1.8", changes)
	var exposed, lingered, round float64
	for b.Loop() {
		start := time.Now()
		wetland(b, workspace, "smoke", "--json").want(b, 0)
		round += time.Since(start).Seconds()
		result := wetland(b, workspace, "update", theme, "--json")
		result.want(b, 3)
		var run struct {
			Exposed  float64 `json:"exposed_ns"`
			Lingered float64 `json:"lingered_ns"`
		}
		must(b, json.Unmarshal([]byte(result.stdout), &run))
		if run.Exposed == 0 {
			b.Fatalf("no exposure in %s", result.stdout)
		}
		exposed, lingered = exposed+run.Exposed/1e9, lingered+run.Lingered/1e9
	}
	b.ReportMetric(exposed/float64(b.N), "s-exposed")
	b.ReportMetric(lingered/float64(b.N), "s-lingered")
	b.ReportMetric(round/float64(b.N), "s-smoke-with-browser")
}

// BenchmarkKeptUpdate compares a kept update of 16 pages, six of them seen by the browser, with
// what it cannot do without: settling, two looks with the browser and three rounds of fetching.
// It reports the time of adopting, too.
func BenchmarkKeptUpdate(b *testing.B) {
	site := testenv.NginxWordPress(b)
	workspace := b.TempDir()
	took := func(args ...string) float64 {
		one, _ := timed(b, workspace, args...)
		return one.Seconds()
	}
	adopting := took("adopt", site.Root, "--address", site.Address)
	const settling = 3.5 + 1 // the second look is a second later
	theme := themePackage(b, site, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
	config := filepath.Join(workspace, "wetland.toml")
	addPages(b, config, 16)
	var whole, parts float64
	for b.Loop() {
		text, err := os.ReadFile(config)
		must(b, err, os.WriteFile(config, []byte(strings.Replace(string(text), "[smoke]\n", "[smoke]\nbrowser = \"none\"\n", 1)), 0o600))
		fetching := took("smoke")
		must(b, os.WriteFile(config, text, 0o600))
		looking := took("smoke", "--learn")/2 - fetching
		parts += settling + 2*looking + 3*fetching
		whole += took("update", theme)
		took("update", "twentytwentyone@1.7", "--allow-older")
	}
	b.ReportMetric(whole/parts, "update/parts")
	b.ReportMetric(whole/float64(b.N), "s-update")
	b.ReportMetric(adopting, "s-adopt")
}

// addPages adds searches to the pages that are tested, until there are so many.
func addPages(b *testing.B, config string, total int) {
	text, err := os.ReadFile(config)
	must(b, err)
	for n := strings.Count(string(text), "[[pages]]"); n < total; n++ {
		text = fmt.Appendf(text, "\n[[pages]]\npath = \"/?s=hello&number=%d\"\n", n)
	}
	must(b, os.WriteFile(config, text, 0o600))
}
