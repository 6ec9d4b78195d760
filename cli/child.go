package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"

	"wetland/cli/screen"
	"wetland/core/runs"
	"wetland/core/workspace"
)

// What works on a site runs in a process of its own, the child; this one only watches it. So
// whatever ends the child - a defect, a lack of memory, somebody's kill - somebody is left to say
// how the site stands, and to put back what was before. The child reads a pipe whose other end
// only its parent holds: a byte there is a signal that the parent got, and its end is that of the
// parent. On another pipe the child says its exit code; without that, however it ended, it died.

// childVariable names in the environment the two pipes of a child, as the system numbers them.
const childVariable = "WETLAND_CHILD_PIPES"

// watched are the commands that run in a child.
var watched = []string{"adopt", "examine", "recover", "rehearse", "restore", "smoke", "snapshot", "update", "verify"}

// deepestStack bounds the stack of a child, in bytes: what recurses without an end must not take all
// memory first.
const deepestStack = 256 << 20

// Watched is Main, with whatever works on a site in a child. It needs the process's own files.
func Watched(args []string, in, out, errs *os.File) int {
	if code, started := Itself(args, in, out, errs); started {
		return code
	}
	if pipes := os.Getenv(childVariable); pipes != "" {
		_ = os.Unsetenv(childVariable) // not for hooks and browsers
		return asChild(pipes, args, in, out, errs)
	}
	a := newApp(in, out, errs)
	command, _, err := a.command().Find(args)
	if err != nil || !slices.Contains(watched, command.Name()) {
		return Main(args, in, out, errs)
	}
	w := &watch{app: a, command: command.Name(), args: args, in: in, out: out, errs: errs}
	code, err := w.run()
	if errors.Is(err, errNoChild) {
		return Main(args, in, out, errs)
	}
	return code
}

// errNoChild says that this system lets no child be started.
var errNoChild = errors.New("no child could be started")

// asChild runs the program as the child of a process that watches it.
func asChild(pipes string, args []string, in, out, errs *os.File) int {
	lifeline, report, err := childPipes(pipes)
	if err != nil {
		fmt.Fprintf(errs, "%s is not for you to set: %v\n", childVariable, err)
		return exitCannot
	}
	debug.SetMaxStack(deepestStack)
	app := newApp(in, out, errs)
	// They come to the whole group of processes, so to the parent, which passes them on: once.
	ignored := make(chan os.Signal, 1)
	signal.Notify(ignored, endingSignals()...)
	signals := make(chan os.Signal, 3)
	go func() {
		defer close(signals)
		for one, came := make([]byte, 1), 0; ; {
			n, err := lifeline.Read(one)
			if came += n; n > 0 || err != nil && came == 0 { // without its parent, nobody would see how this ends
				signals <- os.Interrupt
			}
			if err != nil {
				return
			}
		}
	}()
	ctx, stop := app.obey(signals)
	code := app.run(ctx, args)
	stop()
	_, _ = report.Write([]byte{byte(code)}) // a parent that is gone does not read it
	return code
}

// endingSignals are those by which a person or the system asks a program to end. One that was
// ignored from the start, as nohup does, stays so.
func endingSignals() []os.Signal {
	return slices.DeleteFunc([]os.Signal{os.Interrupt, syscall.SIGTERM, syscall.SIGHUP}, signal.Ignored)
}

// watch is one command with its child.
type watch struct {
	app           *app
	command       string
	args          []string
	in, out, errs *os.File
	care          *workspace.Workspace // nil: none was there to begin with
	signals       int                  // that came so far
}

// run starts a child, waits for its end and returns the code that is true of it.
func (w *watch) run() (code int, err error) {
	var before *runs.Run
	if w.care, err = w.workspace(); err == nil {
		before, _ = runs.Last(w.care) // the child tells what is wrong with it
	}
	code, died, err := w.child(w.args, w.out)
	if err != nil || died == "" {
		return code, err
	}
	return w.died(died, before), nil
}

