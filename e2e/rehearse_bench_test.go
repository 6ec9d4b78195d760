package e2e

import (
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"testing"
	"time"

	"wetland/internal/testenv"
)

var upAfter = regexp.MustCompile(`up\s+on\s+this\s+machine\s+after\s+(less than a second|[0-9.hms]+)`)

// broughtUp rehearses a package, and returns after how long the copy was up.
func broughtUp(b *testing.B, workspace, pkg string) time.Duration {
	b.Helper()
	said := wetland(b, workspace, "rehearse", pkg)
	found := upAfter.FindStringSubmatch(said.stdout)
	if found == nil {
		b.Fatalf("no copy was made: %s", said)
	}
	if found[1] == "less than a second" {
		return time.Second
	}
	took, err := time.ParseDuration(found[1])
	must(b, err)
	return took
}

// BenchmarkRehearsal reports how long a copy of the real CMS takes until its pages can be asked for, in
// seconds; how much longer an update is that is rehearsed first; and for 1 GiB of uploads and a million rows how a
// copy compares with a plain copy of the files and the client's dump and load.
func BenchmarkRehearsal(b *testing.B) {
	if _, err := exec.LookPath("mariadb-dump"); err != nil {
		testenv.Missing(b, "mariadb-dump")
	}
	site := testenv.WordPress(b)
	workspace := b.TempDir()
	wetland(b, workspace, "adopt", site.Root, "--address", site.Address, "--no-browser").want(b, 0)
	theme := func(version string) string {
		return themePackage(b, site, version, map[string]string{"assets/css/new.css": "p { margin: 0 }\n"})
	}
	one := theme("1.8")
	for b.Loop() {
		b.ReportMetric(broughtUp(b, workspace, one).Seconds(), "s-up")
		var ratios []float64
		for range 3 {
			var took [2]time.Duration
			for i, args := range [][]string{{"update", one}, {"update", one, "--rehearse"}} {
				recordedLongAgo(b, workspace) // as it is for whoever updates once in a while
				took[i], _ = timed(b, workspace, args...)
				wetland(b, workspace, "restore", "twentytwentyone@1.7").want(b, 0)
			}
			ratios = append(ratios, float64(took[1])/float64(took[0]))
		}
		slices.Sort(ratios)
		b.ReportMetric(ratios[1], "rehearsed/update") // the median

		data := make([]byte, 1<<20)
		must(b, os.MkdirAll(filepath.Join(site.Root, "wp-content/uploads/large"), 0o755))
		for i := range 1024 {
			_, _ = rand.Read(data) // never fails, by its contract
			must(b, os.WriteFile(filepath.Join(site.Root, fmt.Sprintf("wp-content/uploads/large/%d.bin", i)), data, 0o644))
		}
		for _, statement := range []string{
			"CREATE TABLE of_sailings (id BIGINT PRIMARY KEY AUTO_INCREMENT, at DATETIME NOT NULL, boat VARCHAR(40) NOT NULL, berth INT, note TEXT, KEY (at), KEY (boat)) ENGINE=InnoDB",
			"INSERT INTO of_sailings (at, boat, berth, note) SELECT '2026-01-01' + INTERVAL seq SECOND, ELT(1 + seq % 5, 'Otter', 'Heron', 'Moorhen', 'Bittern', 'Teal'), seq % 97, CONCAT('crossing ', MD5(seq)) FROM seq_1_to_1000000",
			"CREATE DATABASE " + site.Name + "_plain",
		} {
			site.Run(b, statement)
		}
		wetland(b, workspace, "snapshot").want(b, 0)
		up := broughtUp(b, workspace, one)
		login := "--no-defaults --user=root --socket=" + site.Socket
		start := time.Now()
		script := fmt.Sprintf("set -e -o pipefail; cp -a '%s' '%s/plain' & mariadb-dump %s '%s' | mariadb %s '%s_plain'; wait", site.Root, b.TempDir(), login, site.Name, login, site.Name)
		if out, err := exec.Command("bash", "-c", script).CombinedOutput(); err != nil {
			b.Fatalf("%v\n%s", err, out)
		}
		plainCopy := time.Since(start)
		b.ReportMetric(float64(up)/float64(plainCopy), "copy/plain")
		b.ReportMetric(up.Seconds(), "s-large")
		site.Run(b, "DROP DATABASE "+site.Name+"_plain", "DROP TABLE of_sailings")
	}
}
