package packages

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"errors"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/core/site/cms"
)

// readHeader takes the file "header" for a header: its text is the version.
func readHeader(folder cms.Folder) (cms.Header, error) {
	file, err := folder.Open("header")
	if err != nil {
		return cms.Header{}, cms.ErrNoHeader
	}
	defer file.Close()
	text, err := io.ReadAll(file)
	return cms.Header{Kind: cms.Theme, Name: "Quay", Version: string(text)}, err
}

// entry is one entry of a test's archive.
type entry struct {
	name, text string
	mode       fs.FileMode
	flags      uint16
	lie        uint64 // uncompressed size to claim
	crc        uint32 // checksum to claim
	method     uint16 // compression to claim
}

func archiveOf(t testing.TB, entries ...entry) string {
	t.Helper()
	var buffer bytes.Buffer
	w := zip.NewWriter(&buffer)
	for _, e := range entries {
		header := &zip.FileHeader{Name: e.name, Method: zip.Deflate, Flags: e.flags}
		if e.lie > 0 || e.crc > 0 || e.method > 0 {
			header.Method, header.CRC32 = e.method, cmp.Or(e.crc, crc32.ChecksumIEEE([]byte(e.text)))
			header.CompressedSize64, header.UncompressedSize64 = uint64(len(e.text)), cmp.Or(e.lie, uint64(len(e.text)))
			to, err := w.CreateRaw(header)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := io.WriteString(to, e.text); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if e.mode != 0 {
			header.SetMode(e.mode)
		}
		to, err := w.CreateHeader(header)
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(e.name, "/") {
			continue
		}
		if _, err := io.WriteString(to, e.text); err != nil {
			t.Fatal(err)
		}
		header.Flags |= e.flags
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return fileOf(t, buffer.Bytes())
}

func fileOf(t testing.TB, data []byte) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "package.zip")
	if err := os.WriteFile(name, data, 0o644); err != nil {
		t.Fatal(err)
	}
	return name
}

var header = entry{name: "quay/header", text: "1.2"}

func TestOpenGoodArchives(t *testing.T) {
	for _, c := range []struct {
		name    string
		entries []entry
		paths   []string
	}{
		{"plain", []entry{header, {name: "quay/css/a.css", text: "a"}}, []string{".", "css", "css/a.css", "header"}},
		{"folders named", []entry{{name: "quay/"}, {name: "quay/css/"}, header}, []string{".", "css", "header"}},
		{"junk", []entry{header, {name: "__MACOSX/quay/._header", text: "x"}, {name: "quay/.DS_Store", text: "x"}, {name: "quay/a/Thumbs.db", text: "x"}, {name: "__MACOSX/"}}, []string{".", "header"}},
		{"odd names", []entry{header, {name: "quay/ä b (1)…'.txt", text: "x"}, {name: "quay/...", text: "x"}, {name: "quay/..a", text: "x"}}, []string{".", "...", "..a", "header", "ä b (1)…'.txt"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p, err := Open(t.Context(), archiveOf(t, c.entries...), readHeader)
			if err != nil {
				t.Fatal(err)
			}
			defer p.Close()
			var paths []string
			for _, item := range p.Tree {
				paths = append(paths, item.Path)
			}
			if strings.Join(paths, "|") != strings.Join(c.paths, "|") || p.Folder != "quay" || p.Header.Version != "1.2" {
				t.Errorf("%s %+v: %q", p.Folder, p.Header, paths)
			}
		})
	}
}

