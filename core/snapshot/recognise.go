package snapshot

import (
	"context"
	"errors"
	"path"

	"wetland/core/files"
	"wetland/core/packs"
)

// Brought is a tree that was brought to the site, so that its bytes are at hand here.
type Brought struct {
	Place  string // where it is now, whole
	Tree   files.Tree
	Source files.Source
}

// atHand is a file that seems to hold bytes that are here.
type atHand struct {
	item    int
	hash    string
	pieces  []packs.ID   // as the newest snapshot has them
	brought *fileBrought // nil: it was not
}

// recognise returns the items that are to be read. The others have bytes that are here already, as the
// hashes say that are made where the files are: they need not travel. Where nothing is hashed so, all are
// read: hashing a file here costs what reading it does.
func (t *taking) recognise(ctx context.Context, top string, items []Item, fresh []int, known func(string) (Item, bool)) (unknown []int, err error) {
	brought := t.brought()
	var seem []atHand
	var names []string
	for _, i := range fresh {
		one := atHand{item: i}
		if new, ok := brought[path.Join(top, items[i].Path)]; ok && new.Size == items[i].Size {
			one.hash, one.brought = new.Hash, &new
		} else if old, ok := known(items[i].Path); ok && old.Kind == files.File && old.Size == items[i].Size && t.hasAll(old.Pieces) {
			one.hash, one.pieces = old.Hash, old.Pieces
		} else {
			unknown = append(unknown, i)
			continue
		}
		seem = append(seem, one)
		names = append(names, items[i].Path)
	}
	if len(seem) == 0 {
		return fresh, nil
	}
	var buffer []byte
	err = t.Site.Files.HashFiles(ctx, top, names, func(n int, hash string, size int64, failed error) error {
		one := seem[n]
		item := &items[one.item]
		same := failed == nil && hash == one.hash && size == item.Size // else reading tells why
		if same && one.brought != nil {
			if buffer == nil {
				buffer = make([]byte, packs.PieceSize)
			}
			if err := t.readBrought(one.brought, item, buffer); err != nil {
				return err
			}
			same = item.Hash == hash // else it is not at hand any more
		} else if same {
			item.Hash, item.Pieces = one.hash, one.pieces
			t.report.Advance(size)
		}
		if !same {
			unknown = append(unknown, one.item)
		}
		return nil
	})
	if errors.Is(err, errors.ErrUnsupported) {
		return fresh, nil
	}
	return unknown, err
}

// hasAll tells whether all pieces are in the store.
func (t *taking) hasAll(pieces []packs.ID) bool {
	for _, id := range pieces {
		if !t.to.Store.Has(id) {
			return false
		}
	}
	return true
}

// fileBrought is a file of a tree that was brought.
type fileBrought struct {
	files.Item
	from files.Source
}

func (t *taking) brought() map[string]fileBrought {
	all := map[string]fileBrought{}
	for _, tree := range t.Brought {
		for _, item := range tree.Tree {
			if item.Kind == files.File {
				all[path.Join(tree.Place, item.Path)] = fileBrought{item, tree.Source}
			}
		}
	}
	return all
}

// readBrought stores the bytes of a file as they were brought.
func (t *taking) readBrought(brought *fileBrought, item *Item, buffer []byte) error {
	from, err := brought.from(brought.Item)
	if err != nil {
		return err
	}
	defer from.Close()
	return t.readBytes(from, item, buffer)
}
