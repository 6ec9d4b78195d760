package sshhost

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"

	"wetland/core/phrase"
	"wetland/core/remote"
	"wetland/core/sftphost"
	"wetland/core/sshclient"
	"wetland/core/sshhost/helpers"
	"wetland/core/wire"
)

// Reasons why there is no helper on a machine.
var (
	// ErrConsent says that nobody allowed that it is put there.
	ErrConsent = errors.New("nobody allowed yet that Wetland puts its helper there")
	// ErrNever says that it was forbidden.
	ErrNever = errors.New("a site on another machine needs a helper there, and helper = \"never\" forbids that")
	// ErrSystem says that there is none for that machine.
	ErrSystem = errors.New("there is no helper for that system")
	// ErrUnfit says that it cannot run where it was put.
	ErrUnfit = errors.New("the helper cannot run there")
)

// ShellError says that the account runs no programs of ours: files may be moved there all the same.
type ShellError struct{ Said string } // what its shell said

func (e *ShellError) Error() string {
	return fmt.Sprintf("the account runs no programs of ours: its shell says %s. Where files can be moved alone, name it by sftp:// in place of ssh://; or ask your host for a full shell", e.Said)
}

// helperName is the file of the helper.
const helperName = "wetland-helper"

// mark begins the lines that our lines of shell say.
const mark = "WETLAND HELPER "

// enter enters the account and starts the helper, which is put there if it is missing.
func (h *Host) enter(ctx context.Context) (*entered, error) {
	if h.to.FilesAlone {
		return h.enterForFiles(ctx)
	}
	if h.o.Put == NeverPut {
		return nil, ErrNever
	}
	programs, err := helpers.All()
	if err != nil {
		return nil, err
	}
	client, err := sshclient.Connect(ctx, h.to, h.o.Options)
	if err != nil {
		return nil, err
	}
	is := &entered{client: client}
	started, missing, err := h.start(ctx, client, programs)
	if err == nil && started == nil {
		if is.put, err = h.put(ctx, client, missing, programs); err == nil {
			started, missing, err = h.start(ctx, client, programs)
		}
		if err == nil && started == nil {
			err = fmt.Errorf("%w: it was put at %s, and is not there as it was sent", ErrUnfit, missing.file)
		}
	}
	if err != nil {
		return nil, errors.Join(err, client.Close())
	}
	is.Host = started
	return is, nil
}

// enterForFiles enters the account by SFTP.
func (h *Host) enterForFiles(ctx context.Context) (*entered, error) {
	client, err := sshclient.Connect(ctx, h.to, h.o.Options)
	if err != nil {
		return nil, err
	}
	on, err := sftphost.On(ctx, client, h.Name())
	if err != nil {
		return nil, err
	}
	return &entered{Host: on, client: client}, nil
}

// place is where the helper belongs on a machine, and what that is.
type place struct {
	system, file string
}

// start starts the helper that lies there, if its bytes are ours; else it tells where it is missing.
func (h *Host) start(ctx context.Context, client *sshclient.Client, programs map[string]helpers.Program) (*remote.Host, place, error) {
	program, err := client.Start(shellLine(h.startScript(programs)))
	if err != nil {
		return nil, place{}, err
	}
	said := &listener{Program: program}
	started, err := remote.Dial(ctx, said, h.Name(), h.o.Site)
	if err == nil {
		return started, place{}, nil
	}
	if !errors.Is(err, wire.ErrNoHelper) {
		return nil, place{}, errors.Join(err, program.Close())
	}
	_ = program.Close()
	kind, rest := said.marked()
	if kind == "" && strings.Contains(program.Complaint(), helperName) { // a shell that does not see what the disk forbids
		kind, rest = "unfit", " "+helperName
	}
	system, file, _ := strings.Cut(rest, " ")
	switch kind {
	case "missing":
		return nil, place{system, file}, nil
	case "system":
		return nil, place{}, fmt.Errorf("%w: %s. There is one for %s", ErrSystem, phrase.InBrackets(rest), strings.Join(slices.Sorted(maps.Keys(programs)), ", "))
	case "unfit":
		return nil, place{}, fmt.Errorf("%w: the disk or the account forbids to run %s. Name a folder where programs may run: helper_folder under [host]", ErrUnfit, file)
	case "home":
		return nil, place{}, fmt.Errorf("%w: the account has no home, or %s is not its own. Name a folder: helper_folder under [host]", ErrUnfit, file)
	}
	return nil, place{}, &ShellError{fmt.Sprintf("%q%s", said.beginning(), complaint(program))}
}

func complaint(program *sshclient.Program) string {
	if text := program.Complaint(); text != "" {
		return fmt.Sprintf(" and %.200q", text)
	}
	return ""
}

// listener keeps the beginning of what a program says.
type listener struct {
	*sshclient.Program
	lock sync.Mutex
	said bytes.Buffer
}

