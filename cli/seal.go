package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"wetland/core/advice"
	"wetland/core/session"
	"wetland/core/workspace"
)

func (a *app) sealCommand() *cobra.Command {
	with := workspace.AskForKey
	command := &cobra.Command{
		Use:   "seal",
		Short: "Encrypt the store of snapshots, or change its passphrase",
		Long: `Seal the workspace's store: everything in it is encrypted from then on, and only your
passphrase or key file opens it. A store that holds snapshots already cannot be
sealed afterwards. One that is sealed gets the new passphrase or key; nothing else
in it has to be rewritten. Whoever loses the passphrase loses the snapshots.

--with takes "ask", "env NAME" or "file PATH" for a passphrase, or "keys PATH" for an
age key file. [store] unlock_with in wetland.toml takes the same, and says how every
other command opens the store.`,
		Example: `  wetland seal
  wetland seal --with "file /etc/wetland/ferry.passphrase"`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			guard := a.reader(cmd.Context())
			old := guard
			if guard.AskSecret != nil {
				guard.AskSecret = a.newPassphrase(cmd.Context())
			}
			secret, err := session.ReadStoreSecret(with, guard)
			if err != nil {
				return err
			}
			if err := session.Seal(cmd.Context(), w, secret, old); err != nil {
				return err
			}
			if a.json {
				a.writeJSON(sealDocument{Sealed: w.Store()})
				return nil
			}
			a.screen.Paragraph(a.screen.Good("Sealed."), "Keep the passphrase or key in a second place: without it the snapshots are lost.")
			if w.Config.Store.UnlockWith != with {
				a.screen.Next(advice.Do(fmt.Sprintf("Write into %s, so that every command can open the store:  [store] unlock_with = %q", workspace.ConfigName, with)))
			}
			return nil
		},
	}
	command.Flags().StringVar(&with, "with", with, "where the passphrase or key is: ask, \"env NAME\", \"file PATH\" or \"keys PATH\"")
	return command
}

// newPassphrase asks twice.
func (a *app) newPassphrase(ctx context.Context) func(string) (string, error) {
	return func(string) (string, error) {
		first, err := a.secret(ctx, "New passphrase (not shown): ")
		if err != nil {
			return "", err
		}
		second, err := a.secret(ctx, "Once more: ")
		switch {
		case err != nil:
			return "", err
		case first != second:
			return "", errors.New("the two are not the same; nothing was changed")
		case len(first) < 8:
			return "", errors.New("a passphrase of less than 8 characters is too easy to guess; nothing was changed")
		}
		return first, nil
	}
}
