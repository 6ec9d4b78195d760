package database

import (
	"bytes"
	"fmt"
	"math/big"
	"strconv"
	"strings"
)

// MySQL prints a JSON value as text and reads it back from text; but of its numbers the exact
// ones (DECIMAL), which a function put there, are read back as floating-point ones: 2.50 would
// come back as 2.5. They are put into their places as numbers of SQL (The JSON Data Type, in
// MySQL's manual: "Conversion between JSON and Non-JSON Values"). What is a date or bytes
// inside of a JSON value comes back as the text that the server prints.

// appendJSON writes a JSON value so that its numbers arrive as they were.
func appendJSON(to, text []byte) []byte {
	exact := exactNumbers(text)
	if len(exact) > 0 {
		to = append(to, "JSON_REPLACE("...)
	}
	to = append(to, "CAST('"...)
	to = append(appendEscaped(to, text, &textEscapes), "' AS JSON)"...)
	for _, number := range exact {
		to = append(to, ",'"...)
		to = append(appendEscaped(to, []byte(number.path), &textEscapes), "',"...)
		to = append(to, number.text...)
	}
	if len(exact) > 0 {
		to = append(to, ')')
	}
	return to
}

// exactNumber is a number that only an exact one is printed like, and where it stands.
type exactNumber struct{ path, text string }

// exactNumbers finds the numbers in a JSON text, as MySQL prints it, that no integer or
// floating-point number is printed like.
func exactNumbers(text []byte) []exactNumber {
	if !mayHoldExact(text) {
		return nil
	}
	s := jsonScan{text: text}
	s.value("$", 0)
	return s.found
}

// mayHoldExact tells quickly of most texts that there is nothing to look for: all exact
// numbers have a point, or 19 digits.
func mayHoldExact(text []byte) bool {
	if bytes.IndexByte(text, '.') >= 0 {
		return true
	}
	digits := 0
	for _, c := range text {
		if c < '0' || c > '9' {
			digits = 0
		} else if digits++; digits >= 19 {
			return true
		}
	}
	return false
}

// isExact tells of a number's text whether it stands for a DECIMAL. Floating-point numbers are
// printed with as few digits as tell them apart, and with ".0" if they are whole.
func isExact(text string) bool {
	if strings.ContainsAny(text, "eE") {
		return false
	}
	whole, fraction, point := strings.Cut(text, ".")
	if !point {
		n, ok := new(big.Int).SetString(whole, 10)
		return ok && !n.IsInt64() && !n.IsUint64()
	}
	number, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return true
	}
	shortest := strconv.FormatFloat(number, 'f', -1, 64)
	if fraction == "0" {
		return shortest != whole && shortest+".0" != text
	}
	return shortest != text
}

// jsonScan goes through one JSON text that the server printed, which is well-formed.
type jsonScan struct {
	text  []byte
	at    int
	found []exactNumber
}

func (s *jsonScan) peek() byte {
	for s.at < len(s.text) && s.text[s.at] == ' ' {
		s.at++
	}
	if s.at == len(s.text) {
		return 0
	}
	return s.text[s.at]
}

// deepest is more than MySQL takes: JSON_DOCUMENT_MAX_DEPTH is 100.
const deepest = 200

func (s *jsonScan) value(path string, depth int) {
	switch c := s.peek(); c {
	case '{', '[':
		if depth == deepest {
			s.at = len(s.text)
			return
		}
		s.members(path, c, depth+1)
	case '"':
		s.string()
	default:
		begin := s.at
		for s.at < len(s.text) && !strings.ContainsRune(",]} ", rune(s.text[s.at])) {
			s.at++
		}
		if word := string(s.text[begin:s.at]); c == '-' || (c >= '0' && c <= '9') {
			if isNumeral([]byte(word)) && isExact(word) {
				s.found = append(s.found, exactNumber{path, word})
			}
		}
	}
}

// members goes through an object or an array.
func (s *jsonScan) members(path string, opened byte, depth int) {
	s.at++
	for n := 0; ; n++ {
		switch s.peek() {
		case 0:
			return
		case '}', ']':
			s.at++
			return
		case ',':
			s.at++
			n--
			continue
		}
		if opened == '[' {
			s.value(fmt.Sprintf("%s[%d]", path, n), depth)
			continue
		}
		name := s.string()
		if s.peek() == ':' {
			s.at++
		}
		s.value(path+"."+name, depth)
	}
}

// string returns a string as it is written, quotes and all: so it stands in a path, too.
func (s *jsonScan) string() string {
	begin := s.at
	for s.at++; s.at < len(s.text) && s.text[s.at] != '"'; s.at++ {
		if s.text[s.at] == '\\' {
			s.at++
		}
	}
	s.at = min(s.at+1, len(s.text))
	return string(s.text[begin:s.at])
}
