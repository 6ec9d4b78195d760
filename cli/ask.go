package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"

	"wetland/cli/screen"
)

// asks tells whether there is a person at a terminal.
func (a *app) asks() bool {
	file, ok := a.in.(*os.File)
	return ok && !a.json && !a.quiet && a.screen != nil && term.IsTerminal(int(file.Fd())) && a.screen.Terminal
}

// ask reads one answer, in small letters.
func (a *app) ask(ctx context.Context, question string) string {
	return strings.ToLower(a.line(ctx, question))
}

// line reads one line. Ctrl-C counts as an empty one.
func (a *app) line(ctx context.Context, question string) string {
	fmt.Fprint(screen.Printable(a.out, false), question)
	answers := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(a.in).ReadString('\n') // the end of input is an empty answer
		answers <- strings.TrimSpace(line)
	}()
	select {
	case answer := <-answers:
		return answer
	case <-ctx.Done():
		return ""
	}
}

// person is whoever sits at the terminal, for what has to be known before a host is entered.
type person struct{ app *app }

func (p person) Secret(ctx context.Context, what string) (string, error) {
	return p.app.secret(ctx, what+" (not shown): ")
}

func (p person) Confirm(ctx context.Context, question string) (bool, error) {
	answer := p.app.ask(ctx, question+" Type yes, or press Enter to leave it: ")
	return answer == "yes", ctx.Err()
}

// secret reads one line from the terminal without showing it. Ctrl-C ends it, and
// the terminal is left as it was.
func (a *app) secret(ctx context.Context, question string) (string, error) {
	terminal, ok := a.in.(*os.File)
	if !ok {
		return "", fmt.Errorf("there is no terminal to ask on")
	}
	before, err := term.GetState(int(terminal.Fd()))
	if err != nil {
		return "", fmt.Errorf("ask on the terminal: %w", err)
	}
	fmt.Fprint(screen.Printable(a.out, false), question)
	type answer struct {
		text []byte
		err  error
	}
	answers := make(chan answer, 1)
	go func() {
		text, err := term.ReadPassword(int(terminal.Fd()))
		answers <- answer{text, err}
	}()
	defer fmt.Fprintln(a.out)
	select {
	case got := <-answers:
		return strings.TrimSpace(string(got.text)), got.err
	case <-ctx.Done():
		return "", errors.Join(ctx.Err(), term.Restore(int(terminal.Fd()), before))
	}
}
