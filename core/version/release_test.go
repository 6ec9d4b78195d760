package version

import "testing"

func TestSameRelease(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"8.2.29", "8.2.36", true}, {"8.2.36", "8.2.29-1~deb12u1", true}, {"8.2.1", "8.4.1", false}, {"8.4.1", "8.2.1", false},
		{"10.11.19", "10.11.6", true}, {"10.11.19", "11.8.9", false}, {"", "8.2.1", false}, {"8.2.1", "", false}, {"8.2.1", "8.2.1", true},
	} {
		if got := SameRelease(c.a, c.b); got != c.want {
			t.Errorf("%s and %s: %v", c.a, c.b, got)
		}
	}
}
