package session

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"wetland/core/advice"
	"wetland/core/database"
	"wetland/core/durable"
	"wetland/core/packs"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/snapshot"
	"wetland/core/workspace"
)

// OpenStore opens the workspace's store, with the secret that wetland.toml points to
// if it is sealed.
func OpenStore(ctx context.Context, w *workspace.Workspace, guard Guard) (*packs.Store, error) {
	if w.IsCopy() {
		return openCopys(ctx, w)
	}
	store, err := packs.Open(ctx, w.Store(), unlockOf(w, guard))
	switch {
	case errors.Is(err, packs.ErrSealed):
		return nil, fmt.Errorf("%w, and %s does not say where its passphrase or key is. Add: [store] unlock_with = \"ask\""+
			" (or \"env NAME\", \"file PATH\", \"keys PATH\")", err, workspace.ConfigName)
	case errors.Is(err, packs.ErrNotSealed):
		return nil, advice.With(fmt.Errorf("%w, though %s names a secret for it ([store] unlock_with). Nothing was written"+
			" there: what comes would lie open. If the workspace is not new, its store was moved away or exchanged: find out"+
			" who did that, and put it back", err, workspace.ConfigName),
			advice.Lead("If the workspace is new, seal its store first:", advice.SealStore, w.Config.Store.UnlockWith))
	case errors.Is(err, packs.ErrWrongKey):
		return nil, fmt.Errorf("%w. Nothing is damaged: look at [store] unlock_with in %s", err, workspace.ConfigName)
	}
	if err != nil {
		return nil, err
	}
	if err := tellStranger(w, store, guard); err != nil {
		return nil, errors.Join(err, store.Close())
	}
	return store, nil
}

// openCopys opens the store of a private copy, on top of the site's where that is open to it.
func openCopys(ctx context.Context, w *workspace.Workspace) (store *packs.Store, err error) {
	if below := w.Beneath(); below != "" {
		store, err = packs.OpenOver(ctx, w.Store(), below)
	} else {
		store, err = packs.Open(ctx, w.Store(), nil)
	}
	if err == nil {
		store.Begin = packs.OfCopy
	}
	return store, err
}

// tellStranger tells of a store that is not the one that this workspace began. Which that is, the
// workspace notes beside it.
func tellStranger(w *workspace.Workspace, store *packs.Store, guard Guard) error {
	if store.Name() == "" {
		return nil
	}
	noted, err := os.ReadFile(w.StoreName())
	if errors.Is(err, fs.ErrNotExist) {
		_ = durable.WriteFile(w.StoreName(), []byte(store.Name()+"\n")) // it is noted when it can be
		return nil
	}
	if err != nil {
		return err
	}
	if strings.TrimSpace(string(noted)) != store.Name() && guard.Report != nil {
		guard.Report.End(progress.Doubt, "store", fmt.Sprintf("%s is not the store that this workspace began: that one is"+
			" gone, and whoever put this one there may have made or changed all that is in it. If that was you: rm %s",
			w.Store(), phrase.ShellQuote(w.StoreName())))
	}
	return nil
}

// TellOrigin tells of a snapshot that was made in another store than the one it lies in.
func TellOrigin(store *packs.Store, m *snapshot.Manifest, guard Guard) {
	if m.Store != "" && m.Store != store.Name() {
		guard.Report.End(progress.Doubt, "origin", m.Name+" was made in another store and put into this one: whoever did"+
			" that may have changed it")
	}
}

// OpenSnapshot opens the workspace's store and loads one of its snapshots. Close the
// store when done.
func OpenSnapshot(
	ctx context.Context, w *workspace.Workspace, name string, guard Guard,
) (*packs.Store, *snapshot.Manifest, error) {
	store, err := OpenStore(ctx, w, guard)
	if err != nil {
		return nil, nil, err
	}
	m, err := snapshot.Load(ctx, store, name)
	if err != nil {
		return nil, nil, errors.Join(err, store.Close())
	}
	TellOrigin(store, m, guard)
	return store, m, nil
}

// unlockOf returns what finds the secret of the store; nil if wetland.toml names none.
func unlockOf(w *workspace.Workspace, guard Guard) packs.Unlock {
	with := w.Config.Store.UnlockWith
	if with == "" {
		return nil
	}
	return func() (packs.Secret, error) { return ReadStoreSecret(with, guard) }
}

