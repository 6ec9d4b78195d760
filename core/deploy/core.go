package deploy

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// gateAhead is how far in the future the time of a gate is.
const gateAhead = time.Hour

// gateSuffix ends the names of what takes turns with the loader.
const gateSuffix = ".gate-"

// errNoCore says that a CMS cannot be replaced. Nothing gets that far.
var errNoCore = errors.New("this CMS cannot be replaced by another version of itself")

func coreOf(s *session.Session) (cms.CoreFiles, error) {
	core, ok := s.Site.CMS.(cms.Replaceable)
	if !ok {
		return cms.CoreFiles{}, errNoCore
	}
	return core.Core(), nil
}

// ReplaceCore puts the parts of the CMS in place, behind the gate. ready is called once all but the loader is in
// place; then that is, too, and the new version answers.
func ReplaceCore(ctx context.Context, s *session.Session, c *Change, ready func(context.Context) error) error {
	if err := CloseGate(ctx, s, c); err != nil {
		return err
	}
	return s.Step("swap", 0, "", func() (progress.Mark, string, error) {
		core, err := coreOf(s)
		if err != nil {
			return progress.Bad, "", err
		}
		if err := c.putParts(ctx, s, core, c.NewTree, nil); err != nil {
			return progress.Bad, "", err
		}
		if err := ready(ctx); err != nil {
			return progress.Bad, "", err
		}
		if err := OpenGate(ctx, s, c, c.NewTree, nil); err != nil {
			return progress.Bad, "", err
		}
		if !IsNew(ctx, s, c) {
			return progress.Bad, "", fmt.Errorf("%s is not as the package brings it after it was put in place", c.Target.Name)
		}
		return progress.Good, fmt.Sprintf("behind the gate, which stood for %s", phrase.Live(s.Run.Gate)), nil
	})
}

// CloseGate puts the gate up, unless it is, and waits until no request runs that loaded the CMS before, and no
// compiled loader is in use any more.
func CloseGate(ctx context.Context, s *session.Session, c *Change) error {
	core, err := coreOf(s)
	if err != nil {
		return err
	}
	if err := c.keepStaging(ctx, s); err != nil {
		return err
	}
	return s.Step("gate", 0, "", func() (progress.Mark, string, error) {
		up, err := gateIsUp(ctx, s, core)
		if err == nil && !up {
			s.GateSince = time.Now()
			err = c.putGate(ctx, s, core)
		}
		if err != nil {
			return progress.Bad, "", fmt.Errorf("put up the gate: %w", err)
		}
		wait := max(running, s.Site.SettleTime())
		if where := s.Site.Workspace.Config.Site.PHPPool; where != "" && nothingCompiled(dropCode(ctx, s, where)) {
			wait = running
		}
		if err := s.Clock.Wait(ctx, wait); err != nil {
			return progress.Bad, "", err
		}
		page, _, _ := s.Fetcher.Fetch(ctx, "/") // where nothing comes, it is waited
		s.GateForgets = core.Forgets != "" && strings.Contains(string(page), core.Forgets)
		return progress.Good, fmt.Sprintf("visitors are told to come back in a moment; waited %s for requests and compiled code", wait), nil
	})
}

// gateIsUp tells whether the loader is a gate of ours.
func gateIsUp(ctx context.Context, s *session.Session, core cms.CoreFiles) (bool, error) {
	return begins(ctx, s, path.Join(core.Root, core.Loader), core.GateMark())
}

// GateIsUp tells whether a gate of ours stands before the site.
func GateIsUp(ctx context.Context, s *session.Session) bool {
	core, err := coreOf(s)
	if err != nil {
		return false
	}
	up, _ := gateIsUp(ctx, s, core)
	return up
}

