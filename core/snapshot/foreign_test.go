package snapshot

import (
	"bytes"
	"encoding/json"
	"errors"
	"testing"

	"github.com/zeebo/blake3"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/packs"
	"wetland/core/progress"
)

// written is a store with the lists of these items, as if somebody else had made it.
func written(t *testing.T, items []Item, change func(*Manifest)) (*packs.Store, string) {
	t.Helper()
	store, err := packs.Open(t.Context(), t.TempDir(), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = store.Close() })
	to := store.NewAdder(t.Context(), progress.Silent{})
	lists, err := storeItems(to, items)
	if err != nil {
		t.Fatal(err)
	}
	if err := to.Finish(); err != nil {
		t.Fatal(err)
	}
	m := &Manifest{Format: manifestFormat, Name: "snap-1", Areas: []Area{{Name: "site", Path: "/srv/ferry", Files: len(items), Lists: lists}}}
	if change != nil {
		change(m)
	}
	data, err := encodeManifest(store, m)
	if err != nil {
		t.Fatal(err)
	}
	w, err := store.Bytes.Put(t.Context(), manifestName("snap-1"))
	if err == nil {
		_, err = w.Write(data)
	}
	if err == nil {
		err = w.Commit()
	}
	if err != nil {
		t.Fatal(err)
	}
	return store, "snap-1"
}

func item(at string, kind files.Kind) Item {
	return Item{Item: files.Item{Path: at, Kind: kind, Mode: 0o644}}
}

// A store from elsewhere is not believed: nothing in it leads outside, stands below what is no
// folder, or counts more than there is.
func TestStoreOfSomebodyElse(t *testing.T) {
	top := item(".", files.Folder)
	for name, c := range map[string]struct {
		items  []Item
		change func(*Manifest)
		fine   bool
	}{
		"as it should be":          {items: []Item{top, item("a", files.Folder), item("a/b", files.File), item("a\xff", files.Link)}, fine: true},
		"outside":                  {items: []Item{top, item("../../x", files.File)}},
		"outside on the way":       {items: []Item{top, item("a/../../x", files.File)}},
		"absolute":                 {items: []Item{top, item("/etc/x", files.File)}},
		"empty":                    {items: []Item{top, item("", files.File)}},
		"below a link":             {items: []Item{top, item("a", files.Link), item("a/x", files.File)}},
		"below a link, further up": {items: []Item{top, item("a", files.Link), item("a/b/c/x", files.File)}},
		"below a file":             {items: []Item{top, item("a", files.File), item("a/x", files.File)}},
		"twice":                    {items: []Item{top, item("a", files.Link), item("a", files.Folder)}},
		"another kind":             {items: []Item{top, item("a", "device")}},
		"fewer than none":          {items: []Item{top}, change: func(m *Manifest) { m.Areas[0].Files = -1 }},
		"more than there are":      {items: []Item{top}, change: func(m *Manifest) { m.Areas[0].Files = 1 << 60 }, fine: true},
		"rows fewer than none":     {items: []Item{top}, change: func(m *Manifest) { m.Tables = []Table{{Table: database.Table{Name: "t", Rows: -1}}} }},
		"an area elsewhere":        {items: []Item{top}, change: func(m *Manifest) { m.Areas[0].Path = "/srv/ferry/../../etc" }},
		"an area from nowhere":     {items: []Item{top}, change: func(m *Manifest) { m.Areas[0].Path = "etc" }},
		"an area twice":            {items: []Item{top}, change: func(m *Manifest) { m.Areas = append(m.Areas, m.Areas[0]) }},
		"only something elsewhere": {items: []Item{top}, change: func(m *Manifest) { m.Areas[0].Only = "../x" }},
	} {
		t.Run(name, func(t *testing.T) {
			store, snap := written(t, c.items, c.change)
			switch m, err := Load(t.Context(), store, snap); {
			case c.fine && (err != nil || len(m.Areas[0].Items) != len(c.items)):
				t.Errorf("it is not read: %v", err)
			case !c.fine && !errors.Is(err, packs.ErrNotOurs):
				t.Errorf("it is believed: %v", err)
			}
		})
	}
}

// A manifest cannot take much more memory than it has bytes.
func TestManifestThatUnpacksToVeryMuch(t *testing.T) {
	store := &packs.Store{}
	text, err := json.Marshal(&Manifest{Format: manifestFormat, Name: "snap-1"})
	if err != nil {
		t.Fatal(err)
	}
	text = append(text, bytes.Repeat([]byte(" "), 64<<20)...)
	packed := packs.Packer.EncodeAll(text, nil)
	data := append([]byte(manifestHead+packs.ID(blake3.Sum256(packed)).String()+"\n"), packed...)
	if _, err := decodeManifest(store, data); !errors.Is(err, packs.ErrNotOurs) {
		t.Errorf("%d bytes were unpacked to %d: %v", len(packed), len(text), err)
	}
}
