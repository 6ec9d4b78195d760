package site

import (
	"testing"

	"github.com/pelletier/go-toml/v2"
)

// Whatever a value holds, it is read back as it was, and nothing beside it.
func TestQuotedValueIsReadBack(t *testing.T) {
	for _, value := range []string{"", `C:\sites\new`, `say "hello"`, "two\nlines\r\n", "bell \a, escape \x1b[31m, delete \x7f", "a\"\n[hooks]\nbefore = [\"x\"]", "\u202eturned", "\u2028line", "Fähre 渡し船 ⛴"} {
		var read map[string]any
		if err := toml.Unmarshal([]byte("# "+Comment(value)+"\nvalue = "+Quote(value)), &read); err != nil {
			t.Errorf("%q: %v", value, err)
		} else if len(read) != 1 || read["value"] != value {
			t.Errorf("%q was read as %q", value, read)
		}
	}
}
