package cms

import (
	"path"
	"strings"
)

// phpConfig is what could be read from a PHP file of settings without running it.
type phpConfig struct {
	constants map[string][]phpValue
	variables map[string][]phpValue
}

// phpValue is one assignment. It is computed when its value cannot be known
// without running PHP.
type phpValue struct {
	text        string
	computed    bool
	conditional bool // inside braces: an if, or a function
}

// constant returns the value of a constant, or why it is not known. PHP keeps the
// first definition of a constant.
func (c phpConfig) constant(name string) (string, string) {
	return settle(name, c.constants[name])
}

// variable returns the value of a variable, named without its dollar sign.
func (c phpConfig) variable(name string) (string, string) {
	values := c.variables[name]
	if n := len(values); n > 0 && !values[n-1].conditional {
		values = values[n-1:] // the last assignment counts
	}
	return settle("$"+name, values)
}

func settle(name string, values []phpValue) (string, string) {
	if len(values) == 0 {
		return "", name + " is not set in wp-config.php itself (perhaps in a file that it includes)"
	}
	if !values[0].conditional {
		values = values[:1]
	}
	for _, value := range values {
		if value.computed {
			return "", name + " is computed in wp-config.php, so that it cannot be read without running PHP"
		}
		if value.text != values[0].text {
			return "", name + " is set in several places of wp-config.php, depending on a condition"
		}
	}
	return values[0].text, ""
}

// readPHPConfig finds define(), const and plain assignments in a PHP file. dir is
// the file's folder and root the folder of WordPress, for __DIR__ and ABSPATH.
// It never fails: what it does not understand is computed or not there.
func readPHPConfig(text, dir, root string) phpConfig {
	p := phpParser{tokens: phpTokens(text), dir: dir, config: phpConfig{constants: map[string][]phpValue{}, variables: map[string][]phpValue{}}}
	p.config.constants["ABSPATH"] = []phpValue{{text: root + "/"}}
	p.parse()
	return p.config
}

type phpParser struct {
	tokens []phpToken
	at     int
	depth  int
	dir    string
	config phpConfig
}

func (p *phpParser) peek(ahead int) phpToken {
	if p.at+ahead < len(p.tokens) {
		return p.tokens[p.at+ahead]
	}
	return phpToken{}
}

func (p *phpParser) parse() {
	for p.at < len(p.tokens) {
		token := p.peek(0)
		switch {
		case token.is(phpMark, "{"):
			p.depth++
		case token.is(phpMark, "}"):
			p.depth = max(0, p.depth-1)
		case token.kind == phpWord && strings.EqualFold(token.text, "define") && p.peek(1).is(phpMark, "(") &&
			p.peek(2).kind == phpString && p.peek(3).is(phpMark, ","):
			name := p.peek(2).text
			p.at += 4
			p.record(p.config.constants, name)
			continue
		case token.kind == phpWord && strings.EqualFold(token.text, "const") && p.peek(1).kind == phpWord && p.peek(2).is(phpMark, "="):
			name := p.peek(1).text
			p.at += 3
			p.record(p.config.constants, name)
			continue
		case token.kind == phpVariable && p.peek(1).is(phpMark, "=") && !p.peek(2).is(phpMark, "="):
			p.at += 2
			p.record(p.config.variables, token.text)
			continue
		}
		p.at++
	}
}

func (p *phpParser) record(where map[string][]phpValue, name string) {
	if name == "ABSPATH" {
		return // the caller knows better
	}
	value := p.expression()
	value.conditional = p.depth > 0
	where[name] = append(where[name], value)
}

// expression evaluates terms joined by dots up to the end of the argument or
// statement. A term it does not know makes the whole computed.
func (p *phpParser) expression() phpValue {
	var value phpValue
	for {
		text, known := p.term()
		value.text += text
		if !known {
			return phpValue{computed: true}
		}
		switch next := p.peek(0); {
		case next.is(phpMark, "."):
			p.at++
		case next.is(phpMark, ")"), next.is(phpMark, ","), next.is(phpMark, ";"):
			return value
		default:
			return phpValue{computed: true}
		}
	}
}

func (p *phpParser) term() (string, bool) {
	token := p.peek(0)
	p.at++
	switch token.kind {
	case phpString, phpNumber:
		return token.text, true
	case phpWord:
	default:
		return "", false
	}
	switch strings.ToLower(token.text) {
	case "true":
		return "1", true
	case "false", "null":
		return "", true
	case "__dir__":
		return p.dir, true
	case "dirname":
		if p.peek(0).is(phpMark, "(") && p.peek(2).is(phpMark, ")") {
			inner := strings.ToLower(p.peek(1).text)
			p.at += 3
			switch inner {
			case "__file__":
				return p.dir, true
			case "__dir__":
				return path.Dir(p.dir), true
			}
		}
		return "", false
	}
	if p.peek(0).is(phpMark, "(") {
		return "", false
	}
	value, why := p.config.constant(token.text)
	return value, why == ""
}

