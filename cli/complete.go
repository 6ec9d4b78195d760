package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wetland/core/archive"
	"wetland/core/packages"
	"wetland/core/runs"
	"wetland/core/visible"
	"wetland/core/workspace"
)

// What the shell offers to complete. It is read from the workspace's own folders: no
// database, no network, no passphrase.

// completion is what cobra asks for.
type completion = func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective)

// offer completes with what names lists, each once, and with files where they are meant, too.
func (a *app) offer(most int, files bool, names func(*workspace.Workspace) []string) completion {
	return func(_ *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		how := cobra.ShellCompDirectiveNoFileComp
		if files {
			how = cobra.ShellCompDirectiveDefault
		}
		if most > 0 && len(args) >= most {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		w, err := a.load()
		if err != nil {
			return nil, how
		}
		var offered []string
		for _, name := range names(w) {
			word, _, _ := strings.Cut(name, "\t")
			if strings.HasPrefix(name, begun) && !slices.Contains(args, word) && !slices.Contains(offered, name) {
				offered = append(offered, name)
			}
		}
		return offered, how | cobra.ShellCompDirectiveKeepOrder
	}
}

// offerThenFolder completes the first argument with names, and the second with folders.
func (a *app) offerThenFolder(names func(*workspace.Workspace) []string) completion {
	first := a.offer(1, false, names)
	return func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		if len(args) == 1 {
			return nil, cobra.ShellCompDirectiveFilterDirs
		}
		return first(cmd, args, begun)
	}
}

// completeFlag gives a flag of the command its completion.
func completeFlag(command *cobra.Command, name string, offer completion) {
	if err := command.RegisterFlagCompletionFunc(name, offer); err != nil {
		panic(err) // there is no such flag: a mistake in this program
	}
}

// onShelf lists the packages at hand, as NAME@VERSION.
func onShelf(w *workspace.Workspace) []string {
	entries, err := packages.Shelf{Dir: w.Shelf()}.List()
	if err != nil {
		return nil // what is wrong is told when the command runs
	}
	var names []string
	for _, entry := range entries {
		names = append(names, entry.Title())
	}
	return names
}

// snapshots lists the snapshots, newest first.
func snapshots(w *workspace.Workspace) []string {
	names, err := archive.SnapshotNames(context.Background(), w)
	if err != nil {
		return nil
	}
	slices.Reverse(names)
	return names
}

// runNames lists the runs, newest first, with what each was for.
func runNames(w *workspace.Workspace) []string {
	all, err := runs.Readable(w)
	if err != nil {
		return nil
	}
	var names []string
	for _, run := range slices.Backward(all) {
		names = append(names, run.Name+"\t"+visible.Line(run.Title()+": "+string(run.State)))
	}
	return names
}

// parts lists what --only of a restore can name.
func parts(w *workspace.Workspace) []string {
	return append([]string{"files", "database"}, archive.ComponentNames(w)...)
}

// wanted lists what a restore can bring back.
func wanted(w *workspace.Workspace) []string { return append(snapshots(w), onShelf(w)...) }
