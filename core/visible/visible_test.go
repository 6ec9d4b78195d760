package visible

import (
	"strings"
	"testing"
	"unicode/utf8"
)

func TestLine(t *testing.T) {
	for text, want := range map[string]string{
		"Otterby Ferry":         "Otterby Ferry",
		"Zürich ⛴ 渡船":           "Zürich ⛴ 渡船",
		"a\nb\tc":               `a\u000ab\u0009c`,
		"\x1b]52;c;eA==\x07":    `\u001b]52;c;eA==\u0007`,
		"a\u202egnp.exe\u0085":  `a\u202egnp.exe\u0085`,
		"cut \xff\xfe off":      "cut \ufffd off",
		"line\u2028 and \u2029": `line\u2028 and \u2029`,
	} {
		if got := Line(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
	if got := Lines("a\nb\tc\r"); got != "a\nb\tc"+`\u000d` {
		t.Errorf("%q", got)
	}
}

func TestMarkdown(t *testing.T) {
	for text, want := range map[string]string{
		"Kept.":                        "Kept.",
		"![x](http://rogue.example/)":  `!\[x\](http://rogue.example/)`,
		"<img src=x> & <script>":       `\<img src=x\> \& \<script\>`,
		"# a heading":                  `\# a heading`,
		"a # b - c":                    "a # b - c",
		"- a list\n- and more":         `\- a list` + `\\u000a- and more`,
		"`code` **bold** _so_ a|b ~~c": "\\`code\\` \\*\\*bold\\*\\* \\_so\\_ a\\|b \\~\\~c",
	} {
		if got := Markdown(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
	for text, want := range map[string]string{"/fares": "`/fares`", "a`b": "``a`b``", "`": "`` ` ``", "": "`  `"} {
		if got := Code(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

// Whatever a text holds, it stays one line of text on which nothing disturbs, in a document as on
// a screen.
func FuzzVisible(f *testing.F) {
	for _, text := range []string{"", "a\nb", "\x1b[2J", "\u202e", "`a``b`", "\xff", "<b>", "![](x)", "\\<b>"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for what, got := range map[string]string{"line": Line(text), "markdown": Markdown(text), "code": Code(text)} {
			if !utf8.ValidString(got) || strings.ContainsFunc(got, Disturbs) {
				t.Errorf("%s of %q: %q", what, text, got)
			}
		}
		bare := strings.NewReplacer(`\\`, "", `\<`, "", `\>`, "", `\[`, "", `\]`, "", "\\`", "", `\*`, "").Replace(Markdown(text))
		if strings.ContainsAny(bare, "<>[]`*") {
			t.Errorf("%q leaves %q", text, bare)
		}
		code := Code(text)
		fence := code[:len(code)-len(strings.TrimLeft(code, "`"))]
		if inner := code[len(fence) : len(code)-len(fence)]; strings.Contains(inner, fence) {
			t.Errorf("%q ends early: %q", text, code)
		}
	})
}
