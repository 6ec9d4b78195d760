// Package errorlog reads what PHP has logged since a moment: fatal errors that visitors do not report.
package errorlog

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"regexp"
	"strings"

	"wetland/core/files"
	"wetland/core/smoke/reading"
)

// LogPage is where findings from the log of PHP's errors stand in a judgement.
const LogPage = "(the PHP log)"

// Log is PHP's log of errors, from where it stood when it was marked.
type Log struct {
	Name  string
	fsys  files.FS
	from  int64
	tail  string          // what stood right before that
	known map[string]bool // fatal errors that were in it before
}

// logBefore and logAfter bound how much of a log is read: of its end before the mark, and
// after it.
const (
	logBefore = 1 << 20
	logAfter  = 4 << 20
)

// Mark remembers where the log stands. A log that is not there yet may still come.
func Mark(ctx context.Context, fsys files.FS, name string) (*Log, error) {
	log := &Log{Name: name, fsys: fsys, known: map[string]bool{}}
	entry, err := fsys.Lstat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return log, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the log of PHP's errors: %w", err)
	}
	log.from = entry.Size
	text, err := log.read(ctx, max(0, entry.Size-logBefore), logBefore)
	if err != nil {
		return nil, fmt.Errorf("read the log of PHP's errors: %w", err)
	}
	log.tail = text[max(0, len(text)-256):]
	for _, line := range fatalLines(text) {
		log.known[line] = true
	}
	return log, nil
}

func (l *Log) read(ctx context.Context, from, limit int64) (string, error) {
	file, err := l.fsys.Open(ctx, l.Name, from)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	text, err := io.ReadAll(io.LimitReader(file, limit))
	return string(text), errors.Join(err, file.Close())
}

// There tells whether the log is there by now. PHP makes it at the first error.
func (l *Log) There(ctx context.Context) bool {
	_, err := l.fsys.Lstat(ctx, l.Name)
	return !errors.Is(err, fs.ErrNotExist)
}

// Since returns the fatal errors that were logged since the mark, each once, and which
// of them had been there before. A log that does not hold any more what stood before the
// mark was begun anew.
func (l *Log) Since(ctx context.Context) (fresh, known []string, err error) {
	text, err := l.read(ctx, l.from-int64(len(l.tail)), logAfter)
	if err == nil && !strings.HasPrefix(text, l.tail) {
		text, err = l.read(ctx, 0, logAfter)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("read the log of PHP's errors: %w", err)
	}
	text = strings.TrimPrefix(text, l.tail)
	for _, line := range fatalLines(text) {
		if l.known[line] {
			known = append(known, line)
		} else {
			fresh = append(fresh, line)
		}
	}
	return fresh, known, nil
}

// fatalLine is how PHP logs what ends a request (main/main.c, php_error_cb), whatever
// stands before it: the time, or what php-fpm puts there.
var fatalLine = regexp.MustCompile(`PHP (?:Fatal error|Parse error|Recoverable fatal error|Core error|Compile error):\s+[^\n]+`)

func fatalLines(text string) []string {
	var found []string
	seen := map[string]bool{}
	for _, line := range fatalLine.FindAllString(text, -1) {
		line = reading.Readable(strings.TrimRight(line, "\r"))
		if !seen[line] {
			seen[line] = true
			found = append(found, line)
		}
	}
	return found
}
