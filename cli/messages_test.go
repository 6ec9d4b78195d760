package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

var (
	// A command that a message names, up to what explains it or ends the sentence.
	namedCommand = regexp.MustCompile(`\bwetland ([a-z]+)([^"\n]*?)(?:    |\n|$|\. |; )`)
	namedOption  = regexp.MustCompile(`(^|[\s("'|/])--([a-z][a-z-]*[a-z])`)
)

// messages lists the texts in the program's code, with the file that each is in.
func messages(t *testing.T) map[string][]string {
	t.Helper()
	all := map[string][]string{}
	for _, folder := range []string{"../core", "../cli"} {
		err := filepath.WalkDir(folder, func(name string, entry fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.SkipObjectResolution)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(node ast.Node) bool {
				if literal, ok := node.(*ast.BasicLit); ok && literal.Kind == token.STRING {
					if text, err := strconv.Unquote(literal.Value); err == nil {
						all[filepath.ToSlash(name)] = append(all[filepath.ToSlash(name)], text)
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return all
}

// has tells whether a command takes an option, or one of those below it.
func has(command *cobra.Command, option string) bool {
	for _, below := range command.Commands() {
		if has(below, option) {
			return true
		}
	}
	return command.Flags().Lookup(option) != nil || command.InheritedFlags().Lookup(option) != nil || option == "help" || option == "version"
}

// Every option that a message names beside a command exists on that command; one that it names
// alone, on each command that can say it.
func TestOptionsOfMessagesExist(t *testing.T) {
	root := newApp(strings.NewReader(""), io.Discard, io.Discard).command()
	commands := map[string]*cobra.Command{}
	for _, command := range root.Commands() {
		commands[command.Name()] = command
	}
	// What can stand against an update does not stand against a return (Options.Return).
	updateAlone := []string{"allow-older", "allow-same", "allow-major", "lose-edits", "accept-present", "pick", "in-doubt", "search", "notice", "all"}
	says := map[string][]string{
		"../core/update/restore.go": {"restore"}, "../core/update/restore_plan.go": {"restore"}, "../core/update/restore_into.go": {"restore"}, "../core/update/restore_rows.go": {"restore"},
		"../core/adopt/adopt.go": {"adopt"}, "../core/site/workspace.go": {"adopt"}, "../core/site/site.go": {"adopt"},
	}
	checked := 0
	for file, texts := range messages(t) {
		for _, text := range texts {
			rest := text
			for _, found := range namedCommand.FindAllStringSubmatch(text, -1) {
				command, known := commands[found[1]]
				for _, option := range namedOption.FindAllStringSubmatch(found[2], -1) {
					checked++
					if !known || !has(command, option[2]) {
						t.Errorf("%s: wetland %s has no --%s: %q", file, found[1], option[2], text)
					}
				}
				rest = strings.Replace(rest, found[0], " ", 1)
			}
			if strings.HasPrefix(text, "--") { // an argument, no message
				rest = ""
			}
			for _, option := range namedOption.FindAllStringSubmatch(rest, -1) {
				checked++
				for _, name := range saidBy(file, says, option[2], updateAlone) {
					if command := commands[name]; command == nil || !has(command, option[2]) {
						t.Errorf("%s: wetland %s has no --%s: %q", file, name, option[2], text)
					}
				}
			}
		}
	}
	if checked < 40 {
		t.Errorf("only %d options were found in messages", checked)
	}
}

// saidBy lists the commands that can say a message of a file.
func saidBy(file string, says map[string][]string, option string, updateAlone []string) []string {
	switch name := strings.TrimSuffix(filepath.Base(file), ".go"); {
	case file == "../core/update/export.go": // of other programs
		return nil
	case option == "because": // behind "wetland accept" and the run
		return []string{"accept"}
	case file == "../cli/documents.go": // names of documents
		return nil
	case option == "diff":
		return []string{"examine"}
	case option == "sure":
		return []string{"moved"}
	case option == "deep":
		return []string{"verify"}
	case option == "off":
		return []string{"pin"}
	case says[file] != nil:
		return says[file]
	case strings.HasPrefix(file, "../core/update/") && slices.Contains(updateAlone, option):
		return []string{"update"}
	case strings.HasPrefix(file, "../core/update/"):
		return []string{"update", "restore"}
	case strings.HasPrefix(file, "../cli/"):
		root := map[string]string{"shelf": "shelve", "plan": "update", "ask": "update", "complete": "update", "screen": "update", "root": "update"}
		if root[name] != "" {
			return []string{root[name]}
		}
		return []string{name}
	}
	return nil
}
