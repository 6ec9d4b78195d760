// Package hosttest holds a host.Host against its whole contract. Begin reading at TestHost.
package hosttest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"wetland/core/database/databasetest"
	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/core/host"
)

// Place is a host, and what the suite may use there.
type Place struct {
	Host   host.Host
	Folder string        // exists, is empty, and stands on the disk that is tested
	Grain  time.Duration // of the disk's times
	// Echo are places there, by network, at which somebody says back all that he is told, until
	// the caller says no more.
	Echo map[string]string
	// Nobody are places, by network, at which nobody listens.
	Nobody map[string]string
	// Print is a program that prints its arguments, separated by spaces, and a line's end; Fail
	// are a program and arguments that say "it failed" on standard error and fail; Environment is
	// a program that prints its environment.
	Print       string
	Fail        []string
	Environment string
	// Engine reaches an empty database that is on this host; nil: there is none.
	Engine *databasetest.Engine
}

// WithDisk is the machine that Wetland runs on with another disk.
func WithDisk(disk files.Disk) host.Host { return withDisk{host.Here, disk} }

type withDisk struct {
	host.Host
	disk files.Disk
}

func (w withDisk) Real(ctx context.Context, name string) (string, error) {
	return w.disk.Real(ctx, name)
}

func (w withDisk) Open(ctx context.Context, folder string) (files.FS, error) {
	return w.disk.Open(ctx, folder)
}

// TestHost holds a host against the contracts of host.Host, files.Disk, files.FS and
// database.Database. What it cannot do it has to say.
func TestHost(t *testing.T, p Place) {
	t.Run("files", func(t *testing.T) { filestest.TestDisk(t, p.Host, p.Folder, p.Grain) })
	if p.Engine != nil {
		engine := *p.Engine
		engine.Databases = p.Host.Databases()
		t.Run("databases", func(t *testing.T) { databasetest.TestEngine(t, engine) })
	}
	for name, broken := range Broken(t.Context(), p) {
		t.Errorf("%s: %v", name, broken)
	}
}

// laws are what holds of every host beside its files and databases.
var laws = map[string]func(context.Context, Place) error{
	"what is said comes back":                  echoes,
	"many connections at once":                 manyEchoes,
	"nobody listens":                           nobodyListens,
	"a program gets its arguments as they are": literalArguments,
	"a program that fails":                     failingProgram,
	"a program that is not there":              missingProgram,
	"no secret reaches a program":              cleanEnvironment,
	"a temporary file":                         temporaryFile,
	"a context that has ended":                 endedContext,
	"abilities":                                trueAbilities,
	"a name for people":                        printableName,
	"users and groups":                         ownAccount,
	"a clock that goes":                        goingClock,
}

// Broken returns the laws that a host breaks, and how.
func Broken(ctx context.Context, p Place) map[string]error {
	broken := map[string]error{}
	for name, law := range laws {
		if err := law(ctx, p); err != nil {
			broken[name] = err
		}
	}
	return broken
}

// echo says a text to whom it reaches, and returns what comes back.
func echo(ctx context.Context, p Place, network, text string) error {
	connection, err := p.Host.Dial(ctx, network, p.Echo[network])
	if err != nil {
		return err
	}
	defer connection.Close()
	var group errgroup.Group
	group.Go(func() error {
		_, err := io.WriteString(connection, text)
		return err
	})
	back := make([]byte, len(text))
	_, err = io.ReadFull(connection, back)
	go func() { _, _ = io.Copy(io.Discard, connection) }() // whoever says more is not held up
	if err = errors.Join(err, group.Wait()); err != nil {
		return err
	}
	if string(back) != text {
		return fmt.Errorf("by %s, something else comes back than what was said", network)
	}
	return nil
}

func echoes(ctx context.Context, p Place) error {
	var problems []error
	for _, network := range slices.Sorted(maps.Keys(p.Echo)) {
		for _, text := range []string{"\x00", "over here\r\n", strings.Repeat("much of it \xff", 200_000)} {
			problems = append(problems, echo(ctx, p, network, text))
		}
	}
	return errors.Join(problems...)
}

func manyEchoes(ctx context.Context, p Place) error {
	var group errgroup.Group
	for i := range 20 {
		for network := range p.Echo {
			group.Go(func() error { return echo(ctx, p, network, strings.Repeat(fmt.Sprint(i, " "), 10_000)) })
		}
	}
	return group.Wait()
}

