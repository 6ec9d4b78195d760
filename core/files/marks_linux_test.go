package files

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"
)

// accessOf is an access list with rights for the owner, one more user, the group and others.
func accessOf(user uint32, rights uint16) []byte {
	var b bytes.Buffer
	for _, part := range []any{uint32(2), [2]uint16{1, 6}, ^uint32(0), [2]uint16{2, rights}, user, [2]uint16{4, 4}, ^uint32(0), [2]uint16{16, rights | 4}, ^uint32(0), [2]uint16{32, 4}, ^uint32(0)} {
		_ = binary.Write(&b, binary.LittleEndian, part) // into memory
	}
	return b.Bytes()
}

func mark(t *testing.T, name, attribute string, value []byte) {
	t.Helper()
	if err := unix.Lsetxattr(name, attribute, value, 0); err != nil {
		t.Skipf("this disk keeps no %s: %v", attribute, err)
	}
}

func marksOf(t *testing.T, name string) map[string][]byte {
	t.Helper()
	var marks map[string][]byte
	folder, err := Local{}.Open(t.Context(), filepath.Dir(name))
	if err != nil {
		t.Fatal(err)
	}
	defer folder.Close()
	err = folder.(*local).toChange(t.Context(), "read", filepath.Base(name), func(file handle) (err error) {
		marks, err = readMarks(file)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return marks
}

// New files get the access lists and labels of those that they replace, whatever the folder
// in which they waited gives to what is made in it.
func TestMarksAreThoseOfWhatIsReplaced(t *testing.T) {
	dir := t.TempDir()
	live, waiting := filepath.Join(dir, "live"), filepath.Join(dir, "waiting")
	for _, folder := range []string{live, live + "/inc", waiting} {
		if err := os.Mkdir(folder, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"a.php", "b.php", "plain.php"} {
		write(t, filepath.Join(live, name), name)
	}
	mark(t, live, defaultList, accessOf(33, 7))
	mark(t, live+"/a.php", accessList, accessOf(33, 6))
	mark(t, live+"/b.php", accessList, accessOf(34, 4))
	mark(t, live+"/b.php", "user.note", []byte("kept by the ferryman"))
	mark(t, waiting, defaultList, accessOf(99, 7))
	old := read(t, live)
	staged := filepath.Join(waiting, "new")
	if err := os.MkdirAll(staged+"/inc", 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"a.php", "b.php", "plain.php", "new.php"} {
		write(t, filepath.Join(staged, name), "new "+name)
	}
	if err := MarkTree(t.Context(), all(t), staged, read(t, staged), live, old); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{".", "a.php", "b.php", "plain.php", "inc"} {
		want, got := marksOf(t, filepath.Join(live, name)), marksOf(t, filepath.Join(staged, name))
		if len(want) != len(got) {
			t.Errorf("%s has %d marks, want %d", name, len(got), len(want))
		}
		for attribute, value := range want {
			if !bytes.Equal(got[attribute], value) {
				t.Errorf("%s: %s is another", name, attribute)
			}
		}
	}
	if _, stranger := marksOf(t, staged+"/new.php")[accessList]; !stranger {
		t.Error("a new file got no access list, and its sisters have one")
	}
	// Of a component that is not installed yet, the folder around it decides.
	fresh := filepath.Join(waiting, "fresh")
	if err := os.Mkdir(fresh, 0o755); err != nil {
		t.Fatal(err)
	}
	write(t, fresh+"/c.php", "c")
	if err := MarkTree(t.Context(), all(t), fresh, read(t, fresh), live+"/not-yet", nil); err != nil {
		t.Fatal(err)
	}
	if got := marksOf(t, fresh+"/c.php")[accessList]; !bytes.Equal(got, withoutExecute(accessOf(33, 7))) {
		t.Errorf("what is new should inherit the folder's list: %x", got)
	}
}

func TestMountedAt(t *testing.T) {
	dir := t.TempDir()
	for name, want := range map[string]bool{"/proc": true, dir: false} {
		if got, err := all(t).MountedAt(t.Context(), name); err != nil || got != want {
			t.Errorf("%s: %v %v", name, got, err)
		}
	}
}
