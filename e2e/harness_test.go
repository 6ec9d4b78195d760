// Package e2e drives the built program on files in temporary folders.
package e2e

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/demo/sshd"
	"wetland/internal/testenv"
)

// program is the built binary; attackProgram is this test's own, where others can run it.
var program, attackProgram string

func TestMain(m *testing.M) {
	if pattern, outside, ok := strings.Cut(os.Getenv(attackVariable), "\n"); ok {
		attack(pattern, outside)
	}
	dir, err := os.MkdirTemp("", "wetland-e2e-*")
	if err != nil {
		panic(err)
	}
	// Others must be able to run it: some tests do so as an ordinary user.
	_ = os.Chmod(dir, 0o755)
	program = filepath.Join(dir, "wetland")
	if out, err := exec.Command("../scripts/build-helpers.sh", runtime.GOARCH).CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build the helper: %v\n%s", err, out)
		os.Exit(1)
	}
	build := exec.Command("go", "build", "-o", program, "wetland")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
		os.Exit(1)
	}
	attackProgram = filepath.Join(dir, "attack")
	if err := copyOfThis(attackProgram); err != nil {
		fmt.Fprintf(os.Stderr, "copy the test's program: %v\n", err)
		os.Exit(1)
	}
	code := testenv.Run(m)
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// copyOfThis copies the program of this test to where others can run it.
func copyOfThis(to string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	program, err := os.ReadFile(self)
	if err != nil {
		return err
	}
	return os.WriteFile(to, program, 0o755)
}

// result is what a command said and how it ended.
type result struct {
	code        int
	stdout, err string
}

func (r result) String() string {
	return fmt.Sprintf("exit code %d\n--- stdout\n%s--- stderr\n%s", r.code, r.stdout, r.err)
}

// wetland runs the program in the workspace.
func wetland(t testing.TB, workspace string, args ...string) result {
	t.Helper()
	return finish(t, wetlandCommand(t, args...), workspace)
}

// overVariable in the environment has all tests reach their sites "ssh": by way of OpenSSH.
const overVariable = "WETLAND_TEST_OVER"

// reached are the accounts by way of which tests reach their sites, by the tests' names.
var reached sync.Map

// reachBySSH has a test, and those within it, reach their sites by way of an account.
func reachBySSH(t testing.TB, account *sshd.Account) {
	reached.Store(t.Name(), account)
	t.Cleanup(func() { reached.Delete(t.Name()) })
}

// accountOf is the account by way of which a test reaches its sites; nil: they are here.
func accountOf(t testing.TB) *sshd.Account {
	t.Helper()
	for name := t.Name(); ; name = path.Dir(name) {
		if account, ok := reached.Load(name); ok {
			return account.(*sshd.Account)
		}
		if !strings.Contains(name, "/") {
			break
		}
	}
	if os.Getenv(overVariable) == "ssh" {
		return testenv.OwnSSHAccount(t)
	}
	return nil
}

// onlyHere skips a test where all tests reach their sites by SSH, and it is about this machine.
func onlyHere(t testing.TB) {
	t.Helper()
	if os.Getenv(overVariable) != "" {
		t.Skip("it is about a site on one's own machine")
	}
}

// wetlandCommand is the program, with its sites on this machine or by way of SSH: then one that is
// adopted is reached by that.
func wetlandCommand(t testing.TB, args ...string) *exec.Cmd {
	t.Helper()
	account := accountOf(t)
	if account == nil {
		return exec.Command(program, args...)
	}
	if len(args) > 1 && (args[0] == "adopt" || args[0] == "moved") && !strings.HasPrefix(args[1], "-") {
		args = slices.Clone(args)
		if !strings.Contains(args[1], "://") {
			args[1] = account.At(args[1])
		}
		if args[0] == "adopt" && !account.FilesAlone {
			args = append(args, "--put-helper")
		}
	}
	if account.FilesAlone && (args[0] == "update" || args[0] == "restore") {
		args = append(slices.Clone(args), "--allow-gap")
	}
	command := exec.Command(program, args...)
	command.Env = append(os.Environ(), "HOME="+account.Home)
	return command
}

func finish(t testing.TB, command *exec.Cmd, workspace string) result {
	t.Helper()
	var out, errs bytes.Buffer
	command.Dir, command.Stdout, command.Stderr = workspace, &out, &errs
	err := command.Run()
	if _, ended := err.(*exec.ExitError); err != nil && !ended {
		t.Fatal(err)
	}
	return result{command.ProcessState.ExitCode(), out.String(), errs.String()}
}

// want fails unless the command ended with the code and said all of the words.
func (r result) want(t testing.TB, code int, words ...string) result {
	t.Helper()
	if r.code != code {
		t.Fatalf("want exit code %d\n%s", code, r)
	}
	said := strings.Join(strings.Fields(r.stdout+" "+r.err), " ")
	for _, word := range words {
		if !strings.Contains(said, word) {
			t.Errorf("it does not say %q\n%s", word, r)
		}
	}
	return r
}

// decode reads the JSON document on standard output.
func (r result) decode(t *testing.T, into any) {
	t.Helper()
	decoder := json.NewDecoder(strings.NewReader(r.stdout))
	if err := decoder.Decode(into); err != nil {
		t.Fatalf("no JSON: %v\n%s", err, r)
	}
	if decoder.More() {
		t.Fatalf("more than one JSON document\n%s", r)
	}
}

