package database

import (
	"errors"
	"strings"
)

// dialect says how a text of SQL is to be read.
type dialect struct {
	sqlite bool
	// noEscapes says that a backslash in a text is a backslash (NO_BACKSLASH_ESCAPES).
	noEscapes bool
	// ansiQuotes says that double quotes are around names (ANSI_QUOTES).
	ansiQuotes bool
}

// lexeme is the smallest part of a statement that means something.
type lexeme struct {
	kind lexemeKind
	text string // of a name in quotes and of a text: without them, doubled quotes as they stand
	at   int    // in the statement, in bytes
	end  int
}

type lexemeKind byte

const (
	lexWord    lexemeKind = 'w' // a keyword, a bare name or a number
	lexName    lexemeKind = 'n' // in quotes
	lexText    lexemeKind = 't' // in quotes
	lexSign    lexemeKind = 's' // any other single byte
	lexComment lexemeKind = 'c'
	lexOpen    lexemeKind = '(' // begins a comment that some servers carry out: /*! and /*+
	lexClose   lexemeKind = ')' // ends it
)

var (
	errOpenQuote    = errors.New("a quote or a comment in it has no end")
	errZero         = errors.New("it holds a zero byte")
	errVeiled       = errors.New("what it holds in a comment for some servers would read otherwise on others")
	errOnlyMariaDB  = errors.New("it holds a comment for MariaDB alone")
	errOtherComment = errors.New("it holds what one server reads as a comment and another does not")
)

// lex cuts a statement into lexemes, so that every server and client that reads this dialect cuts
// it in the same places; where they would not, it fails.
func lex(text string, d dialect) (all []lexeme, err error) {
	if strings.ContainsRune(text, 0) {
		return nil, errZero
	}
	within := -1 // where the comment ends that some servers carry out
	for at := 0; at < len(text); {
		found, err := next(text, at, d)
		if err != nil {
			return nil, err
		}
		switch {
		case within >= 0 && at == within:
			found, within = lexeme{kind: lexClose, at: at, end: at + 2}, -1
		case within >= 0 && (found.end > within || found.kind == lexComment || found.kind == lexOpen):
			return nil, errVeiled
		case found.kind == lexOpen:
			length := strings.Index(text[found.end:], "*/")
			if length < 0 {
				return nil, errOpenQuote
			}
			within = found.end + length
		}
		if at = found.end; found.kind != 0 {
			all = append(all, found)
		}
	}
	if within >= 0 {
		return nil, errOpenQuote
	}
	return all, nil
}

// next is the lexeme that begins at a place; white space has no kind.
func next(text string, at int, d dialect) (lexeme, error) {
	rest := text[at:]
	c := rest[0]
	to := func(kind lexemeKind, length int) (lexeme, error) {
		return lexeme{kind: kind, text: rest[:length], at: at, end: at + length}, nil
	}
	switch {
	case isSpace(c):
		return to(0, 1)
	case strings.HasPrefix(rest, "--") && (d.sqlite || len(rest) == 2 || rest[2] <= ' ' || rest[2] == 0x7f):
		if !d.sqlite && len(rest) > 2 && !isSpace(rest[2]) {
			return lexeme{}, errOtherComment
		}
		return to(lexComment, lineLength(rest))
	case c == '#' && !d.sqlite:
		return to(lexComment, lineLength(rest))
	case strings.HasPrefix(rest, "/*M!") && !d.sqlite:
		return lexeme{}, errOnlyMariaDB
	case (strings.HasPrefix(rest, "/*!") || strings.HasPrefix(rest, "/*+")) && !d.sqlite:
		return to(lexOpen, 3)
	case strings.HasPrefix(rest, "/*"):
		length := strings.Index(rest[2:], "*/")
		if length < 0 {
			return lexeme{}, errOpenQuote
		}
		return to(lexComment, 2+length+2)
	case c == '\'' || c == '"' || c == '`' || c == '[' && d.sqlite:
		return quotedLexeme(text, at, d)
	case isWordByte(c):
		length := 1
		for length < len(rest) && isWordByte(rest[length]) {
			length++
		}
		return to(lexWord, length)
	}
	return to(lexSign, 1)
}

func quotedLexeme(text string, at int, d dialect) (lexeme, error) {
	closing, kind := text[at], lexText
	if closing == '`' || closing == '"' && d.ansiQuotes || d.sqlite { // SQLite takes texts for names, too
		kind = lexName
	}
	if closing == '[' {
		closing = ']'
	}
	for i := at + 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && kind == lexText && !d.sqlite && !d.noEscapes:
			i++
		case text[i] != closing:
		case closing != ']' && i+1 < len(text) && text[i+1] == closing:
			i++
		default:
			return lexeme{kind: kind, text: text[at+1 : i], at: at, end: i + 1}, nil
		}
	}
	return lexeme{}, errOpenQuote
}

func lineLength(text string) int {
	if length := strings.IndexByte(text, '\n'); length >= 0 {
		return length
	}
	return len(text)
}

func isSpace(c byte) bool { return c == ' ' || c >= '\t' && c <= '\r' }

func isWordByte(c byte) bool {
	return c == '_' || c == '$' || c >= 0x80 || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

// lexemes reads a statement's beginning, leaving out comments.
type lexemes struct{ left []lexeme }

func (l *lexemes) skipComments() {
	for len(l.left) > 0 && l.left[0].kind == lexComment {
		l.left = l.left[1:]
	}
}

// take takes the next lexeme, which has no kind at the end.
func (l *lexemes) take() (found lexeme) {
	l.skipComments()
	if len(l.left) > 0 {
		found, l.left = l.left[0], l.left[1:]
	}
	return found
}

// word takes these keywords, if they come next: all or none.
func (l *lexemes) word(words ...string) bool {
	before := l.left
	for _, word := range words {
		if found := l.take(); found.kind != lexWord || !strings.EqualFold(found.text, word) {
			l.left = before
			return false
		}
	}
	return true
}

// sign takes a byte, if it comes next.
func (l *lexemes) sign(sign string) bool {
	before := l.left
	if found := l.take(); found.kind != lexSign || found.text != sign {
		l.left = before
		return false
	}
	return true
}

// name takes a name, which may be in quotes and have that of a database before it.
func (l *lexemes) name() (database, name string, ok bool) {
	found := l.take()
	if found.kind != lexWord && found.kind != lexName {
		return "", "", false
	}
	if !l.sign(".") {
		return "", undouble(found), true
	}
	second := l.take()
	return undouble(found), undouble(second), second.kind == lexWord || second.kind == lexName
}

// toEnd takes all that is left, of which the beginning stands in so many brackets, and returns the
// first thing that is wrong with one of the lexemes, or with the brackets; "" is nothing.
func (l *lexemes) toEnd(depth int, wrong func(found lexeme, depth int) string) string {
	for {
		found := l.take()
		switch {
		case found.kind == 0 && depth == 0:
			return ""
		case found.kind == 0:
			return "its brackets are not closed"
		case found.kind == lexSign && found.text == "(":
			depth++
		case found.kind == lexSign && found.text == ")":
			depth--
		}
		if why := wrong(found, depth); why != "" {
			return why
		}
	}
}

// undouble is a name without the doubling of quotes in it.
func undouble(l lexeme) string {
	if l.kind == lexName {
		return strings.NewReplacer("``", "`", `""`, `"`, "''", "'").Replace(l.text)
	}
	return l.text
}
