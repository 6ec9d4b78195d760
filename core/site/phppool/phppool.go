// Package phppool asks a pool of PHP processes, over FastCGI, to drop the code that
// it keeps compiled, and to empty the CMS's object cache.
package phppool

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"wetland/core/fastcgi"
)

// The scripts work in the processes' shared memory: the php of the command line has another
// one.
const (
	dropCode = `<?php
$done = function_exists( 'opcache_reset' ) && opcache_reset();
echo $done ? 'dropped' : 'nothing kept';
`
	// %s is a folder, as base64: whatever is in its name.
	tellKept = `<?php
$root = base64_decode( '%s' );
$kept = function_exists( 'opcache_get_status' ) ? @opcache_get_status() : false;
foreach ( $kept && isset( $kept['scripts'] ) ? array_keys( $kept['scripts'] ) : array() as $script ) {
	if ( 0 === strpos( $script, $root ) ) {
		exit( 'kept' );
	}
}
echo 'nothing kept';
`
	// %s is the file that loads WordPress, as base64. The answer is written last: what the site's
	// own code prints comes before it.
	emptyObjects = `<?php
require base64_decode( '%s' );
wp_cache_set( 'proof', 1, 'wetland' );
wp_cache_flush();
wp_cache_get( 'proof', 'wetland', true, $left );
while ( ob_get_level() > 0 ) {
	ob_end_clean();
}
echo $left ? 'kept' : 'dropped';
`
)

// patience bounds one request.
const patience = 20 * time.Second

// ErrNothingKept says that the pool keeps no compiled code.
var ErrNothingKept = errors.New("the pool keeps no compiled code")

// Host is the machine that a pool is on.
type Host interface {
	Dial(ctx context.Context, network, address string) (net.Conn, error)
	PutTemporary(ctx context.Context, ending string, content []byte) (name string, remove func() error, err error)
}

// Pool is a pool of PHP processes, whose user must be able to read the host's temporary files.
type Pool struct {
	Host  Host
	Where string // "unix:PATH" or HOST:PORT
}

// Reset has the pool drop its compiled code. It returns ErrNothingKept if the opcode cache is
// not there or is switched off.
func (p Pool) Reset(ctx context.Context) error {
	said, err := p.word(ctx, dropCode)
	if err != nil {
		return err
	}
	return Answered(said)
}

// Keeps tells whether the pool keeps compiled code of files below root, a folder without
// symbolic links in its name. A pool that does has served them.
func (p Pool) Keeps(ctx context.Context, root string) (bool, error) {
	said, err := p.word(ctx, fmt.Sprintf(tellKept, base64.StdEncoding.EncodeToString([]byte(strings.TrimSuffix(root, "/")+"/"))))
	return said == "kept", err
}

// About is what a pool says of itself.
type About struct {
	Version  string         `json:"version"`
	User     int            `json:"user"` // as whom it runs; -1: it cannot tell
	Group    int            `json:"group"`
	Modules  []string       `json:"modules"`
	Settings map[string]any `json:"settings"` // of PHP, by their names
}

// tellAbout ends with a word by which a whole answer is known.
const tellAbout = `<?php
echo json_encode( array( 'version' => PHP_VERSION, 'user' => function_exists( 'posix_geteuid' ) ? posix_geteuid() : -1, 'group' => function_exists( 'posix_getegid' ) ? posix_getegid() : -1, 'modules' => get_loaded_extensions(), 'settings' => ini_get_all( null, false ) ), JSON_PARTIAL_OUTPUT_ON_ERROR ), 'told';
`

// Tell asks the pool about itself.
func (p Pool) Tell(ctx context.Context) (about About, err error) {
	said, err := p.run(ctx, tellAbout)
	if err != nil {
		return about, err
	}
	text, told := strings.CutSuffix(said, "told")
	if !told {
		return about, fmt.Errorf("the pool of PHP at %s did not run what it was asked to", p.Where)
	}
	return about, json.Unmarshal([]byte(text), &about)
}

// ErrObjectsKept says that the object cache holds what was put into it after it was to be emptied.
var ErrObjectsKept = errors.New("the object cache was not emptied by wp_cache_flush")