// child runs one child. died says how it ended without a code of its own.
func (w *watch) child(args []string, out *os.File) (code int, died string, err error) {
	self, err := os.Executable()
	if err != nil {
		return 0, "", errNoChild
	}
	lifelineEnd, lifeline, err1 := os.Pipe()
	report, reportEnd, err2 := os.Pipe()
	if err := errors.Join(err1, err2); err != nil {
		return 0, "", errNoChild
	}
	defer report.Close()
	command := exec.Command(self, args...)
	command.Stdin, command.Stdout, command.Stderr = w.in, out, w.errs
	command.Env = append(os.Environ(), childVariable+"="+handDown(command, lifelineEnd, reportEnd))
	signals := make(chan os.Signal, 3)
	signal.Notify(signals, endingSignals()...)
	defer signal.Stop(signals)
	err = command.Start()
	_, _ = lifelineEnd.Close(), reportEnd.Close() // the child has them
	if err != nil {
		_ = lifeline.Close()
		return 0, "", errNoChild
	}
	ended := make(chan error, 1)
	said := make(chan []byte, 1)
	go func() {
		text, _ := io.ReadAll(io.LimitReader(report, 1)) // nothing, if it died
		said <- text
	}()
	go func() { ended <- command.Wait() }()
	for {
		select {
		case <-signals:
			w.signals++
			_, _ = lifeline.Write([]byte{1}) // one that has just ended does not read it
		case <-ended:
			_ = lifeline.Close()
			if text := <-said; len(text) == 1 {
				return int(text[0]), "", nil
			}
			return 0, command.ProcessState.String(), nil
		}
	}
}

// workspace is the one that the arguments name.
func (w *watch) workspace() (*workspace.Workspace, error) {
	command, rest, err := w.app.command().Find(w.args)
	if err != nil {
		return nil, err
	}
	if err := command.ParseFlags(rest); err != nil {
		return nil, err
	}
	return w.app.load()
}

// died says how the site stands after a child that died, and puts it right where that is safe.
func (w *watch) died(how string, before *runs.Run) int {
	s := screen.New(w.errs, false)
	s.Print("\n")
	s.Paragraph(s.Bad("Wetland broke off."), fmt.Sprintf("It did not end by itself (%s)%s.", how, shortOfMemory(how)))
	if w.care == nil { // it had no site to work on
		return w.close(exitCannot, "Nothing on the site was changed.")
	}
	last, err := runs.Last(w.care)
	if err != nil {
		return w.close(exitPerson, fmt.Sprintf("How far it came cannot be read (%v): the site may stand at either version. To settle it: wetland recover", err))
	}
	begun := last != nil && (before == nil || before.Name != last.Name)
	switch {
	case !begun && w.command != "recover":
		words := "Nothing on the site was changed by it."
		if last != nil && last.State == runs.UnderWay {
			words += fmt.Sprintf(" %s is not settled: wetland recover", last.Name)
		}
		return w.close(exitCannot, words)
	case last != nil && last.State == runs.NeedsPerson:
		return w.close(exitPerson, fmt.Sprintf("%s left the site without a proved state. What to do: wetland report %s", last.Name, last.Name))
	case last != nil && last.State != runs.UnderWay:
		return w.ended(last)
	case last == nil || w.signals > 1 || w.command == "recover":
		return w.close(exitPerson, "A run is not settled: the site may stand at either version. To settle it: wetland recover")
	}
	s.Paragraph("", fmt.Sprintf("%s is not settled. It is settled now, as wetland recover does:", last.Name))
	return w.recover(last)
}

// recover settles a run in another child.
func (w *watch) recover(broken *runs.Run) int {
	out := w.out
	if w.app.json { // there is to be one document
		if null, err := os.OpenFile(os.DevNull, os.O_WRONLY, 0); err == nil {
			defer null.Close()
			out = null
		}
	}
	_, _, err := w.child([]string{"recover", "--workspace", w.care.Dir}, out)
	last, readErr := runs.Last(w.care)
	if err == nil && readErr == nil && last != nil && last.Name == broken.Name && last.State != runs.UnderWay {
		if w.app.json {
			return w.ended(last)
		}
		return exitOfState(last.State)
	}
	return w.close(exitPerson, fmt.Sprintf("%s could not be settled: the site may stand at either version. To try again: wetland recover", broken.Name))
}

// ended shows a run that had ended by the time its child died.
func (w *watch) ended(run *runs.Run) int {
	w.app.screen = screen.New(w.out, w.app.json)
	if err := w.app.ended(w.care, run, nil); err != nil {
		return exitCodeOf(err)
	}
	return exitSound
}

// close tells how the site stands, and returns the code.
func (w *watch) close(code int, words string) int {
	if w.app.json {
		w.app.writeJSON(errorDocument{Error: "Wetland broke off. " + words, closing: closing{code}})
	} else {
		screen.New(w.errs, false).Paragraph("", words)
	}
	return code
}

// shortOfMemory adds the likeliest reason for a kill that nobody sent.
func shortOfMemory(how string) string {
	if runtime.GOOS == "linux" && strings.Contains(how, "killed") {
		return ". If nobody killed it, the system was short of memory: its log says so (dmesg)"
	}
	return ""
}
