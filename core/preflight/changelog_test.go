package preflight

import (
	"testing"
)

func TestChangeLogBetweenVersions(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"headings", "# Changes\n\n## 2.1.0\n- new\n\n## 2.0.0\n- big\n\n## 1.9\n- old\n", "## 2.1.0\n- new\n\n## 2.0.0\n- big"},
		{"readme of WordPress", "=== Quay ===\nStable tag: 2.1\n\n== Changelog ==\n\n= 2.1 =\n* new\n\n= 1.9 =\n* old\n\n== Upgrade Notice ==\nhello\n", "= 2.1 =\n* new"},
		{"dates", "Version 2.1 - 2026-05-01\n  - new\nVersion 1.9 - 2026-01-01\n  - old\n", "Version 2.1 - 2026-05-01\n  - new"},
		{"brackets of time", "v2.0.5 (May 2026)\nnew\nv1.9.0 (March)\nold", "v2.0.5 (May 2026)\nnew"},
		{"newer than the package", "## 3.0\n- not yet\n## 2.1\n- new\n## 1.9\n", "## 2.1\n- new"},
		{"none", "just words about 2.1 and other things", ""},
	} {
		if got := logBetween(c.text, "1.9", "2.1"); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}
