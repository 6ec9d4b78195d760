package cms

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"wetland/core/files"
)

// languageFile matches a file of a language pack: what it translates, for which language, and the digest of the script
// that a JSON file is for (load_textdomain() and load_script_textdomain() in wp-includes/l10n.php). What it translates is
// empty for WordPress itself, or one of its parts.
var languageFile = regexp.MustCompile(`^(?:(.+)-)?([a-z]{2,3}(?:_[A-Z]{2})?(?:_[a-z0-9]+)?)(?:-[0-9a-f]{32}\.json|\.po|\.mo|\.l10n\.php)$`)

// ofWordPress are the parts of WordPress that have files of their own: wp_get_installed_translations() in
// wp-includes/l10n.php.
var ofWordPress = []string{"", "admin", "admin-network", "continents-cities"}

// languageOf tells to which pack a file belongs: "tidetable-de_DE", or "de_DE" for WordPress itself; "" is none.
func languageOf(file string) string {
	found := languageFile.FindStringSubmatch(file)
	switch {
	case found == nil:
		return ""
	case slices.Contains(ofWordPress, found[1]):
		return found[2]
	}
	return found[1] + "-" + found[2]
}

// languagePacks lists the packs that are installed. Most sites in English have none.
func (w *wordpressSite) languagePacks(ctx context.Context) []Component {
	around := path.Join(w.content, "languages")
	folders := []string{around, path.Join(around, "plugins"), path.Join(around, "themes")}
	found := make([][]Component, len(folders))
	_ = files.AtOnce(ctx, w.disk, len(folders), func(ctx context.Context, i int) error {
		found[i] = w.packsIn(ctx, folders[i])
		return nil
	})
	all := found[0]
	for _, pack := range slices.Concat(found[1:]...) {
		same := func(c Component) bool { return c.Folder == pack.Folder }
		if slices.ContainsFunc(all, same) { // a theme may have the name of a plugin
			pack.Folder += "+" + strings.TrimSuffix(path.Base(path.Dir(pack.Places[0].Path)), "s")
		}
		all = append(all, pack)
	}
	return all
}

func (w *wordpressSite) packsIn(ctx context.Context, folder string) (packs []Component) {
	entries, err := w.disk.List(ctx, folder)
	if err != nil {
		return nil
	}
	for _, entry := range entries {
		name := languageOf(entry.Name)
		if entry.Kind != files.File || name == "" {
			continue
		}
		i := slices.IndexFunc(packs, func(c Component) bool { return c.Folder == name })
		if i < 0 {
			i = len(packs)
			packs = append(packs, Component{Header: Header{Kind: Language, Name: name}, Folder: name, Form: Beside})
		}
		packs[i].Places = append(packs[i].Places, Place{Path: path.Join(folder, entry.Name), Single: true})
	}
	_ = files.AtOnce(ctx, w.disk, len(packs), func(ctx context.Context, i int) error {
		var names []string
		for _, place := range packs[i].Places {
			names = append(names, path.Base(place.Path))
		}
		var err error
		if packs[i].Version, err = revisionOf(diskFolder{ctx, w.disk, folder}, names); err != nil {
			packs[i].Problem = err.Error()
		}
		return nil
	})
	return packs
}

// readLanguage reads a folder that holds the files of one language pack, and nothing else.
func readLanguage(folder Folder, names []string) (header Header, ok bool, err error) {
	for _, file := range names {
		name := languageOf(file)
		if name == "" || header.Name != "" && header.Name != name {
			return Header{}, false, nil
		}
		header.Name = name
	}
	if header.Name == "" {
		return Header{}, false, nil
	}
	header.Kind, header.Alone = Language, header.Name
	header.Version, err = revisionOf(folder, names)
	return header, true, err
}

// revision matches when a translation was revised last, as its sources say it, or as WordPress writes it for PHP.
var revision = regexp.MustCompile(`(?i)PO-Revision-Date(?::|'\s*=>\s*'|"\s*:\s*")\s*(\d{4}-\d\d-\d\d[ T]\d\d:\d\d(?::\d\d)?(?:\s?[+-]\d\d:?\d\d)?)`)

// revisionLayouts are the forms of that moment.
var revisionLayouts = []string{"2006-01-02 15:04:05-0700", "2006-01-02 15:04-0700", "2006-01-02 15:04:05", "2006-01-02 15:04"}

// toldBy are the endings of files that say when a translation was revised, the quickest to read first. JSON is made from
// the others.
var toldBy = []string{".po", ".l10n.php", ".mo"}

// revisionOf is the version of a pack: it has no number, and WordPress takes the moment of its last revision for one
// (Language_Pack_Upgrader). It is told in universal time, by the first of its files that says it; "": none does.
func revisionOf(folder Folder, names []string) (string, error) {
	names = slices.Clone(names)
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(cmp.Compare(len(a), len(b)), cmp.Compare(a, b)) })
	for _, ending := range toldBy {
		for _, name := range names {
			if !strings.HasSuffix(name, ending) {
				continue
			}
			read := func(folder Folder, name string) (string, error) { return readStart(folder, name, headerSize) }
			if ending == ".mo" {
				read = readCompiled
			}
			text, err := read(folder, name)
			if said := revisionIn(text); said != "" || err != nil {
				return said, err
			}
		}
	}
	return "", nil
}

func revisionIn(text string) string {
	found := revision.FindStringSubmatch(text)
	if found == nil {
		return ""
	}
	said := strings.Replace(strings.ReplaceAll(found[1], "T", " "), " +", "+", 1)
	if zone := strings.LastIndexAny(said, "+-"); zone > len("2006-01-02") && strings.Contains(said[zone:], ":") {
		said = said[:zone] + strings.ReplaceAll(said[zone:], ":", "")
	}
	for _, layout := range revisionLayouts {
		if moment, err := time.Parse(layout, strings.Replace(said, " -", "-", 1)); err == nil {
			return moment.UTC().Format("2006.01.02.1504")
		}
	}
	return ""
}

// mostCompiled bounds how much of a compiled translation is read to find what it says of itself: all texts in the
// original language come before that.
const mostCompiled = 8 << 20

// readCompiled reads the translation of the empty text out of a compiled file, which is what it says of itself
// (the format of MO files, GNU gettext's manual, 10.3). "" is one that is not of that form.
func readCompiled(folder Folder, name string) (string, error) {
	file, err := folder.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	whole, err := io.ReadAll(io.LimitReader(file, mostCompiled))
	if err != nil || len(whole) < 28 {
		return "", err
	}
	var order binary.ByteOrder = binary.LittleEndian
	if bytes.HasPrefix(whole, []byte{0x95, 0x04, 0x12, 0xde}) {
		order = binary.BigEndian
	} else if !bytes.HasPrefix(whole, []byte{0xde, 0x12, 0x04, 0x95}) {
		return "", nil
	}
	number := func(at uint32) uint32 {
		if uint64(at)+4 > uint64(len(whole)) {
			return 0
		}
		return order.Uint32(whole[at:])
	}
	originals, translations := number(12), number(16)
	length, at := number(translations), number(translations+4)
	if number(8) == 0 || number(originals) != 0 || uint64(at)+uint64(length) > uint64(len(whole)) {
		return "", nil
	}
	return string(whole[at : at+length]), nil
}
