package cms

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// unserializeStrings reads a PHP-serialised array and returns its texts in
// order: a:1:{i:0;s:9:"a/file.php";}. Other values in it are passed over. An empty
// input is an empty array.
func unserializeStrings(text string) ([]string, error) {
	if text == "" {
		return nil, nil
	}
	r := phpReader{rest: text}
	value, err := r.value(0)
	if err != nil {
		return nil, err
	}
	list, ok := value.([]any)
	if !ok {
		return nil, errors.New("it is no array")
	}
	var found []string
	for i := 1; i < len(list); i += 2 {
		if s, ok := list[i].(string); ok {
			found = append(found, s)
		}
	}
	return found, nil
}

// each visits the keys and values of an array; of anything else there are none.
func each(value any, visit func(key, value any)) {
	list, _ := value.([]any)
	for i := 1; i < len(list); i += 2 {
		visit(list[i-1], list[i])
	}
}

// deepest bounds how far arrays may be nested.
const deepest = 64

// phpScalar is a number or a boolean, in digits.
type phpScalar string

type phpReader struct{ rest string }

// value reads one value. An array comes as a flat list of keys and values.
func (r *phpReader) value(depth int) (any, error) {
	if depth > deepest {
		return nil, errors.New("it is nested too deep")
	}
	if len(r.rest) < 2 {
		return nil, errors.New("it is cut off")
	}
	kind := r.rest[0]
	if kind == 'N' && r.rest[1] == ';' {
		r.rest = r.rest[2:]
		return nil, nil
	}
	if r.rest[1] != ':' {
		return nil, fmt.Errorf("an unknown form %.10q", r.rest)
	}
	r.rest = r.rest[2:]
	switch kind {
	case 'b', 'i', 'd':
		text, err := r.until(";")
		return phpScalar(text), err
	case 's':
		return r.text()
	case 'a':
		return r.array(depth)
	}
	return nil, fmt.Errorf("a value of the type %q, which is not read here", kind)
}

func (r *phpReader) until(end string) (string, error) {
	text, rest, ok := strings.Cut(r.rest, end)
	if !ok {
		return "", errors.New("it is cut off")
	}
	r.rest = rest
	return text, nil
}

func (r *phpReader) length() (int, error) {
	digits, err := r.until(":")
	if err != nil {
		return 0, err
	}
	n, err := strconv.Atoi(digits)
	if err != nil || n < 0 || n > len(r.rest) {
		return 0, fmt.Errorf("a length of %.20q", digits)
	}
	return n, nil
}

func (r *phpReader) text() (string, error) {
	n, err := r.length()
	if err != nil {
		return "", err
	}
	if len(r.rest) < n+3 || r.rest[0] != '"' || r.rest[n+1:n+3] != `";` {
		return "", errors.New("a text that does not end where it says")
	}
	text := r.rest[1 : n+1]
	r.rest = r.rest[n+3:]
	return text, nil
}

func (r *phpReader) array(depth int) ([]any, error) {
	n, err := r.length()
	if err != nil {
		return nil, err
	}
	if !strings.HasPrefix(r.rest, "{") {
		return nil, errors.New("an array without its brace")
	}
	r.rest = r.rest[1:]
	list := []any{}
	for range 2 * n {
		value, err := r.value(depth + 1)
		if err != nil {
			return nil, err
		}
		list = append(list, value)
	}
	if !strings.HasPrefix(r.rest, "}") {
		return nil, errors.New("an array that does not end where it says")
	}
	r.rest = r.rest[1:]
	return list, nil
}
