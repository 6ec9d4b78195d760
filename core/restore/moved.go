package restore

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"wetland/core/advice"
	"wetland/core/durable"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
	"wetland/core/workspace"
)

// A site is not its folder: it may move to another one, to another address or to another
// host. What it holds tells that it is the same.

// Kinship is what speaks for a site's being the one of a snapshot, and what against it.
type Kinship struct {
	For     []string `json:"for"`
	Against []string `json:"against"`
}

// Same tells whether enough speaks for it: two signs, and fewer against it.
func (k Kinship) Same() bool { return len(k.For) >= 2 && len(k.For) > len(k.Against) }

func (k *Kinship) add(yes bool, what string) {
	if yes {
		k.For = append(k.For, what)
	} else {
		k.Against = append(k.Against, what)
	}
}

// Bounds of what is compared to recognise a site.
const (
	mostKinFiles  = 400 // files whose presence and size is looked at
	kinShare      = 60  // percent of files, or of tables, from which on they are taken for the same
	leastKinFiles = 5
)

// kinship compares the site with a snapshot, by what it holds.
func kinship(ctx context.Context, s *session.Session, m *snapshot.Manifest) (Kinship, error) {
	var k Kinship
	system := func(title string) string { name, _, _ := strings.Cut(title, " "); return name }
	if system(s.Site.CMS.System()) != system(m.System) {
		k.Against = append(k.Against, fmt.Sprintf("it is made with %s, and the snapshot's with %s", s.Site.CMS.System(), m.System), "so that nothing else counts")
		return k, nil
	}
	if s.Site.Address.String() == m.Address {
		k.For = append(k.For, "its address is the same")
	}
	there, looked := sameFiles(ctx, s, m)
	if looked >= leastKinFiles {
		k.add(there*100 >= looked*kinShare, fmt.Sprintf("%d of %d files that were looked at are there, of the same size", there, looked))
	}
	if s.DB == nil || len(m.Tables) == 0 {
		return k, nil
	}
	moment, err := s.DB.Read(ctx)
	if err != nil {
		return k, fmt.Errorf("read the database: %w", err)
	}
	names := map[string]bool{}
	for _, table := range moment.Tables() {
		names[table.Name] = true
	}
	same := 0
	for _, table := range m.Tables {
		if names[table.Name] {
			same++
		}
	}
	k.add(same*100 >= len(m.Tables)*kinShare, fmt.Sprintf("%d of its %s are there", same, phrase.Plural(len(m.Tables), "table")))
	return k, moment.Close()
}

// sameFiles counts how many of some files of the snapshot are on the site in the same size.
// The CMS's own are in every site of its kind: only uploads, themes, plugins and settings count.
func sameFiles(ctx context.Context, s *session.Session, m *snapshot.Manifest) (there, looked int) {
	for _, area := range rebased(s, m) {
		for _, item := range area.Items {
			at := path.Join(area.Path, item.Path)
			layout := s.Site.CMS.Layout()
			_, inHome := layout.HomeAround(at)
			own := files.Below(at, layout.Uploads) || inHome || !strings.Contains(item.Path, "/")
			if item.Kind != files.File || item.Size == 0 || !own || looked == mostKinFiles {
				continue
			}
			looked++
			if entry, err := s.Site.Files.Lstat(ctx, at); err == nil && entry.Size == item.Size {
				there++
			}
		}
	}
	return there, looked
}

// rebased returns the snapshot's areas with the paths that the site has them at now.
func rebased(s *session.Session, m *snapshot.Manifest) []snapshot.Area {
	areas := slices.Clone(m.Areas)
	for i := range areas {
		for _, now := range s.Site.CMS.Layout().Areas {
			if now.Name == areas[i].Name {
				areas[i].Path = now.Path
			}
		}
	}
	return areas
}

// rebase makes a snapshot one of the site where it is now.
func rebase(s *session.Session, m *snapshot.Manifest) {
	m.Areas = rebased(s, m)
	m.Layout, m.Root = s.Site.CMS.Layout(), s.Site.Place()
}