func nobodyListens(ctx context.Context, p Place) error {
	for network, address := range p.Nobody {
		connection, err := p.Host.Dial(ctx, network, address)
		if err == nil {
			return errors.Join(fmt.Errorf("somebody answers at %s", address), connection.Close())
		}
		if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ECONNREFUSED) {
			return fmt.Errorf("it does not say that nobody listens at %s: %w", address, err)
		}
	}
	return nil
}

// hostile arguments mean something to shells.
var hostile = []string{"two words", "$HOME", "`id`", "'", `"`, "a;b", "*", "~", "%PATH%", "&&", "", "\\", "über", "-"}

func literalArguments(ctx context.Context, p Place) error {
	if p.Print == "" {
		return nil
	}
	said, err := p.Host.Run(ctx, p.Print, hostile...)
	if want := strings.Join(hostile, " "); err == nil && strings.TrimRight(said, "\r\n") != want {
		err = fmt.Errorf("it was told %q, and got %q", want, said)
	}
	return err
}

func failingProgram(ctx context.Context, p Place) error {
	if len(p.Fail) == 0 {
		return nil
	}
	_, err := p.Host.Run(ctx, p.Fail[0], p.Fail[1:]...)
	if err == nil || !strings.Contains(err.Error(), "it failed") {
		return fmt.Errorf("what a program says that fails is not told: %v", err)
	}
	return nil
}

func missingProgram(ctx context.Context, p Place) error {
	if !p.Host.Abilities().Run {
		return nil
	}
	if _, err := p.Host.Run(ctx, "no-such-program-anywhere"); !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("that it is not there is not said: %v", err)
	}
	return nil
}

func cleanEnvironment(ctx context.Context, p Place) error {
	if p.Environment == "" {
		return nil
	}
	said, err := p.Host.Run(ctx, p.Environment)
	if err == nil && strings.Contains(said, SecretVariable) {
		err = fmt.Errorf("it is given %s", SecretVariable)
	}
	return err
}

// SecretVariable is a variable of our own environment that whoever tests a host of this machine
// sets.
const SecretVariable = "FERRY_SECRET"

func temporaryFile(ctx context.Context, p Place) error {
	if !p.Host.Abilities().Temporary {
		return nil
	}
	content := []byte("<?php\x00\xff\r\n")
	name, remove, err := p.Host.PutTemporary(ctx, ".php", content)
	if err != nil {
		return err
	}
	other, removeOther, err := p.Host.PutTemporary(ctx, ".php", nil)
	if err != nil {
		return errors.Join(err, remove())
	}
	err = checkTemporary(ctx, p, name, content)
	if name == other || !strings.HasSuffix(name, ".php") || !path.IsAbs(name) && !strings.Contains(name, ":/") {
		err = errors.Join(err, fmt.Errorf("its name is %s, another's %s", name, other))
	}
	if err = errors.Join(err, remove(), removeOther()); err != nil {
		return err
	}
	if err := checkTemporary(ctx, p, name, content); !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("after it was taken away: %v", err)
	}
	return nil
}

// checkTemporary reads a file as the host's own files are read.
func checkTemporary(ctx context.Context, p Place, name string, content []byte) error {
	folder, err := p.Host.Real(ctx, path.Dir(name))
	if err != nil {
		return err
	}
	opened, err := p.Host.Open(ctx, folder)
	if err != nil {
		return err
	}
	defer opened.Close()
	entry, err := opened.Lstat(ctx, path.Base(name))
	if err != nil {
		return err
	}
	if entry.Mode != 0 && entry.Mode&0o777 != 0o644 {
		return fmt.Errorf("its mode is %o: others may not read it, or may write it", entry.Mode)
	}
	file, err := opened.Open(ctx, path.Base(name), 0)
	if err != nil {
		return err
	}
	defer file.Close()
	there, err := io.ReadAll(file)
	if err == nil && !bytes.Equal(there, content) {
		err = fmt.Errorf("%q stands in it, not %q", there, content)
	}
	return err
}