// ferry is the demo site, served, with its workspace.
type ferry struct {
	root, packages, care, address string
}

// layOut lays out and serves the demo site.
func layOut(t testing.TB) *ferry {
	t.Helper()
	if name, _, _ := strings.Cut(t.Name(), "/"); !slices.Contains(everyday, name) {
		testenv.TakesLong(t)
	}
	dir := t.TempDir()
	f := &ferry{root: filepath.Join(dir, "site"), packages: filepath.Join(dir, "packages"), care: filepath.Join(dir, "care")}
	if err := os.Mkdir(f.care, 0o755); err != nil {
		t.Fatal(err)
	}
	f.address = testenv.Ferry(t, f.root, f.packages)
	return f
}

// everyday are the journeys that are gone through also where no servers were set up.
var everyday = []string{
	"TestVisitorsWritesSurviveGoingBack", "TestRestoreMakesEverythingEqual", "TestJSONOfAnUpdate", "TestEveryReasonAtOnce", "TestExportIsReadableWithoutWetland",
}

// adopted lays out the demo site and adopts it.
func adopted(t testing.TB) *ferry {
	t.Helper()
	f := layOut(t)
	f.run(t, "adopt", f.root, "--address", f.address, "--name", "Otterby Ferry", "--no-browser").want(t, 0)
	return f
}

func (f *ferry) run(t testing.TB, args ...string) result {
	t.Helper()
	return wetland(t, f.care, args...)
}

func (f *ferry) pkg(name string) string { return filepath.Join(f.packages, name+".zip") }

// tree reads the files below root, without what changes by itself.
func tree(t *testing.T, root string, without ...string) files.Tree {
	t.Helper()
	read, err := files.ReadTree(t.Context(), filestest.Whole(t), root, files.Scope{LeaveOut: without})
	if err != nil {
		t.Fatal(err)
	}
	return read
}

// siteTree is the demo site without its cache and database.
func (f *ferry) siteTree(t *testing.T) files.Tree {
	return tree(t, f.root, "cache", "data")
}

// same fails unless the trees are equal in every byte, mode and owner.
func same(t *testing.T, before, now files.Tree) {
	t.Helper()
	for _, differ := range files.Exact.Compare(before, now) {
		t.Errorf("%s: %s", differ.Path, differ.What)
	}
}

// zipOf writes a zip with the given entries, in the order of their names.
func zipOf(t testing.TB, name string, entries map[string]string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	out, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	archive := zip.NewWriter(out)
	names := make([]string, 0, len(entries))
	for name := range entries {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		w, err := archive.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, entries[name]); err != nil {
			t.Fatal(err)
		}
	}
	if err := archive.Close(); err != nil {
		t.Fatal(err)
	}
	if err := out.Close(); err != nil {
		t.Fatal(err)
	}
	return file
}

// entriesOf reads a folder into zip entries below the folder name.
func entriesOf(t testing.TB, folder, name string) map[string]string {
	t.Helper()
	entries := map[string]string{}
	err := filepath.WalkDir(folder, func(at string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := os.ReadFile(at)
		rel, _ := filepath.Rel(folder, at)
		entries[path.Join(name, filepath.ToSlash(rel))] = string(text)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return entries
}

// inGroup has a command begin a group of processes of its own.
func inGroup(command *exec.Cmd) { command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// signalAll sends a signal to a command and all that it started, as a terminal does.
func signalAll(command *exec.Cmd, signal syscall.Signal) {
	_ = syscall.Kill(-command.Process.Pid, signal) // whoever has ended gets none
}

// childOf is the process in which a command does its work; 0 if there is none.
func childOf(command *exec.Cmd) (child int) {
	// Each thread lists those that it started.
	threads, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", command.Process.Pid))
	for _, thread := range threads {
		text, _ := os.ReadFile(thread)
		if n, _ := fmt.Sscan(string(text), &child); n == 1 {
			return child
		}
	}
	return 0
}

// killChild sends a signal to the process in which a command does its work.
func killChild(t *testing.T, command *exec.Cmd, signal syscall.Signal) {
	t.Helper()
	child := childOf(command)
	if child == 0 {
		t.Fatal("it has no child")
	}
	must(t, syscall.Kill(child, signal))
}

// asOrdinaryUser makes the command run as nobody: root is refused nothing.
func asOrdinaryUser(command *exec.Cmd) {
	command.SysProcAttr = &syscall.SysProcAttr{Credential: &ordinaryUser}
}

var ordinaryUser = syscall.Credential{Uid: 65534, Gid: 65534}

// give gives trees to a user.
func give(t testing.TB, user syscall.Credential, trees ...string) {
	t.Helper()
	for _, tree := range trees {
		must(t, filepath.WalkDir(tree, func(name string, _ fs.DirEntry, err error) error {
			return errors.Join(err, os.Lchown(name, int(user.Uid), int(user.Gid)))
		}))
	}
}

func unzip(t *testing.T, archive, to string) {
	t.Helper()
	reader, err := zip.OpenReader(archive)
	if err != nil {
		t.Fatal(err)
	}
	defer reader.Close()
	if err := os.CopyFS(to, reader); err != nil {
		t.Fatal(err)
	}
}
