package snapshot

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strconv"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/packs"
)

// Item is one entry with the pieces that its bytes are made of.
type Item struct {
	files.Item
	Changed time.Time // of the entry itself, as the disk keeps it; zero: it does not
	Pieces  []packs.ID
}

// The items of an area are written as lines, in their order, and cut into pieces by
// their paths, so that a change of one file changes one piece. docs/store.md
// describes a line.
const (
	itemFields = 10
	absent     = "-"
	sameAsHash = "=" // the only piece has the file's hash for its ID
)

// appendItem writes a line.
func appendItem(to []byte, item Item) []byte {
	field := func(text string) { to = append(append(to, text...), '\t') }
	number := func(n int64, base int) { to = append(strconv.AppendInt(to, n, base), '\t') }
	field(string(item.Kind))
	number(int64(item.Mode), 8)
	number(int64(item.Owner), 10)
	number(int64(item.Group), 10)
	to = append(appendTime(to, item.Modified), '\t')
	to = append(appendTime(to, item.Changed), '\t')
	number(item.Size, 10)
	switch {
	case item.Kind == files.Link:
		to = append(appendEscaped(to, item.Target), '\t')
	case item.Hash == "":
		field(absent)
	default:
		field(item.Hash)
	}
	switch {
	case len(item.Pieces) == 0:
		field(absent)
	case len(item.Pieces) == 1 && item.Pieces[0].String() == item.Hash:
		field(sameAsHash)
	default:
		for i, id := range item.Pieces {
			if i > 0 {
				to = append(to, ',')
			}
			to = append(to, id.String()...)
		}
		to = append(to, '\t')
	}
	return append(appendEscaped(to, item.Path), '\n')
}

// appendTime writes seconds since 1970, a point, and nine digits of nanoseconds.
func appendTime(to []byte, t time.Time) []byte {
	if t.IsZero() {
		return append(to, absent...)
	}
	return fmt.Appendf(to, "%d.%09d", t.Unix(), t.Nanosecond())
}

func parseTime(text string) (time.Time, error) {
	if text == absent {
		return time.Time{}, nil
	}
	seconds, nanos, ok := strings.Cut(text, ".")
	s, err1 := strconv.ParseInt(seconds, 10, 64)
	n, err2 := strconv.ParseInt(nanos, 10, 64)
	if !ok || errors.Join(err1, err2) != nil || len(nanos) != 9 || n < 0 {
		return time.Time{}, fmt.Errorf("the time %q", text)
	}
	return time.Unix(s, n).UTC(), nil
}

// appendEscaped writes bytes up to the space, the percent sign and DEL as % and two
// hexadecimal digits, and all others as they are, whether they are UTF-8 or not.
func appendEscaped(to []byte, text string) []byte {
	const digits = "0123456789ABCDEF"
	for i := range len(text) {
		if c := text[i]; c <= ' ' || c == '%' || c == 0x7f {
			to = append(to, '%', digits[c>>4], digits[c&15])
		} else {
			to = append(to, c)
		}
	}
	return to
}

func unescape(text string) (string, error) {
	if !strings.Contains(text, "%") {
		return text, nil
	}
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] != '%' {
			out.WriteByte(text[i])
			continue
		}
		if i+2 >= len(text) {
			return "", fmt.Errorf("the path %q", text)
		}
		n, err := strconv.ParseUint(text[i+1:i+3], 16, 8)
		if err != nil {
			return "", fmt.Errorf("the path %q", text)
		}
		out.WriteByte(byte(n))
		i += 2
	}
	return out.String(), nil
}

// parseItem reads a line without its newline.
func parseItem(line string) (item Item, err error) {
	var fields [itemFields]string
	rest, ok := line, true
	for i := range fields {
		if !ok {
			return item, fmt.Errorf("a line of %d fields", i)
		}
		fields[i], rest, ok = strings.Cut(rest, "\t")
	}
	item.Kind = files.Kind(fields[0])
	mode, err1 := strconv.ParseUint(fields[1], 8, 32)
	owner, err2 := strconv.Atoi(fields[2])
	group, err3 := strconv.Atoi(fields[3])
	var err4, err5, err6, err7, err8 error
	item.Modified, err4 = parseTime(fields[4])
	item.Changed, err5 = parseTime(fields[5])
	item.Size, err6 = strconv.ParseInt(fields[6], 10, 64)
	item.Mode, item.Owner, item.Group = uint32(mode), owner, group
	if item.Kind == files.Link {
		item.Target, err7 = unescape(fields[7])
	} else if fields[7] != absent {
		item.Hash = fields[7]
	}
	item.Path, err8 = unescape(fields[9])
	if err := errors.Join(err1, err2, err3, err4, err5, err6, err7, err8); err != nil || ok {
		return item, errors.Join(errors.New("a line that is none of an item"), err)
	}
	item.Pieces, err = parsePieces(fields[8], item.Hash)
	return item, err
}

func parsePieces(text, hash string) ([]packs.ID, error) {
	switch text {
	case absent:
		return nil, nil
	case sameAsHash:
		text = hash
	}
	ids := make([]packs.ID, 0, 1)
	for one := range strings.SplitSeq(text, ",") {
		id, err := packs.ParseID(one)
		if err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	return ids, nil
}

// Lists are cut after a path whose hash says so, after 128 items on average.
const (
	itemsInList     = 128
	longestItemList = 1 << 20 // bytes
)

// storeItems adds the lists of the items, which are in their order.
func storeItems(to *packs.Adder, items []Item) ([]packs.ID, error) {
	lists := []packs.ID{}
	var text []byte
	for i, item := range items {
		text = appendItem(text, item)
		mark := fnv.New32a()
		_, _ = mark.Write([]byte(item.Path)) // a hash does not fail
		if mark.Sum32()%itemsInList != 0 && len(text) < longestItemList && i < len(items)-1 {
			continue
		}
		for part := range slices.Chunk(text, packs.PieceSize) {
			id, err := to.Add(part, false)
			if err != nil {
				return nil, err
			}
			lists = append(lists, id)
		}
		text = text[:0]
	}
	return lists, nil
}

// loadItems reads the lists of an area.
func loadItems(ctx context.Context, s *packs.Store, area *Area) error {
	area.Items = make([]Item, 0, min(area.Files+area.Files/4, 2*itemsInList*len(area.Lists)))
	rest := ""
	for _, id := range area.Lists {
		data, err := s.Piece(ctx, id)
		if err != nil {
			return err
		}
		rest += string(data)
		for {
			line, after, found := strings.Cut(rest, "\n")
			if !found {
				break
			}
			item, err := parseItem(line)
			if err != nil {
				return fmt.Errorf("the list of the items is damaged: %w", err)
			}
			area.Items = append(area.Items, item)
			rest = after
		}
	}
	if rest != "" {
		return errors.New("the list of the items is cut off")
	}
	return checkItems(area.Items)
}