// The kinds of PHP tokens that matter for settings.
type phpKind int

const (
	phpNothing phpKind = iota
	phpWord
	phpVariable
	phpString
	phpNumber
	phpMark
	phpComputed // a string with variables in it, or a heredoc
)

type phpToken struct {
	kind phpKind
	text string
}

func (t phpToken) is(kind phpKind, text string) bool { return t.kind == kind && t.text == text }

// phpTokens cuts a PHP file into tokens, leaving out comments, space and what is
// outside of <?php ... ?>.
func phpTokens(text string) []phpToken {
	var tokens []phpToken
	for {
		start := strings.Index(text, "<?")
		if start < 0 {
			return tokens
		}
		text = strings.TrimPrefix(strings.TrimPrefix(text[start+2:], "php"), "=")
		for text != "" && !strings.HasPrefix(text, "?>") {
			token, n := nextPHPToken(text)
			if token.kind != phpNothing {
				tokens = append(tokens, token)
			}
			text = text[n:]
		}
	}
}

func nextPHPToken(text string) (phpToken, int) {
	c := text[0]
	switch {
	case strings.HasPrefix(text, "/*"):
		if end := strings.Index(text[2:], "*/"); end >= 0 {
			return phpToken{}, end + 4
		}
		return phpToken{}, len(text)
	case strings.HasPrefix(text, "//"), c == '#' && !strings.HasPrefix(text, "#["):
		return phpToken{}, lineComment(text)
	case strings.HasPrefix(text, "<<<"):
		return heredoc(text)
	case c == '\'':
		return singleQuoted(text)
	case c == '"':
		return doubleQuoted(text)
	case c == '$' && len(text) > 1 && isWordByte(text[1]):
		n := 1 + wordLength(text[1:])
		return phpToken{phpVariable, text[1:n]}, n
	case c >= '0' && c <= '9':
		n := wordLength(text)
		return phpToken{phpNumber, text[:n]}, n
	case isWordByte(c) || c == '\\':
		n := wordLength(text[1:]) + 1
		return phpToken{phpWord, strings.TrimPrefix(text[:n], `\`)}, n
	case c == ' ' || c == '\t' || c == '\n' || c == '\r':
		return phpToken{}, 1
	}
	return phpToken{phpMark, text[:1]}, 1
}

// lineComment ends with the line or the end of the PHP code, whichever is first.
func lineComment(text string) int {
	end := strings.IndexAny(text, "\r\n")
	if end < 0 {
		end = len(text)
	}
	if close := strings.Index(text[:end], "?>"); close >= 0 {
		end = close
	}
	return end
}

func isWordByte(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

func wordLength(text string) int {
	n := 0
	for n < len(text) && isWordByte(text[n]) {
		n++
	}
	return n
}

func singleQuoted(text string) (phpToken, int) {
	var value strings.Builder
	for i := 1; i < len(text); i++ {
		switch {
		case text[i] == '\'':
			return phpToken{phpString, value.String()}, i + 1
		case text[i] == '\\' && i+1 < len(text) && (text[i+1] == '\'' || text[i+1] == '\\'):
			i++
		}
		value.WriteByte(text[i])
	}
	return phpToken{phpComputed, ""}, len(text)
}

// doubleQuoted understands the plain escapes; anything PHP would look into makes
// the value computed.
func doubleQuoted(text string) (phpToken, int) {
	escapes := map[byte]byte{'n': '\n', 't': '\t', 'r': '\r', '"': '"', '\\': '\\', '$': '$', 'e': 27, 'f': '\f', 'v': '\v'}
	kind := phpString
	var value strings.Builder
	for i := 1; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '"':
			return phpToken{kind, value.String()}, i + 1
		case c == '\\' && i+1 < len(text):
			next := text[i+1]
			if plain, ok := escapes[next]; ok {
				value.WriteByte(plain)
				i++
				continue
			}
			if next >= '0' && next <= '7' || next == 'x' || next == 'u' {
				kind = phpComputed
			}
		case c == '$' && i+1 < len(text) && (isWordByte(text[i+1]) || text[i+1] == '{'), c == '{' && i+1 < len(text) && text[i+1] == '$':
			kind = phpComputed
		}
		value.WriteByte(c)
	}
	return phpToken{phpComputed, ""}, len(text)
}

// heredoc passes over <<<NAME ... NAME.
func heredoc(text string) (phpToken, int) {
	head := strings.TrimLeft(text[3:], " \t")
	name := head[:0]
	if head = strings.TrimLeft(head, `'"`); head != "" {
		name = head[:wordLength(head)]
	}
	offset := 0
	for line := range strings.SplitAfterSeq(text, "\n") {
		start := strings.TrimLeft(line, " \t")
		if offset > 0 && name != "" && strings.HasPrefix(start, name) && (len(start) == len(name) || !isWordByte(start[len(name)])) {
			return phpToken{phpComputed, ""}, offset + len(line) - len(start) + len(name)
		}
		offset += len(line)
	}
	return phpToken{phpComputed, ""}, len(text)
}