func TestOpenHostileArchives(t *testing.T) {
	long := strings.Repeat("a", 300)
	zeros := strings.Repeat("\x00", 12<<20)
	for _, c := range []struct {
		name    string
		entries []entry
		why     string
	}{
		{"nothing", nil, "nothing in it"},
		{"only junk", []entry{{name: ".DS_Store", text: "x"}}, "nothing in it"},
		{"up", []entry{header, {name: "quay/../../x", text: "x"}}, "leads out"},
		{"up at the start", []entry{header, {name: "../x", text: "x"}}, "leads out"},
		{"up at the end", []entry{header, {name: "quay/..", text: "x"}}, "leads out"},
		{"absolute", []entry{header, {name: "/quay/x", text: "x"}}, "is absolute"},
		{"network", []entry{header, {name: `\\host\x`, text: "x"}}, "is absolute"},
		{"drive", []entry{header, {name: "c:x", text: "x"}}, "names a drive"},
		{"backslashes", []entry{header, {name: `quay\..\x`, text: "x"}}, "backslashes"},
		{"symbolic link", []entry{header, {name: "quay/l", text: "/etc", mode: fs.ModeSymlink | 0o777}}, "symbolic link"},
		{"device", []entry{header, {name: "quay/d", mode: fs.ModeDevice | 0o666}}, "neither a file nor a folder"},
		{"pipe", []entry{header, {name: "quay/p", mode: fs.ModeNamedPipe | 0o666}}, "neither a file nor a folder"},
		{"encrypted", []entry{header, {name: "quay/e", text: "x", flags: 1}}, "is encrypted"},
		{"twice", []entry{header, header}, "twice"},
		{"case", []entry{header, {name: "quay/Header", text: "x"}}, "on disks that ignore case"},
		{"form of a letter", []entry{header, {name: "quay/f\u00e4hre", text: "x"}, {name: "quay/fa\u0308hre", text: "x"}}, "how a letter is encoded"},
		{"hidden folder", []entry{{name: ".wetland-staging/header", text: header.text}}, "such a name is hidden"},
		{"folder like a setting of the server", []entry{{name: ".htaccess/header", text: header.text}}, "such a name is hidden"},
		{"folder like a version", []entry{{name: "quay@2/header", text: header.text}}, "only letters, digits"},
		{"folder like an option", []entry{{name: "--sure/header", text: header.text}}, "taken for an option"},
		{"folder like a command", []entry{{name: "quay;reboot/header", text: header.text}}, "only letters, digits"},
		{"case of a folder", []entry{header, {name: "quay/Css/a", text: "x"}, {name: "quay/css/b", text: "x"}}, "are the same folder on disks that ignore case"},
		{"socket", []entry{header, {name: "quay/s", mode: fs.ModeSocket | 0o666}}, "neither a file nor a folder"},
		{"wrong checksum", []entry{header, {name: "quay/w", text: "tide", crc: 7}}, "cannot be read"},
		{"unknown compression", []entry{header, {name: "quay/u", text: "tide", method: 99}}, "cannot be read"},
		{"file and folder", []entry{header, {name: "quay/a", text: "x"}, {name: "quay/a/b", text: "x"}}, "both a file and a folder"},
		{"empty part", []entry{header, {name: "quay//x", text: "x"}}, "empty parts"},
		{"dot part", []entry{header, {name: "quay/./x", text: "x"}}, "empty parts"},
		{"long part", []entry{header, {name: "quay/" + long, text: "x"}}, "longer than 255"},
		{"long path", []entry{header, {name: "quay/" + strings.Repeat("ab/", 400) + "x", text: "x"}}, "longer than 1024"},
		{"control", []entry{header, {name: "quay/a\nb", text: "x"}}, "cannot be used"},
		{"not UTF-8", []entry{header, {name: "quay/\xff", text: "x"}}, "cannot be used"},
		{"bomb", []entry{header, {name: "quay/bomb", text: zeros}}, "times its size"},
		{"many small bombs", []entry{header, {name: "quay/b1", text: zeros[:4<<20]}, {name: "quay/b2", text: zeros[:4<<20]}, {name: "quay/b3", text: zeros[:4<<20]}}, "which no real package does"},
		{"claims too much", []entry{header, {name: "quay/big", text: "x", lie: 5 << 30}}, "more than the allowed"},
		{"claims too little", []entry{header, {name: "quay/small", text: "yyyyyyyyyy", lie: 3}}, "cannot be read"},
		{"two roots", []entry{header, {name: "docs/read.txt", text: "x"}}, "2 folders"},
		{"loose files", []entry{{name: "header", text: "1"}}, "not inside one folder"},
		{"no header", []entry{{name: "quay/style.css", text: "x"}}, "no header"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p, err := Open(t.Context(), archiveOf(t, c.entries...), readHeader)
			if err == nil {
				p.Close()
				t.Fatal("it was taken")
			}
			if !strings.Contains(err.Error(), c.why) {
				t.Errorf("the reason is %q, want %q", err, c.why)
			}
			if errors.Is(err, ErrUnreadable) {
				t.Error("a whole zip is called unreadable")
			}
		})
	}
}

func TestOpenTellsManyReasonsAtOnce(t *testing.T) {
	_, err := Open(t.Context(), archiveOf(t, header, entry{name: "../x"}, entry{name: "/y"}, entry{name: "quay/l", mode: fs.ModeSymlink | 0o777, text: "/"}), readHeader)
	for _, why := range []string{"leads out", "is absolute", "symbolic link"} {
		if err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%q is not told: %v", why, err)
		}
	}
}

