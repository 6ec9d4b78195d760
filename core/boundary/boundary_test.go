package boundary

import (
	"context"
	"errors"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/host/hosttest"
)

// What is allowed is done as without a boundary.
func TestHostWithin(t *testing.T) {
	place := hosttest.Here(t, host.Here)
	allowed := grants{Folders: []string{place.Folder, filepath.ToSlash(os.TempDir())}}
	for _, all := range []map[string]string{place.Echo, place.Nobody, {"tcp": "127.0.0.1:1"}} {
		for network, address := range all {
			allowed.Servers = append(allowed.Servers, network+" "+address)
		}
	}
	place.Host = programs{&around{Host: host.Here, allowed: &allowed}, host.Here}
	hosttest.TestHost(t, place)
}

// programs runs any program, as a boundary does not.
type programs struct {
	host.Host
	any host.Host
}

func (p programs) Run(ctx context.Context, program string, args ...string) (string, error) {
	return p.any.Run(ctx, program, args...)
}

func (p programs) PutTemporary(ctx context.Context, ending string, content []byte) (string, func() error, error) {
	return p.any.PutTemporary(ctx, ending, content)
}

func must(t *testing.T, all ...error) {
	t.Helper()
	if err := errors.Join(all...); err != nil {
		t.Fatal(err)
	}
}

// site lays out a site of Rowlock beside what is somebody else's, keeps a host to it, and opens the folder
// that both are in.
func site(t *testing.T) (kept host.Host, above files.FS, around string) {
	t.Helper()
	around, err := filepath.EvalSymlinks(t.TempDir())
	must(t, err)
	for name, text := range map[string]string{
		"ferry/rowlock.toml": "version = \"3.2.0\"\nname = \"Ferry\"\naddress = \"http://ferry.example/\"\ndatabase = \"data/crossing.sqlite\"\n", "ferry/themes/otterby/theme.toml": "name = \"Otterby\"\n",
		"ferry/data/crossing.sqlite": "", "ferry/uploads/a.txt": "a", "other/secret.txt": "theirs", "other/x.sqlite": "", "notes.txt": "theirs", ".my.cnf": "theirs",
	} {
		file := filepath.Join(around, name)
		must(t, os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(text), 0o644))
	}
	must(t, os.Symlink("../../other", filepath.Join(around, "ferry/themes/leads-out")))
	kept, err = Keep(t.Context(), host.Here, Site{Root: filepath.ToSlash(around) + "/ferry"})
	must(t, err)
	around = filepath.ToSlash(around)
	above, err = kept.Open(t.Context(), around)
	must(t, err)
	t.Cleanup(func() { _ = above.Close() })
	return kept, above, around
}