// acceptRoot makes sure that a snapshot that was taken in another folder is of this site, and
// takes it for one of its folder now.
func (r *restoration) acceptRoot(ctx context.Context, why *runs.Reasons) error {
	m := r.manifest
	if m.Root == r.Site.Place() {
		return nil
	}
	moves, err := loadMoves(r.Site.Workspace)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(moves, func(move Move) bool { return move.From == m.Root }) {
		if r.DB, err = r.Site.OpenDatabase(ctx); err != nil {
			r.DB = nil // files and address speak, too
		}
		k, err := kinship(ctx, r.Session, m)
		if r.DB != nil {
			err = errors.Join(err, r.DB.Close())
			r.DB = nil
		}
		if err != nil {
			return err
		}
		if !k.Same() {
			why.Advise(fmt.Sprintf("%s is a snapshot of the site in %s, and %s does not seem to be the same one: %s", m.Name, m.Root, r.Site.Place(), phrase.List(append(k.Against, k.For...), 4)), advice.Lead("Restore it from the workspace of its own site. If the site was moved and this is it:", advice.MovedSurely, r.Site.Place()))
			return nil
		}
		r.Report.End(progress.Note, "moved", fmt.Sprintf("%s was taken in %s. This is the same site: %s", m.Name, m.Root, phrase.List(k.For, 4)))
	}
	rebase(r.Session, m)
	return nil
}

// acceptFolders makes sure that nothing is written elsewhere than to the site's own folders: what
// a snapshot says of them, whoever made its store could have written. Where the site itself cannot
// tell its folders any more, they are those below its root.
func (r *restoration) acceptFolders(why *runs.Reasons) {
	if r.options.AllowElsewhere {
		return
	}
	m, own := r.manifest, r.Site.Areas()
	var elsewhere []string
	for _, area := range m.Areas {
		i := slices.IndexFunc(own, func(a cms.Area) bool { return a.Name == area.Name })
		is := !r.remembered && i >= 0 && own[i].Path == area.Path && own[i].Only == area.Only
		if !is && (!r.remembered || !files.Within(area.Path, host.FolderOf(m.Root))) {
			elsewhere = append(elsewhere, path.Join(area.Path, area.Only))
		}
	}
	if r.remembered {
		for _, folder := range m.Layout.Folders() {
			if !files.Within(folder, host.FolderOf(m.Root)) && !slices.Contains(elsewhere, folder) {
				elsewhere = append(elsewhere, folder)
			}
		}
	}
	if len(elsewhere) > 0 {
		why.Advise(fmt.Sprintf("%s holds what was in %s, and the site as it is has nothing there", m.Name, phrase.List(elsewhere, 4)),
			advice.Lead("If its folders were moved since, and you trust this store:", advice.RestoreForeign, m.Name),
			advice.Lead("Else make a copy beside the site:", advice.RestoreElsewhere, m.Name))
	}
}

// Move is a change of a site's folder that a person has confirmed.
type Move struct {
	From string    `json:"from"`
	To   string    `json:"to"`
	Who  string    `json:"who"`
	At   time.Time `json:"at"`
}

func movesFile(w *workspace.Workspace) string { return filepath.Join(w.Dir, "moves.json") }

func loadMoves(w *workspace.Workspace) ([]Move, error) {
	return durable.ReadJSONIfAny[[]Move](movesFile(w))
}

// MoveOptions say where a site is now.
type MoveOptions struct {
	session.Guard
	Root    string // its folder now
	Address string // "": as it was
	Sure    bool   // though little speaks for its being the same site
}

// Moved is what came of following a site to its new place.
type Moved struct {
	From    string  `json:"from"`
	To      string  `json:"to"`
	Address string  `json:"address"`
	Against string  `json:"snapshot,omitempty"` // the snapshot that it was compared with
	Kinship Kinship `json:"evidence"`
}

