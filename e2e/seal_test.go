package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"

	"wetland/internal/testenv"
)

// storeBytes reads all files of the store.
func (f *ferry) storeBytes(t *testing.T) []byte {
	t.Helper()
	var all []byte
	for _, item := range tree(t, filepath.Join(f.care, "store")) {
		text, err := os.ReadFile(filepath.Join(f.care, "store", item.Path))
		if err == nil {
			all = append(append(all, item.Path...), text...)
		}
	}
	return all
}

func (f *ferry) secretFile(t *testing.T, text string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "secret")
	must(t, os.WriteFile(name, []byte(text+"\n"), 0o600))
	return name
}

// unlockWith writes into wetland.toml where the secret is.
func (f *ferry) unlockWith(t *testing.T, with string) {
	t.Helper()
	text, err := os.ReadFile(f.config())
	must(t, err)
	before, _, _ := strings.Cut(string(text), "\n[store]\n")
	must(t, os.WriteFile(f.config(), []byte(before+"\n[store]\nunlock_with = \""+with+"\"\n"), 0o600))
}

func TestSealedStore(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	first, second := f.secretFile(t, "low water at dawn"), f.secretFile(t, "high water at dusk")
	f.run(t, "seal", "--with", "file "+first).want(t, 0, "Sealed.", "unlock_with")
	f.run(t, "snapshot").want(t, 2, "the store is sealed", "unlock_with")
	f.unlockWith(t, "file "+first)
	f.run(t, "snapshot", "--note", "a note that nobody should read").want(t, 0, "Taken and verified.")
	before := f.siteTree(t)
	for _, plain := range []string{"Harbourlight", "harbourlight", "Otterby", "Maud", "a note that nobody", "rowlock.toml", "low water"} {
		if bytes.Contains(f.storeBytes(t), []byte(plain)) {
			t.Errorf("the store shows %q", plain)
		}
	}
	f.run(t, "verify", "snap-1", "--deep").want(t, 0, "Proved.")
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "Kept.")
	f.run(t, "restore", "snap-1", "--yes").want(t, 0, "Restored.")
	same(t, before, f.siteTree(t))

	// A wrong passphrase is told from damage; a new one needs nothing else written anew.
	f.unlockWith(t, "file "+second)
	f.run(t, "verify", "snap-1").want(t, 1, "does not open this store", "Nothing is damaged")
	f.unlockWith(t, "file "+first)
	volumes, err := filepath.Glob(filepath.Join(f.care, "store/volumes/*"))
	must(t, err)
	f.run(t, "seal", "--with", "file "+second).want(t, 0, "Sealed.")
	f.run(t, "verify", "snap-1").want(t, 1, "does not open this store")
	f.unlockWith(t, "file "+second)
	f.run(t, "verify", "snap-1").want(t, 0, "Proved.")
	if again, err := filepath.Glob(filepath.Join(f.care, "store/volumes/*")); err != nil || strings.Join(again, " ") != strings.Join(volumes, " ") {
		t.Errorf("the volumes were written anew: %v %v", again, err)
	}
	for _, volume := range volumes {
		whole, err := os.ReadFile(volume)
		must(t, err)
		whole[len(whole)/2] ^= 4
		must(t, os.WriteFile(volume, whole, 0o600))
	}
	f.run(t, "verify", "snap-1").want(t, 3, "must not be relied on")
	must(t, os.Remove(filepath.Join(f.care, "store/store-key.age")))
	f.run(t, "snapshot").want(t, 2, "key file store-key.age is gone")
}

