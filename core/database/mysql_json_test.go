package database

import (
	"fmt"
	"testing"
)

func TestExactNumbersInJSON(t *testing.T) {
	for text, want := range map[string]string{
		`{"a": 1, "b": [2.5, 1e20, "2.50", {"c": 2.50}]}`: `[{$."b"[3]."c" 2.50}]`,
		`7.00`: `[{$ 7.00}]`, `3.0`: `[]`, `-0.0`: `[]`, `0.00`: `[{$ 0.00}]`, `0.1`: `[]`, `"1.00"`: `[]`, `null`: `[]`, `[]`: `[]`, `{}`: `[]`, ``: `[]`,
		`[18446744073709551615, -9223372036854775808, 18446744073709551616, 123456789012345678901234567890]`: `[{$[2] 18446744073709551616} {$[3] 123456789012345678901234567890}]`,
		`{"": [[], [{}, 1.50]], "x\"y.z": 0.10000000000000000000000001}`:                                     `[{$.""[1][1] 1.50} {$."x\"y.z" 0.10000000000000000000000001}]`,
	} {
		if got := fmt.Sprint(exactNumbers([]byte(text))); got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
}

// Whatever bytes come, the scan ends.
func FuzzExactNumbersInJSON(f *testing.F) {
	for _, text := range []string{`{"a": [2.50, "x", {"b": 1.00}]}`, `[`, `{"a`, `{"a\`, `1.`, `[1.00,,2.00`, `{"a" 1.00}`} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		if found := exactNumbers(text); len(found) > len(text) {
			t.Errorf("%d numbers in %d bytes", len(found), len(text))
		}
	})
}