func endedContext(ctx context.Context, p Place) error {
	ended, end := context.WithCancel(ctx)
	end()
	can := p.Host.Abilities()
	var problems []error
	tell := func(can bool, what string, err error) {
		if can && !errors.Is(err, context.Canceled) {
			problems = append(problems, fmt.Errorf("%s: %v", what, err))
		}
	}
	for network, address := range p.Echo {
		connection, err := p.Host.Dial(ended, network, address)
		if tell(can.Dial, "dial by "+network, err); err == nil {
			problems = append(problems, connection.Close())
		}
	}
	if p.Print != "" {
		_, err := p.Host.Run(ended, p.Print, "x")
		tell(can.Run, "run a program", err)
	}
	_, remove, err := p.Host.PutTemporary(ended, ".php", nil)
	if tell(can.Temporary, "make a temporary file", err); err == nil {
		problems = append(problems, remove())
	}
	_, err = p.Host.Real(ended, p.Folder)
	tell(true, "resolve a name", err)
	return errors.Join(problems...)
}

// trueAbilities: what a host does not claim it cannot do, and says so.
func trueAbilities(ctx context.Context, p Place) error {
	can := p.Host.Abilities()
	var problems []error
	tell := func(can bool, what string, err error) {
		if can == errors.Is(err, errors.ErrUnsupported) {
			problems = append(problems, fmt.Errorf("%s: said to be able: %v, and then: %v", what, can, err))
		}
	}
	connection, err := p.Host.Dial(ctx, "tcp", "127.0.0.1:1")
	if tell(can.Dial, "dial", err); err == nil {
		problems = append(problems, connection.Close())
	}
	_, err = p.Host.Run(ctx, "no-such-program-anywhere")
	tell(can.Run, "run a program", err)
	_, remove, err := p.Host.PutTemporary(ctx, "", nil)
	if tell(can.Temporary, "make a temporary file", err); err == nil {
		problems = append(problems, remove())
	}
	return errors.Join(problems...)
}

func printableName(_ context.Context, p Place) error {
	if name := p.Host.Name(); name != p.Host.Name() || strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return fmt.Errorf("%q is no name for people", name)
	}
	return nil
}

// ownAccount: whoever we are there has a name, and the rights that his entries give.
func ownAccount(ctx context.Context, p Place) error {
	accounts := p.Host.Accounts()
	self := accounts.Self(ctx)
	const nobody = 1<<31 - 7
	if name := accounts.UserName(ctx, nobody); name != fmt.Sprint("#", nobody) {
		return fmt.Errorf("a user whom nobody knows is called %q", name)
	}
	if name := accounts.GroupName(ctx, nobody); name != fmt.Sprint("#", nobody) {
		return fmt.Errorf("a group that nobody knows is called %q", name)
	}
	if self == files.Unowned {
		return nil
	}
	if accounts.UserName(ctx, self) == "" {
		return fmt.Errorf("the user %d has no name", self)
	}
	own, others := files.Entry{Owner: self, Mode: 0o600}, files.Entry{Owner: self + 1, Group: nobody, Mode: 0o755}
	if !accounts.MayWrite(ctx, self, own) {
		return errors.New("what is one's own may not be written")
	}
	if self != 0 && accounts.MayWrite(ctx, self, others) {
		return errors.New("what is others' alone may be written")
	}
	if !accounts.MayWrite(ctx, nobody, files.Entry{Owner: self, Mode: 0o666}) || accounts.MayWrite(ctx, nobody, own) {
		return errors.New("what everybody may write is not told from what nobody else may")
	}
	return nil
}

// goingClock: files that are made there get the times of its clock.
func goingClock(ctx context.Context, p Place) error {
	before := p.Host.Now()
	opened, err := p.Host.Open(ctx, p.Folder)
	if err != nil {
		return err
	}
	defer opened.Close()
	if err := opened.Mkdir(ctx, "clock", files.Attributes{Mode: 0o700, Owner: files.Unowned, Group: files.Unowned}); err != nil {
		return err
	}
	entry, err := opened.Lstat(ctx, "clock")
	after := p.Host.Now()
	if err = errors.Join(err, opened.Remove(ctx, "clock")); err != nil {
		return err
	}
	const about = 2 * time.Second // what an answer takes, and the disk's grain
	if after.Before(before) || entry.Modified.Before(before.Add(-about)) || entry.Modified.After(after.Add(about)) {
		return fmt.Errorf("it says %s, then %s, and a folder that was made between is of %s", before, after, entry.Modified)
	}
	return nil
}