func TestStoreSealedWithAKeyFile(t *testing.T) {
	f := adopted(t)
	key, err := age.GenerateX25519Identity()
	must(t, err)
	file := f.secretFile(t, "# the ferry's\n"+key.String())
	f.run(t, "seal", "--with", "keys "+file).want(t, 0, "Sealed.")
	f.unlockWith(t, "keys "+file)
	f.run(t, "snapshot").want(t, 0, "Taken and verified.")
	before := f.siteTree(t)
	f.run(t, "verify", "snap-1", "--deep").want(t, 0, "Proved.")
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "Kept.")
	f.run(t, "restore", "snap-1", "--yes").want(t, 0, "Restored.")
	same(t, before, f.siteTree(t))
	must(t, os.Chmod(file, 0o644))
	f.run(t, "verify", "snap-1").want(t, 1, "others may read")

	// What is not sealed cannot be sealed afterwards.
	open := adopted(t)
	open.run(t, "snapshot").want(t, 0)
	open.run(t, "seal", "--with", "file "+f.secretFile(t, "too late for that")).want(t, 1, "cannot be sealed afterwards")
	open.run(t, "verify", "snap-1").want(t, 0)
}

func TestPassphraseTypedByAPerson(t *testing.T) {
	f := adopted(t)
	const passphrase = "otters never hurry"
	type answer struct{ question, text string }
	on := func(answers []answer, args ...string) (int, string) {
		command := wetlandCommand(t, args...)
		command.Dir = f.care
		terminal := testenv.OnTerminal(t, command)
		for _, one := range answers {
			terminal.Answer(t, one.question, one.text, true)
		}
		code, shown := terminal.Wait()
		if strings.Contains(shown, passphrase) {
			t.Errorf("the passphrase is shown:\n%s", shown)
		}
		return code, shown
	}
	if code, shown := on([]answer{{"New passphrase", passphrase}, {"Once more", "another one"}}, "seal"); code != 1 || !strings.Contains(shown, "not the same") {
		t.Errorf("%d\n%s", code, shown)
	}
	if code, shown := on([]answer{{"New passphrase", passphrase}, {"Once more", passphrase}}, "seal"); code != 0 {
		t.Fatalf("%d\n%s", code, shown)
	}
	f.unlockWith(t, "ask")
	f.run(t, "snapshot").want(t, 2, "nobody is at a terminal")
	if code, shown := on([]answer{{"Passphrase of the store", passphrase}}, "snapshot"); code != 0 || !strings.Contains(shown, "Taken and verified.") {
		t.Errorf("%d\n%s", code, shown)
	}
	if code, shown := on([]answer{{"Passphrase of the store", "wrong one"}}, "history"); code != 1 || !strings.Contains(shown, "does not open this store") {
		t.Errorf("%d\n%s", code, shown)
	}
}

// A store that was to be sealed and is not there, or is an open one, is not used: what came would
// lie open, and nobody would know.
func TestSealingIsNotLostInSilence(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	secret := f.secretFile(t, "low water at dawn")
	f.run(t, "seal", "--with", "file "+secret).want(t, 0, "Sealed.")
	f.unlockWith(t, "file "+secret)
	f.run(t, "snapshot").want(t, 0, "Taken and verified.")
	store := filepath.Join(f.care, "store")
	must(t, os.Rename(store, store+".away"))
	for _, exchanged := range []bool{false, true} {
		if exchanged { // for one that is not sealed
			must(t, os.Mkdir(store, 0o700), os.WriteFile(filepath.Join(store, "wetland-store"), []byte("This folder is a store of snapshots. Format 2.\n"), 0o600))
		}
		f.run(t, "snapshot").want(t, 2, "there is no sealed store", "Nothing was written there", "wetland seal --with")
		f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 2, "there is no sealed store")
		if _, err := os.Stat(store); !exchanged && err == nil {
			t.Error("a store was made")
		}
	}
	must(t, os.RemoveAll(store), os.Rename(store+".away", store))
	f.run(t, "verify", "snap-1").want(t, 0, "Proved.")
	must(t, os.RemoveAll(store))
	f.run(t, "seal", "--with", "file "+secret).want(t, 0, "Sealed.")
	f.run(t, "snapshot").want(t, 0, "Taken and verified.")
}