// Whoever asks for what is not the site's gets nothing, and changes nothing.
func TestNothingOutside(t *testing.T) {
	kept, above, around := site(t)
	ctx := t.Context()
	with := files.Attributes{Mode: 0o644, Owner: files.Unowned, Group: files.Unowned}
	attacks := map[string]func() error{
		"open another site":         func() error { _, err := kept.Open(ctx, around+"/other"); return err },
		"open the system":           func() error { _, err := kept.Open(ctx, "/etc"); return err },
		"open a name that leads up": func() error { _, err := kept.Open(ctx, around+"/ferry/../other"); return err },
		"resolve a link elsewhere":  func() error { _, err := kept.Real(ctx, "/etc/passwd"); return err },
		"read another's file":       func() error { _, err := above.Open(ctx, "other/secret.txt", 0); return err },
		"read a file beside":        func() error { _, err := above.Open(ctx, ".my.cnf", 0); return err },
		"look at a file beside":     func() error { _, err := above.Lstat(ctx, "notes.txt"); return err },
		"list another site":         func() error { _, err := above.List(ctx, "other"); return err },
		"create beside":             func() error { _, err := above.Create(ctx, "new.txt", with); return err },
		"create in another site":    func() error { _, err := above.Create(ctx, "other/new.php", with); return err },
		"make a folder beside":      func() error { return above.Mkdir(ctx, "new", with) },
		"link beside":               func() error { return above.Symlink(ctx, "/etc", "new", with) },
		"change another's file":     func() error { return above.Settle(ctx, "other/secret.txt", with) },
		"change the folder above":   func() error { return above.Settle(ctx, ".", with) },
		"remove another's file":     func() error { return above.Remove(ctx, "notes.txt") },
		"remove another site":       func() error { return above.RemoveAll(ctx, "other") },
		"bring a file in":           func() error { return above.Rename(ctx, "other/secret.txt", "ferry/uploads/x") },
		"put a file out":            func() error { return above.Rename(ctx, "ferry/uploads/a.txt", "other/x") },
		"exchange with another":     func() error { return files.Exchange(ctx, above, "ferry/uploads", "other") },
		"lock another site":         func() error { _, err := files.Lock(ctx, above, "other", nil); return err },
		"copy marks out":            func() error { return files.CopyMarks(ctx, above, "ferry", "other") },
		"dial another server":       func() error { _, err := kept.Dial(ctx, "tcp", "127.0.0.1:22"); return err },
		"dial another socket":       func() error { _, err := kept.Dial(ctx, "unix", "/run/docker.sock"); return err },
		"run a shell":               func() error { _, err := kept.Run(ctx, "sh", "-c", "id"); return err },
		"run PHP":                   func() error { _, err := kept.Run(ctx, "php", "-r", "system('id');"); return err },
		"make a program":            func() error { _, _, err := kept.PutTemporary(ctx, ".sh", nil); return err },
		"open another database": func() error {
			_, err := kept.Databases().Open(ctx, database.Login{Engine: "sqlite", File: around + "/other/x.sqlite"}, database.Everything)
			return err
		},
		"open another database by a link": func() error {
			_, err := kept.Databases().Open(ctx, database.Login{Engine: "sqlite", File: around + "/ferry/themes/leads-out/x.sqlite"}, database.Everything)
			return err
		},
		"make a database by a link": func() error {
			return kept.Databases().Create(ctx, database.Login{Engine: "sqlite", File: around + "/ferry/themes/leads-out/new.sqlite"})
		},
		"make a database elsewhere": func() error {
			return kept.Databases().Create(ctx, database.Login{Engine: "sqlite", File: around + "/other/x.sqlite"})
		},
		"log in to a server": func() error {
			_, err := kept.Databases().Open(ctx, database.Login{Engine: "mysql", Host: "127.0.0.1", Port: 3306}, database.Everything)
			return err
		},
	}
	before := tree(t, around)
	for name, attack := range attacks {
		if err := attack(); !errors.Is(err, files.ErrOutside) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if differ := files.Exact.Compare(before, tree(t, around)); len(differ) > 0 {
		t.Errorf("something was done all the same: %v", differ)
	}
	entries, err := above.List(ctx, ".")
	if err != nil || !slices.EqualFunc(entries, []string{"ferry"}, func(e files.Entry, name string) bool { return e.Name == name }) {
		t.Errorf("what stands beside the site is told: %v %v", entries, err)
	}
}

func tree(t *testing.T, top string) files.Tree {
	t.Helper()
	fsys, err := host.Here.Open(t.Context(), top)
	must(t, err)
	defer fsys.Close()
	read, err := files.ReadTree(t.Context(), fsys, ".", files.Scope{})
	must(t, err)
	return read
}

// What an update needs is allowed: the site, what waits beside it, and its own database.
func TestTheSiteIsAllowed(t *testing.T) {
	kept, above, around := site(t)
	ctx := t.Context()
	with := files.Attributes{Mode: 0o700, Owner: files.Unowned, Group: files.Unowned}
	must(t, above.Mkdir(ctx, ".wetland-staging-x", with), above.Rename(ctx, "ferry/themes/otterby", ".wetland-staging-x/otterby"), above.Rename(ctx, ".wetland-staging-x/otterby", "ferry/themes/otterby"),
		above.RemoveAll(ctx, ".wetland-staging-x"), above.SyncFolder(ctx, "."), above.Writable(ctx, "."))
	db, err := kept.Databases().Open(ctx, database.Login{Engine: "sqlite", File: path.Join(around, "ferry/data/crossing.sqlite")}, database.Everything)
	must(t, err)
	for _, statement := range []string{"ATTACH '" + around + "/other/x.sqlite' AS theirs", "VACUUM INTO '" + around + "/other/copy.sqlite'"} {
		if _, err := db.Query(ctx, statement); err == nil || !strings.Contains(err.Error(), "too many attached") {
			t.Errorf("%s: %v", statement, err)
		}
	}
	must(t, db.Close())
	if real, err := kept.Real(ctx, around+"/ferry/themes/leads-out"); err != nil || real != around+"/other" {
		t.Errorf("a link of the site's own: %s %v", real, err)
	}
}

// ground is a machine that makes worlds, of which only the folder is there.
type ground struct {
	host.Host
	top  string
	made int
}

func (g *ground) Machine(context.Context) (host.Machine, error) {
	return host.Machine{Shown: []string{"/usr", "/home/keeper/helper"}}, nil
}

func (g *ground) Confine(context.Context, host.World) (io.ReadWriteCloser, string, error) {
	g.made++
	return nil, g.top, nil
}

// A world is shown programs and nothing else of the machine, and what it holds may be changed.
func TestWorlds(t *testing.T) {
	_, _, around := site(t)
	ctx := t.Context()
	must(t, os.MkdirAll(filepath.Join(around, "rooms/a/world"), 0o755))
	on := &ground{Host: host.Here, top: around + "/rooms/a/world"}
	kept, err := Keep(ctx, on, Site{Root: around + "/ferry"})
	must(t, err)
	if _, err := kept.Open(ctx, on.top); !errors.Is(err, files.ErrOutside) {
		t.Errorf("a world that was not made: %v", err)
	}
	makes := kept.(host.Confiner)
	for _, name := range []string{around + "/other", "/", "/usr/../home", "/home/keeper", "usr"} {
		if _, _, err := makes.Confine(ctx, host.World{Shown: []string{"/usr/lib", name}}); !errors.Is(err, files.ErrOutside) {
			t.Errorf("%s is shown: %v", name, err)
		}
	}
	if on.made != 0 {
		t.Errorf("%d worlds were made", on.made)
	}
	_, _, err = makes.Confine(ctx, host.World{Shown: []string{"/usr/bin/php", "/home/keeper/helper"}})
	must(t, err)
	world, err := kept.Open(ctx, on.top)
	must(t, err)
	defer world.Close()
	must(t, world.Mkdir(ctx, "site", files.Attributes{Mode: 0o700, Owner: files.Unowned, Group: files.Unowned}))
	if _, err := kept.Open(ctx, around+"/rooms/b"); !errors.Is(err, files.ErrOutside) {
		t.Errorf("what is beside it: %v", err)
	}
}
