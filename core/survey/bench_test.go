package survey

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"wetland/core/adopt"
	"wetland/core/progress"
	"wetland/core/shelf"
	"wetland/core/workspace"
	"wetland/internal/testenv"
)

// BenchmarkSurvey surveys a site of 10,000 files, half of them in a plugin whose
// original is on the shelf, and compares the time with tar reading the site's files.
func BenchmarkSurvey(b *testing.B) {
	w := largeSite(b)
	var ours, theirs time.Duration
	for b.Loop() {
		start := time.Now()
		found, err := Take(context.Background(), w)
		if err != nil {
			b.Fatal(err)
		}
		ours += time.Since(start)
		for _, c := range found.Components {
			if c.Folder == "pier" && (c.Edits == nil || !c.Edits.None()) {
				b.Fatalf("the plugin's edits: %+v", c.Edits)
			}
		}
		start = time.Now()
		if out, err := exec.Command("sh", "-c", `tar -C "$1" -c . | cat >/dev/null`, "sh", w.Config.Site.Root).CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", err, out)
		}
		theirs += time.Since(start)
	}
	b.ReportMetric(float64(ours)/float64(theirs), "x-tar")
}

// largeSite lays out the demo site with 5,000 uploads and a plugin of 5,000 files.
func largeSite(b *testing.B) *workspace.Workspace {
	b.Helper()
	dir := b.TempDir()
	root, care := filepath.Join(dir, "site"), filepath.Join(dir, "care")
	address := testenv.Ferry(b, root, filepath.Join(dir, "packages"))
	archive, err := os.Create(filepath.Join(dir, "pier.zip"))
	if err != nil {
		b.Fatal(err)
	}
	packed := zip.NewWriter(archive)
	write := func(name, text string) {
		for _, file := range []string{filepath.Join(root, "plugins", name), filepath.Join(root, "uploads", name)} {
			if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(text), 0o644)); err != nil {
				b.Fatal(err)
			}
		}
		to, err := packed.Create(name)
		if err != nil {
			b.Fatal(err)
		}
		if _, err := to.Write([]byte(text)); err != nil {
			b.Fatal(err)
		}
	}
	write("pier/plugin.toml", "name = \"Pier\"\nversion = \"1.0\"\n")
	for i := range 5000 {
		write(fmt.Sprintf("pier/%02d/%d.html", i%50, i), fmt.Sprintf("<p>plank %d of the pier</p>%4000d", i, i))
	}
	if err := errors.Join(packed.Close(), archive.Close()); err != nil {
		b.Fatal(err)
	}
	if _, err := adopt.Adopt(b.Context(), adopt.Options{Root: root, Address: address, Workspace: care, NoBrowser: true, Report: progress.Silent{}}); err != nil {
		b.Fatal(err)
	}
	w, err := workspace.Load(care, workspace.OnlyHere)
	if err != nil {
		b.Fatal(err)
	}
	if shelved, err := shelf.Shelve(b.Context(), w, []string{archive.Name()}, shelf.Options{}); err != nil || shelved[0].Problem != "" {
		b.Fatalf("%+v %v", shelved, err)
	}
	return w
}