// ReadStoreSecret follows "env NAME", "file PATH", "keys PATH" or "ask".
func ReadStoreSecret(with string, guard Guard) (packs.Secret, error) {
	const setting = "unlock_with"
	if with == workspace.AskForKey {
		if guard.AskSecret == nil {
			return packs.Secret{}, fmt.Errorf("%s says to ask a person, and nobody is at a terminal. For use without a"+
				" person, say there \"env NAME\", \"file PATH\" or \"keys PATH\"", setting)
		}
		text, err := guard.AskSecret("Passphrase of the store")
		return packs.Secret{Passphrase: text}, err
	}
	if name, isKeys := strings.CutPrefix(with, "keys "); isKeys {
		if _, err := workspace.ReadSecret(setting, "file "+name); err != nil {
			return packs.Secret{}, err // also if others may read it
		}
		file, err := os.Open(name)
		if err != nil {
			return packs.Secret{}, err
		}
		defer file.Close()
		return packs.ReadKeys(file)
	}
	text, err := workspace.ReadSecret(setting, with)
	return packs.Secret{Passphrase: text}, err
}

// Seal seals the workspace's store, which must be new, or gives a sealed one another
// secret.
func Seal(ctx context.Context, w *workspace.Workspace, secret packs.Secret, guard Guard) error {
	err := packs.Seal(ctx, w.Store(), unlockOf(w, guard), secret)
	if errors.Is(err, packs.ErrNotEmpty) {
		return fmt.Errorf("%w. Move %s away, keep it as long as you need its snapshots, and seal a new one", err, w.Store())
	}
	if err == nil { // it is this workspace's own: it is noted anew
		err = os.RemoveAll(w.StoreName())
	}
	return err
}

// mostRetakes is how often a snapshot is taken anew because old blocks that it rests on turned out to be rotten.
const mostRetakes = 3

// TakeToReturn takes a snapshot to which a run may go back: all that this would need is read back before anything is
// touched, also what older snapshots stored. Of what is rotten it takes another one, which stores that anew.
func (s *Session) TakeToReturn(ctx context.Context, of snapshot.Subject) (*snapshot.Manifest, error) {
	for range mostRetakes {
		manifest, err := s.TakeOf(ctx, of)
		if err != nil || s.Site.Workspace.IsCopy() {
			return manifest, err
		}
		missing, err := snapshot.ProveNeeded(ctx, s.Store, manifest, of.Replaced, s.Report)
		if err != nil {
			return nil, fmt.Errorf("read back what going back would need: %w", err)
		}
		if missing == 0 {
			return manifest, nil
		}
		s.tellRot(phrase.Plural(missing, "old block") + " that " + manifest.Name + " rests on")
	}
	return nil, errors.New("old blocks of the store keep turning out to be damaged, also those just written: the disk" +
		" of the store" +
		" cannot be relied on. Nothing was touched")
}

// ProveAhead reads back, beside other work, what going back to the newest snapshot would need: the next one rests on
// it. wait waits for that, and tells what was found.
func (s *Session) ProveAhead(ctx context.Context, places []string) (wait func() error) {
	var missing int
	var err error
	done := make(chan struct{})
	go func() {
		defer close(done)
		newest := snapshot.Newest(ctx, s.Store)
		if newest == nil || s.Site.Workspace.IsCopy() {
			return
		}
		missing, err = snapshot.ProveNeeded(ctx, s.Store, newest, places, progress.Silent{})
	}()
	return func() error {
		<-done
		if missing > 0 {
			s.tellRot(phrase.Plural(missing, "old block"))
		}
		return err
	}
}

// proveByTurns reads old blocks of the store back, by turns.
func (s *Session) proveByTurns(ctx context.Context) error {
	if s.Site.Workspace.IsCopy() {
		return nil
	}
	s.Report.Begin("reading old snapshots back", 0, "bytes")
	due, err := s.Store.ProveDue(ctx, s.Site.Workspace.Config.Retention.ProvesEveryDays(), s.Report)
	if err != nil {
		return fmt.Errorf("read old blocks of the store back: %w", err)
	}
	if due.Rotten > 0 {
		s.tellRot(phrase.Plural(due.Rotten, "old block"))
	}
	return nil
}

func (s *Session) tellRot(what string) {
	s.Report.End(progress.Doubt, "store", what+" cannot be read back as written: the disk lost bytes. What the site"+
		" still has"+
		" of that is stored anew; the history shows which snapshots are damaged")
}

// Recall has the site's database know the rows that the store has: they do not travel. The hashes of a
// sealed store are not those of its bytes alone, and it spares no rows.
func (s *Session) Recall() {
	able, ok := s.DB.(database.Recaller)
	if ok && s.Store != nil && s.Store.Seal == nil {
		able.Recall(knownRows{s.Store})
	}
}

// knownRows are the runs of rows of a store.
type knownRows struct{ store *packs.Store }

func (k knownRows) Has(hash [32]byte) bool { return k.store.Has(packs.ID(hash)) }

func (k knownRows) Rows(ctx context.Context, hash [32]byte) ([]byte, error) {
	return k.store.Piece(ctx, packs.ID(hash))
}
