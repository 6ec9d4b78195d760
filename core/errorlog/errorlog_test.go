package errorlog

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"wetland/core/files/filestest"
)

func TestErrorLog(t *testing.T) {
	name := filepath.Join(t.TempDir(), "php.log")
	write := func(flags int, text string) {
		file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|flags, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := file.WriteString(text); err != nil {
			t.Fatal(err)
		}
		if err := file.Close(); err != nil {
			t.Fatal(err)
		}
	}
	const (
		old     = "[23-Nov-2026 01:00:00 UTC] PHP Fatal error:  Uncaught Error: old in /srv/a.php:3\n"
		fatal   = "[23-Nov-2026 02:00:00 UTC] PHP Fatal error:  Uncaught Error: Call to undefined function tide() in /srv/b.php:7\nStack trace:\n#0 {main}\n"
		fpm     = "[23-Nov-2026 02:00:01] NOTICE: PHP message: PHP Parse error:  syntax error in /srv/c.php on line 2\n"
		warning = "[23-Nov-2026 02:00:00 UTC] PHP Warning:  Undefined variable $x in /srv/b.php on line 9\n"
	)
	later, err := Mark(t.Context(), filestest.Whole(t), filepath.ToSlash(name))
	if err != nil {
		t.Fatal(err)
	}
	if later.There(t.Context()) {
		t.Error("a log that is not there counts as one")
	}
	write(os.O_APPEND, old)
	if fresh, known, err := later.Since(t.Context()); err != nil || len(fresh) != 1 || len(known) != 0 {
		t.Errorf("a log that came later: %q %q %v", fresh, known, err)
	}
	log, err := Mark(t.Context(), filestest.Whole(t), filepath.ToSlash(name))
	if err != nil {
		t.Fatal(err)
	}
	if fresh, known, err := log.Since(t.Context()); err != nil || len(fresh)+len(known) != 0 {
		t.Errorf("nothing was logged: %q %q %v", fresh, known, err)
	}
	write(os.O_APPEND, fatal+warning+old+fatal+fpm)
	fresh, known, err := log.Since(t.Context())
	want := []string{"PHP Fatal error: Uncaught Error: Call to undefined function tide() in /srv/b.php:7", "PHP Parse error: syntax error in /srv/c.php on line 2"}
	if err != nil || !slices.Equal(fresh, want) || len(known) != 1 {
		t.Errorf("%q %q %v", fresh, known, err)
	}
	write(os.O_TRUNC, fpm)
	if fresh, _, err := log.Since(t.Context()); err != nil || len(fresh) != 1 {
		t.Errorf("a log begun anew: %q %v", fresh, err)
	}
	if _, err := Mark(t.Context(), filestest.Whole(t), filepath.ToSlash(filepath.Join(name, "below"))); err == nil {
		t.Error("a log that cannot be read is taken for none")
	}
}
