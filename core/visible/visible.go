// Package visible makes texts of others fit to be shown: what a site, a package, a server or a
// file's name says must not move a cursor, begin a line of its own, turn the direction of what
// follows, or become a part of the document that it stands in.
package visible

import (
	"fmt"
	"strings"
	"unicode"
)

// Disturbs tells of characters that do something instead of being read: control characters (C0
// and C1), those that turn the direction of what follows, and those that end a line or paragraph.
func Disturbs(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029'
}

// Line makes a text one line: characters that disturb are written by their numbers, and bytes
// that are no text as the sign that stands for such.
func Line(text string) string { return escape(text, func(rune) bool { return false }) }

// Lines is Line for a text of several lines: ends of lines and tabs stay.
func Lines(text string) string {
	return escape(text, func(r rune) bool { return r == '\n' || r == '\t' })
}

func escape(text string, stays func(rune) bool) string {
	if !strings.ContainsFunc(text, Disturbs) {
		return strings.ToValidUTF8(text, "\ufffd")
	}
	var b strings.Builder
	for _, r := range text {
		if Disturbs(r) && !stays(r) {
			fmt.Fprintf(&b, `\u%04x`, r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Signs that begin or end something in Markdown (CommonMark 0.31, 2.4; tables and strikethrough of
// its common extensions): anywhere, and at the beginning of a line.
const (
	markdownSigns = "\\`*_[]<>&|~"
	lineSigns     = "#-+="
)

// Markdown makes a text one line that stands for itself in a Markdown document: no tag, picture,
// link, heading, list or emphasis comes of it.
func Markdown(text string) string {
	var b strings.Builder
	for i, r := range Line(text) {
		if strings.ContainsRune(markdownSigns, r) || i == 0 && strings.ContainsRune(lineSigns, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Code makes a text one line of code in a Markdown document.
func Code(text string) string {
	text = Line(text)
	fence := "`"
	for strings.Contains(text, fence) {
		fence += "`"
	}
	if strings.HasPrefix(text, "`") || strings.HasSuffix(text, "`") || strings.Trim(text, " ") == "" {
		text = " " + text + " "
	}
	return fence + text + fence
}