func (l *listener) Read(p []byte) (int, error) {
	n, err := l.Program.Read(p)
	l.lock.Lock()
	defer l.lock.Unlock()
	if room := 64<<10 - l.said.Len(); room > 0 {
		l.said.Write(p[:min(n, room)])
	}
	return n, err
}

// marked is what our line of shell said: a word, and the rest of that line.
func (l *listener) marked() (kind, rest string) {
	l.lock.Lock()
	defer l.lock.Unlock()
	lines := bufio.NewScanner(bytes.NewReader(l.said.Bytes()))
	for lines.Scan() {
		if _, said, ok := strings.Cut(lines.Text(), mark); ok {
			kind, rest, _ = strings.Cut(said, " ")
		}
	}
	return kind, rest
}

func (l *listener) beginning() string {
	l.lock.Lock()
	defer l.lock.Unlock()
	return fmt.Sprintf("%.200s", strings.TrimSpace(l.said.String()))
}

// shellLine has a POSIX shell run a script, whatever shell the account has: in single quotes nothing
// means anything to any of them, where there is neither quote nor exclamation mark.
func shellLine(script string) string {
	return "/bin/sh -c " + phrase.ShellQuote(script)
}

// where sets d to the folder of the helper and f to its file, and ends where there is none for the
// system.
func (h *Host) where(programs map[string]helpers.Program) string {
	folder := `${XDG_CACHE_HOME:-$HOME/.cache}/wetland`
	if h.o.Folder != "" {
		folder = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`").Replace(h.o.Folder)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "s=$(uname -s)-$(uname -m)\ncase $s in\n")
	for _, system := range slices.Sorted(maps.Keys(programs)) {
		fmt.Fprintf(&b, "%s) h=%s ;;\n", system, programs[system].Hash)
	}
	fmt.Fprintf(&b, "*) echo \"%ssystem $s\"; exit 0 ;;\nesac\nd=\"%s\"\nf=\"$d/%s\"\n", mark, folder, helperName)
	return b.String()
}

// startScript becomes the helper, or says why not.
func (h *Host) startScript(programs map[string]helpers.Program) string {
	return h.where(programs) +
		"if [ -e \"$d\" ]; then\no=no; [ -L \"$d\" ] || { [ -O \"$d\" ] && o=yes; }\nif [ $o = no ]; then echo \"" + mark + "home $s $d\"; exit 0; fi\nfi\n" +
		"if [ -f \"$f\" ] && [ \"$(sha256sum <\"$f\" | cut -c1-64)\" = $h ]; then\n" +
		"if [ -x \"$f\" ]; then exec \"$f\" serve; fi\necho \"" + mark + "unfit $s $f\"; exit 0\nfi\n" +
		"echo \"" + mark + "missing $s $f\"\n"
}

// putScript puts what it reads, packed, there.
func (h *Host) putScript(programs map[string]helpers.Program) string {
	return h.where(programs) +
		"umask 077\nmkdir -p \"$d\" && chmod 700 \"$d\" || exit 1\n" +
		"t=\"$f.$$\"\ntrap \"rm -f \\\"$t\\\"\" EXIT\n" +
		"gzip -dc >\"$t\" && chmod 700 \"$t\" && mv \"$t\" \"$f\" && echo \"" + mark + "put $s $f\"\n"
}

// put puts the helper there, if a person allows that, and returns where.
func (h *Host) put(ctx context.Context, client *sshclient.Client, at place, programs map[string]helpers.Program) (string, error) {
	program, ok := programs[at.system]
	if !ok {
		return "", fmt.Errorf("%w: it calls itself %q", ErrSystem, at.system)
	}
	if h.o.Put != MayPut {
		if h.o.MayPut == nil {
			return "", ErrConsent
		}
		yes, err := h.o.MayPut(ctx, fmt.Sprintf("Wetland works on %s through a helper of its own: a program that is put at %s, does there what this Wetland asks for, and ends with the connection. Put it there?", h.to.Host, at.file))
		if err != nil {
			return "", err
		}
		if !yes {
			return "", ErrConsent
		}
		h.o.Put = MayPut
	}
	running, err := client.Start(shellLine(h.putScript(programs)))
	if err != nil {
		return "", err
	}
	defer running.Close()
	stop := context.AfterFunc(ctx, func() { _ = running.Close() })
	defer stop()
	_, err = io.Copy(running, bytes.NewReader(program.Packed))
	err = errors.Join(err, running.CloseWrite())
	said, readErr := io.ReadAll(io.LimitReader(running, 64<<10))
	if ended := ctx.Err(); ended != nil {
		return "", ended
	}
	if !strings.Contains(string(said), mark+"put ") {
		return "", fmt.Errorf("put the helper at %s: it could not be written%s", at.file, complaint(running))
	}
	return at.file, errors.Join(readErr, ignoreEOF(err))
}

// ignoreEOF is for a program that ended before it was told that no more comes.
func ignoreEOF(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}
