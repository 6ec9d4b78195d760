// Package version orders the versions that themes, plugins and their CMS carry,
// the way the people who number them mean it.
package version

import (
	"strings"
	"unicode"
)

// Distance says which part of a version changed between two of them.
type Distance string

// The distances, from nearest to farthest, and the two that are no step forward.
const (
	Same     Distance = "same"
	Patch    Distance = "patch"
	Minor    Distance = "minor"
	Major    Distance = "major"
	Backward Distance = "backward"
	Unclear  Distance = "unclear"
)

// Word says the distance as one reads it beside two versions.
func (d Distance) Word() string {
	switch d {
	case Backward:
		return "older"
	case Same:
		return "the same"
	case Unclear:
		return "how far is unclear"
	}
	return string(d) + " release"
}

// Meaning says in a few words what the distance means for an update.
func (d Distance) Meaning() string {
	switch d {
	case Patch:
		return "a patch release: faults mended"
	case Minor:
		return "a minor release: new features, should be compatible"
	case Major:
		return "a major release: much may be different. Read its change log first"
	case Backward:
		return "an older version"
	case Same:
		return "the same version"
	}
	return "a release of which the numbers do not tell how far it is"
}

// Compare returns -1, 0 or +1 as a is earlier than, the same as, or later than b.
//
// Numeric parts count as numbers and missing ones as zero: 4.10 is later than
// 4.9, and 4.5 is 4.5.0. A suffix of letters that name an unfinished version
// (2.0-beta1, 2.0rc1) is earlier than the version without it; a numeric suffix
// (1.1.7-4) is a later repackaging of the same version; any other word counts as
// later, too. A leading "v" and build data after "+" are passed over.
func Compare(a, b string) int {
	pa, pb := split(a), split(b)
	for i := range max(len(pa), len(pb)) {
		if c := comparePart(partAt(pa, i), partAt(pb, i)); c != 0 {
			return c
		}
	}
	return 0
}

// SameRelease tells of versions that differ in no more than a patch: as programs are numbered, they do the
// same.
func SameRelease(a, b string) bool {
	if Compare(a, b) > 0 {
		a, b = b, a
	}
	far := Between(a, b)
	return far == Same || far == Patch
}

// Between tells how far it is from one version to another. It is Unclear when
// either has no number at all.
func Between(from, to string) Distance {
	if !clear(from) || !clear(to) {
		return Unclear
	}
	switch c := Compare(from, to); {
	case c == 0:
		return Same
	case c > 0:
		return Backward
	}
	pf, pt := split(from), split(to)
	switch {
	case comparePart(partAt(pf, 0), partAt(pt, 0)) != 0:
		return Major
	case comparePart(partAt(pf, 1), partAt(pt, 1)) != 0:
		return Minor
	}
	return Patch
}

func clear(v string) bool { return strings.ContainsFunc(v, unicode.IsDigit) }

// part is one stretch of digits or letters. repack marks digits that follow a
// hyphen: they number repackagings, and do not fill a missing numeric part.
type part struct {
	number string // without leading zeros; "" when it is a word
	word   string
	repack bool
}

// split cuts a version into its parts. The numeric parts always fill four
// places, so that a suffix is compared with a suffix.
func split(v string) []part {
	v = strings.ToLower(strings.TrimSpace(v))
	v, _, _ = strings.Cut(v, "+")
	if len(v) > 1 && v[0] == 'v' && v[1] >= '0' && v[1] <= '9' {
		v = v[1:]
	}
	var numbers, suffix []part
	hyphen := false
	for len(v) > 0 {
		n := run(v, isDigit)
		switch {
		case n > 0:
			p := part{number: trimZeros(v[:n])}
			if len(suffix) > 0 || hyphen {
				p.repack = len(suffix) == 0
				suffix = append(suffix, p)
			} else {
				numbers = append(numbers, p)
			}
			hyphen = false
		default:
			if n = run(v, isLetter); n > 0 {
				suffix = append(suffix, part{word: v[:n]})
				hyphen = false
			} else {
				hyphen = hyphen || v[0] == '-' || v[0] == '_'
				n = 1
			}
		}
		v = v[n:]
	}
	for len(numbers) < 4 {
		numbers = append(numbers, part{number: "0"})
	}
	return append(numbers, suffix...)
}

func partAt(parts []part, i int) part {
	if i < len(parts) {
		return parts[i]
	}
	return part{}
}

// rank orders the kinds of parts: unfinished words, nothing, other words, numbers.
func (p part) rank() int {
	switch {
	case p.number != "" && !p.repack && p.number != "0":
		return 4
	case p.number != "" && p.repack:
		return 3
	case p.number != "":
		return 1 // a plain zero is the same as nothing
	case p.word == "":
		return 1
	}
	switch p.word {
	case "dev", "alpha", "a", "beta", "b", "rc", "pre", "preview", "snapshot":
		return 0
	}
	return 2
}

// unfinished orders the words of unfinished versions among themselves.
var unfinished = map[string]int{"dev": 0, "snapshot": 0, "alpha": 1, "a": 1, "beta": 2, "b": 2, "pre": 3, "preview": 3, "rc": 4}

func comparePart(a, b part) int {
	if ra, rb := a.rank(), b.rank(); ra != rb {
		return sign(ra - rb)
	}
	if a.number != "" && b.number != "" {
		if d := len(a.number) - len(b.number); d != 0 {
			return sign(d)
		}
		return strings.Compare(a.number, b.number)
	}
	if a.rank() == 0 {
		return sign(unfinished[a.word] - unfinished[b.word])
	}
	if a.number != "" || b.number != "" {
		return 0 // nothing and a plain zero
	}
	return strings.Compare(a.word, b.word)
}

func sign(n int) int {
	switch {
	case n < 0:
		return -1
	case n > 0:
		return 1
	}
	return 0
}

func run(s string, is func(byte) bool) int {
	n := 0
	for n < len(s) && is(s[n]) {
		n++
	}
	return n
}

func trimZeros(digits string) string {
	if t := strings.TrimLeft(digits, "0"); t != "" {
		return t
	}
	return "0"
}

func isDigit(c byte) bool  { return c >= '0' && c <= '9' }
func isLetter(c byte) bool { return c >= 'a' && c <= 'z' }