// putGate exchanges the loader with a gate that is like it.
func (c *Change) putGate(ctx context.Context, s *session.Session, core cms.CoreFiles) error {
	loader := path.Join(core.Root, core.Loader)
	like, err := s.Site.Files.Lstat(ctx, loader)
	if errors.Is(err, fs.ErrNotExist) {
		like, err = s.Site.Files.Lstat(ctx, core.Root)
		like.Mode = 0o644
	}
	if err != nil {
		return err
	}
	gate := c.Staged + gateSuffix + strings.ToLower(rand.Text()[:8])
	file, err := s.Site.Files.Create(ctx, gate, files.Attributes{Mode: like.Mode, Owner: like.Owner, Group: like.Group})
	if err != nil {
		return err
	}
	_, err = file.Write([]byte(core.Gate))
	if err = errors.Join(err, file.Close()); err != nil {
		return err
	}
	// PHP does not keep files compiled that seem to be written just now (opcache.file_update_protection in its manual).
	ahead := files.Attributes{Mode: like.Mode, Owner: like.Owner, Group: like.Group, Modified: s.Site.Host.Now().Add(gateAhead).Truncate(time.Second)}
	if err := s.Site.Files.Settle(ctx, gate, ahead); err != nil {
		return err
	}
	_, err = swapAnyway(ctx, s, loader, gate)
	return err
}

// OpenGate puts the wanted tree's loader in place, which ends the gate. from makes a tree that is nowhere any more;
// nil: it waits for certain.
func OpenGate(ctx context.Context, s *session.Session, c *Change, want files.Tree, from func() (string, error)) error {
	core, err := coreOf(s)
	if err != nil {
		return err
	}
	if GateIsUp(ctx, s) {
		if err := ForgetBehindGate(ctx, s); err != nil {
			return err
		}
	}
	if err := c.putPart(ctx, s, core.Loader, want, from); err != nil {
		return fmt.Errorf("take down the gate: %w", err)
	}
	if !s.GateSince.IsZero() {
		s.Run.Gate += time.Since(s.GateSince)
		s.GateSince = time.Time{}
	}
	return nil
}

// putParts puts all parts in place as in a tree, but for the loader. Files come first: they are what visitors ask for,
// and lead to the gate.
func (c *Change) putParts(ctx context.Context, s *session.Session, core cms.CoreFiles, want files.Tree, from func() (string, error)) error {
	for _, folders := range []bool{false, true} {
		for _, name := range c.Target.Parts {
			if name == core.Loader || slices.Contains(core.Folders, name) != folders {
				continue
			}
			if err := c.putPart(ctx, s, name, want, from); err != nil {
				return err
			}
		}
		if !folders {
			if err := WaitBehindGate(ctx, s); err != nil {
				return err
			}
		}
	}
	return nil
}

// ForgetBehindGate has PHP drop what it keeps compiled of the CMS's folders, once they are exchanged: scripts that do not
// pass the gate go on loading files of them. Where PHP may not, it is waited until that has expired.
func ForgetBehindGate(ctx context.Context, s *session.Session) error {
	core, err := coreOf(s)
	if err != nil {
		return err
	}
	if where := s.Site.Workspace.Config.Site.PHPPool; where != "" && nothingCompiled(dropCode(ctx, s, where)) {
		return nil
	}
	if core.Forget != "" {
		page, _, _ := s.Fetcher.Fetch(ctx, core.Forget) // where nothing comes, it is waited
		if strings.Contains(string(page), core.Forgets) {
			return nil
		}
	}
	return s.Clock.Wait(ctx, s.Site.SettleTime())
}

// WaitBehindGate waits until no script that leads to the gate is answered by its compiled code any more.
func WaitBehindGate(ctx context.Context, s *session.Session) error {
	if s.GateForgets {
		return nil
	}
	return s.Clock.Wait(ctx, s.Site.SettleTime())
}

// putPart puts one part of the CMS in place as in a tree, unless it is so.
func (c *Change) putPart(ctx context.Context, s *session.Session, name string, want files.Tree, from func() (string, error)) error {
	_, err := c.exchangePart(ctx, s, name, want, from, swapAnyway)
	return err
}