// EmptyObjects has the pool load WordPress by its loader, a file, and empty the object cache. What
// was put into it before is looked for afterwards: nil means that it is gone. host is what
// visitors ask for.
func (p Pool) EmptyObjects(ctx context.Context, loader, host string) error {
	said, err := p.word(ctx, fmt.Sprintf(emptyObjects, base64.StdEncoding.EncodeToString([]byte(loader))), fastcgi.Pair{"HTTP_HOST", host}, fastcgi.Pair{"SERVER_NAME", host})
	if err == nil && said != "dropped" {
		err = ErrObjectsKept
	}
	return err
}

// OneUse is a script for the site's own folder, where no socket can be reached: it takes
// itself away, and does nothing else after the moment until.
func OneUse(until time.Time) string {
	return fmt.Sprintf("<?php\n@unlink( __FILE__ );\nif ( time() > %d ) {\n\texit;\n}\n?>%s", until.Unix(), dropCode)
}

// Answered reads what a script of one use answered: nil, ErrNothingKept, or that it was not
// run.
func Answered(body string) error {
	switch body {
	case "dropped":
		return nil
	case "nothing kept":
		return ErrNothingKept
	}
	return errors.New("the script was not run")
}

// run has the pool run a script, and returns what it prints.
func (p Pool) run(ctx context.Context, script string, more ...fastcgi.Pair) (said string, err error) {
	file, remove, err := p.Host.PutTemporary(ctx, ".php", []byte(script))
	if err != nil {
		return "", fmt.Errorf("put a script for the pool of PHP at %s: %w", p.Where, err)
	}
	answer, err := p.ask(ctx, append(requestFor(file), more...))
	if err != nil {
		return "", errors.Join(fmt.Errorf("ask the pool of PHP at %s: %w", p.Where, err), remove())
	}
	_, body, _ := strings.Cut(answer, "\r\n\r\n")
	return body, remove()
}

// word has the pool run a script, and returns the word that this says last.
func (p Pool) word(ctx context.Context, script string, more ...fastcgi.Pair) (string, error) {
	body, err := p.run(ctx, script, more...)
	if err != nil {
		return "", err
	}
	for _, said := range []string{"dropped", "nothing kept", "kept"} {
		if strings.HasSuffix(body, said) {
			return said, nil
		}
	}
	first, _, _ := strings.Cut(body, "\n")
	return "", fmt.Errorf("the pool of PHP at %s did not run what it was asked to (%.100s)", p.Where, first)
}

// requestFor asks for a script.
func requestFor(file string) []fastcgi.Pair {
	return []fastcgi.Pair{
		{"SCRIPT_FILENAME", file}, {"SCRIPT_NAME", "/"}, {"REQUEST_METHOD", "GET"}, {"SERVER_PROTOCOL", "HTTP/1.1"},
		{"GATEWAY_INTERFACE", "CGI/1.1"}, {"SERVER_SOFTWARE", "wetland"}, {"REMOTE_ADDR", "127.0.0.1"}, {"REQUEST_URI", "/"}, {"QUERY_STRING", ""},
	}
}

// ask sends one request and returns what the pool prints.
func (p Pool) ask(ctx context.Context, pairs []fastcgi.Pair) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	network, at := "tcp", p.Where
	if path, ok := strings.CutPrefix(p.Where, "unix:"); ok {
		network, at = "unix", path
	}
	connection, err := p.Host.Dial(ctx, network, at)
	if err != nil {
		return "", err
	}
	defer connection.Close()
	stopped := context.AfterFunc(ctx, func() { _ = connection.Close() })
	defer stopped()
	answer, err := fastcgi.Ask(connection, pairs, nil)
	if err != nil {
		return "", err
	}
	said, err := io.ReadAll(io.LimitReader(answer, mostAnswer))
	if err == nil && len(said) == mostAnswer {
		err = errors.New("its answer has no end")
	}
	return string(said), err
}

// mostAnswer bounds what is read of an answer, in bytes.
const mostAnswer = 1 << 18