// An error names the file as it was named: two of one name may lie in two folders.
func TestErrorsNameTheFile(t *testing.T) {
	file := filepath.Join(t.TempDir(), "quay.zip")
	for _, text := range []string{"", "a letter", "<html>sign in", "PK\x03\x04 no more"} {
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(t.Context(), file, readHeader); !errors.Is(err, ErrUnreadable) || !strings.HasPrefix(err.Error(), file) {
			t.Errorf("%q: %v", text, err)
		}
	}
	for _, other := range []string{filepath.Dir(file), file + "x"} {
		if _, err := Open(t.Context(), other, readHeader); !errors.Is(err, ErrUnreadable) || !strings.Contains(err.Error(), other) {
			t.Errorf("%v", err)
		}
	}
}

func TestOpenDamagedBytes(t *testing.T) {
	good, err := os.ReadFile(archiveOf(t, header, entry{name: "quay/text", text: strings.Repeat("the tide table ", 200)}))
	if err != nil {
		t.Fatal(err)
	}
	for at := 0; at < len(good); at++ {
		damaged := bytes.Clone(good)
		damaged[at] ^= 0x10
		p, err := Open(t.Context(), fileOf(t, damaged), readHeader)
		if err != nil {
			continue
		}
		// Some bytes mean nothing to a reader, such as times: then all must be right.
		for _, item := range p.Tree {
			if item.Path == "text" && item.Size != 3000 {
				t.Errorf("byte %d: the damage was not seen", at)
			}
		}
		p.Close()
	}
	for length := range len(good) {
		if p, err := Open(t.Context(), fileOf(t, good[:length]), readHeader); err == nil {
			p.Close()
			t.Errorf("cut off after %d bytes, and taken", length)
		}
	}
}

func FuzzOpen(f *testing.F) {
	for _, entries := range [][]entry{{header}, {header, {name: "../x", text: "x"}}, {{name: "a"}, {name: "b/"}}} {
		data, err := os.ReadFile(archiveOf(f, entries...))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := Open(t.Context(), fileOf(t, data), readHeader)
		if err != nil {
			return
		}
		defer p.Close()
		for _, item := range p.Tree {
			if !fs.ValidPath(item.Path) {
				t.Errorf("the path %q", item.Path)
			}
		}
	})
}

// diskTree writes files and returns their tree and source.
func diskTree(t *testing.T, texts map[string]string) (files.Tree, files.Source) {
	t.Helper()
	dir := t.TempDir()
	for name, text := range texts {
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	tree, err := files.ReadTree(context.Background(), filestest.Whole(t), dir, files.Scope{})
	if err != nil {
		t.Fatal(err)
	}
	return tree, func(item files.Item) (io.ReadCloser, error) { return os.Open(filepath.Join(dir, item.Path)) }
}

func TestShelfKeepsEveryVersion(t *testing.T) {
	shelf := Shelf{Dir: t.TempDir()}
	quay := cms.Component{Folder: "quay", Header: cms.Header{Kind: cms.Theme, Name: "Quay", Version: "1.2"}}
	tree, source := diskTree(t, map[string]string{"header": "1.2", "a/b.css": "x"})
	first, err := shelf.Keep(t.Context(), quay, tree, source, "test")
	if err != nil {
		t.Fatal(err)
	}
	again, err := shelf.Keep(t.Context(), quay, tree, source, "test")
	if err != nil || again.File != first.File {
		t.Errorf("the same again: %+v %v", again, err)
	}
	edited, source := diskTree(t, map[string]string{"header": "1.2", "a/b.css": "edited by hand"})
	other, err := shelf.Keep(t.Context(), quay, edited, source, "test")
	if err != nil || other.File == first.File || !other.Beside {
		t.Errorf("the same version with other content: %+v %v", other, err)
	}
	p, err := Open(t.Context(), first.File, readHeader)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	if differ := files.Content.Compare(tree, p.Tree); len(differ) > 0 {
		t.Errorf("the shelf's package differs: %v", differ)
	}
	if p.Folder != "quay" {
		t.Errorf("its folder is %s", p.Folder)
	}
}

func TestShelfProvesWhatItKeeps(t *testing.T) {
	shelf := Shelf{Dir: t.TempDir()}
	tree, _ := diskTree(t, map[string]string{"header": "1.2"})
	lying := func(files.Item) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("other")), nil }
	if kept, err := shelf.Keep(t.Context(), cms.Component{Folder: "../../quay", Header: cms.Header{Kind: cms.Theme}}, tree, lying, "test"); err == nil {
		t.Errorf("kept what is not the tree: %+v", kept)
	}
	left := 0
	err := filepath.WalkDir(shelf.Dir, func(_ string, d fs.DirEntry, err error) error {
		if !d.IsDir() {
			left++
		}
		return err
	})
	if err != nil || left > 0 {
		t.Errorf("%d files are left, %v", left, err)
	}
}
