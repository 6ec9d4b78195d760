package workspace

import (
	"strings"
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

func FuzzQuote(f *testing.F) {
	for _, value := range []string{"", "two\nlines", "a\"\n[hooks]\nbefore = \"x\"", "\xff\x00\u2028", "'''\"\"\"\\"} {
		f.Add(value)
	}
	f.Fuzz(func(t *testing.T, value string) {
		var read struct {
			Value string
			Next  int
			Hooks map[string]any
		}
		text := "# " + Comment(value) + "\nvalue = " + Quote(value) + " # " + Comment(value) + "\nnext = 1"
		if err := toml.Unmarshal([]byte(text), &read); err != nil {
			t.Fatalf("%q: %v", text, err)
		}
		if read.Value != strings.ToValidUTF8(value, "\ufffd") && read.Value != string([]rune(value)) || read.Next != 1 || read.Hooks != nil {
			t.Errorf("%q was read as %+v", value, read)
		}
	})
}