// findPart finds where a part waits.
func (c *Change) findPart(ctx context.Context, s *session.Session, name string, wanted files.Tree, from func() (string, error)) (string, error) {
	if c.Staged != "" {
		if c.partIs(ctx, s, c.Staged, name, wanted) {
			return path.Join(c.Staged, name), nil
		}
		folder, begin := path.Split(c.Staged)
		entries, err := s.Site.Files.List(ctx, folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		for _, entry := range entries { // a loader that made room for a gate, or a file that went
			if entry.Kind == files.File && strings.HasPrefix(entry.Name, begin+".") && isFile(ctx, s, path.Join(folder, entry.Name), wanted) {
				return path.Join(folder, entry.Name), nil
			}
		}
	}
	if from == nil {
		return "", fmt.Errorf("%s waits nowhere", name)
	}
	made, err := from()
	return path.Join(made, name), err
}

// partIs tells whether a part is at a place as it is wanted; an empty tree is a part that is not there.
func (c *Change) partIs(ctx context.Context, s *session.Session, at, name string, wanted files.Tree) bool {
	present, err := cms.Stand{Folder: at, Parts: []string{name}}.Read(ctx, s.Site.Files)
	return err == nil && len(files.Exact.Compare(wanted, present)) == 0
}

// isFile tells whether a file is the only one of a tree.
func isFile(ctx context.Context, s *session.Session, at string, wanted files.Tree) bool {
	if len(wanted) != 1 || wanted[0].Kind != files.File {
		return false
	}
	hash, size, err := files.HashFile(ctx, s.Site.Files, at)
	return err == nil && hash == wanted[0].Hash && size == wanted[0].Size
}

// returnCore puts back all parts of the CMS as they were, behind the gate that was closed for that. It stays up:
// ReopenCore opens it once the tables are back, too.
func returnCore(ctx context.Context, s *session.Session, c *Change, from *snapshot.Manifest) (proved, how string, err error) {
	count, _ := c.OldTree.Total()
	proved = fmt.Sprintf("%s of %s %s equal to %s", phrase.Plural(count, "file"), c.Target.Name, phrase.Version(c.Target.From), from.Name)
	if IsOld(ctx, s, c) {
		return proved, "", nil
	}
	core, err := coreOf(s)
	if err != nil {
		return "", "", err
	}
	if err := c.putParts(ctx, s, core, c.OldTree, c.remake(ctx, s, from)); err != nil {
		return "", "", err
	}
	without := func(tree files.Tree) files.Tree {
		return slices.DeleteFunc(slices.Clone(tree), func(item files.Item) bool { return item.Path == core.Loader })
	}
	present, err := Present(ctx, s, c)
	if err != nil {
		return "", "", err
	}
	if differ := files.Exact.Compare(without(c.OldTree), without(present)); len(differ) > 0 {
		return "", "", fmt.Errorf("%s is not as in %s after it was put back: %s (%s)", c.Target.Name, from.Name, differ[0].Path, differ[0].What)
	}
	return proved, "behind the gate", nil
}

// ReopenCore opens the gate for the version that was there before, and proves that it is whole.
func ReopenCore(ctx context.Context, s *session.Session, c *Change, from *snapshot.Manifest) error {
	if !c.IsCore() {
		return nil
	}
	if err := OpenGate(ctx, s, c, c.OldTree, c.remake(ctx, s, from)); err != nil {
		return err
	}
	if !IsOld(ctx, s, c) {
		return fmt.Errorf("%s is not as in %s after it was put back", c.Target.Name, from.Name)
	}
	return nil
}

// remake writes the old parts anew, once, from a snapshot.
func (c *Change) remake(ctx context.Context, s *session.Session, from *snapshot.Manifest) func() (string, error) {
	made := ""
	return func() (_ string, err error) {
		if made == "" {
			made, err = stageFromSnapshot(ctx, s, c, from)
		}
		return made, err
	}
}