// FollowMove writes into wetland.toml where a site is now, after it was compared with the
// newest snapshot. It returns a *Refusal where it seems to be another site. Nothing on the
// site is touched.
func FollowMove(ctx context.Context, w *workspace.Workspace, o MoveOptions) (*Moved, error) {
	root := o.Root
	if root == "" {
		root = w.Config.Site.Root
	}
	if !workspace.IsElsewhere(root) {
		var err error
		if root, err = filepath.Abs(root); err != nil {
			return nil, err
		}
	}
	moved := &Moved{From: w.Config.Site.Root, To: root, Address: w.Config.Site.Address}
	if o.Address != "" {
		address, err := workspace.ParseAddress(o.Address)
		if err != nil {
			return nil, fmt.Errorf("--address: %w", err)
		}
		moved.Address = address.String()
	}
	next, err := w.At(moved.To, moved.Address)
	if err != nil {
		return nil, err
	}
	if err := moved.compare(ctx, next, o); err != nil {
		return nil, err
	}
	return moved, moved.write(w)
}

// compare holds the site at its new place against the newest snapshot.
func (moved *Moved) compare(ctx context.Context, w *workspace.Workspace, o MoveOptions) (err error) {
	var why runs.Reasons
	s, err := session.Open(ctx, w, o.Guard, &why)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	if s.Store == nil {
		return why.Refusal()
	}
	moved.To = s.Site.Place()
	names, err := s.Store.Names(ctx)
	if err != nil || len(names) == 0 {
		return err // nothing to compare with, and nothing to restore
	}
	m, err := snapshot.Load(ctx, s.Store, names[len(names)-1])
	if err != nil {
		return err
	}
	moved.Against, moved.From = m.Name, m.Root
	if moved.Kinship, err = kinship(ctx, s, m); err != nil {
		return err
	}
	if !moved.Kinship.Same() && !o.Sure {
		why = nil
		why.Advise(fmt.Sprintf("%s does not seem to be the site of %s: %s", s.Site.Place(), m.Name, phrase.List(append(moved.Kinship.Against, moved.Kinship.For...), 4)), advice.Lead("If you know that it is, add --sure. Another site needs a workspace of its own:", advice.AdoptSite, s.Site.Place()))
		return why.Refusal()
	}
	return nil
}

// A setting's line of wetland.toml, up to its comment.
var settingLine = map[string]*regexp.Regexp{
	"root":    regexp.MustCompile(`(?m)^(\s*root\s*=\s*)("(?:[^"\\\n]|\\.)*"|'[^'\n]*')`),
	"address": regexp.MustCompile(`(?m)^(\s*address\s*=\s*)("(?:[^"\\\n]|\\.)*"|'[^'\n]*')`),
}

// write notes the move, and changes the two settings in wetland.toml; all else in it stays.
func (moved *Moved) write(w *workspace.Workspace) error {
	file := filepath.Join(w.Dir, workspace.ConfigName)
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	for key, value := range map[string]string{"root": moved.To, "address": moved.Address} {
		at := settingLine[key].FindSubmatchIndex(text) // the first of that name is the site's
		if at == nil {
			return fmt.Errorf("%s has no line for %s that can be changed: write it by hand", file, key)
		}
		text = slices.Concat(text[:at[4]], []byte(workspace.Quote(value)), text[at[5]:])
	}
	config, err := workspace.ReadConfig(text)
	if err != nil || config.Site.Root != moved.To || config.Site.Address != moved.Address {
		return errors.Join(fmt.Errorf("%s cannot be changed by itself: write root and address by hand", file), err)
	}
	moves, err := loadMoves(w)
	if err != nil {
		return err
	}
	if moved.From != moved.To {
		moves = append(moves, Move{From: moved.From, To: moved.To, Who: runs.WhoAmI(), At: time.Now().UTC()})
		if err := durable.SaveJSON(movesFile(w), moves); err != nil {
			return err
		}
	}
	if err := durable.WriteFile(file, text); err != nil {
		return fmt.Errorf("write %s: %w", file, err)
	}
	return nil
}
