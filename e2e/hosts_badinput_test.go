package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/demo/sshd"
	"wetland/internal/testenv"
)

// What is wrong with an account, a host or the way there is told, with what to do, and nothing is lost.
func TestHostsThatDoNotServe(t *testing.T) {
	t.Parallel()
	f := layOut(t)
	home := t.TempDir()
	must(t, os.Mkdir(filepath.Join(home, ".ssh"), 0o700))
	key := testenv.MakeSSHKey(t, filepath.Join(home, ".ssh"), "id_ed25519", "")
	elsewhere := testenv.MakeSSHKey(t, t.TempDir(), "other", "")
	script := filepath.Join(t.TempDir(), "shell")
	must(t, os.WriteFile(script, []byte("#!/bin/sh\necho 'Welcome aboard the Otterby ferry!'\necho\nexec /bin/sh -c \"$SSH_ORIGINAL_COMMAND\"\n"), 0o755))
	type hosted struct {
		name     string
		settings []string // of the server
		key      string   // that it lets in; "": the user's
		known    func(s *testenv.SSHServer) string
		root     string
		address  string // "": the site's
		config   string // of the user's ssh
		args     []string
		code     int
		words    []string
	}
	link := filepath.Join(t.TempDir(), "www")
	must(t, os.Symlink(f.root, link))
	var many strings.Builder
	for i := range 8 {
		fmt.Fprintln(&many, "IdentityFile", testenv.MakeSSHKey(t, t.TempDir(), fmt.Sprint("key-", i), ""))
	}
	other := layOut(t)
	for _, item := range tree(t, other.root, "data") {
		if item.Kind == files.File && (strings.HasPrefix(item.Path, "uploads/") || strings.HasSuffix(item.Path, ".css")) {
			must(t, os.WriteFile(filepath.Join(other.root, item.Path), []byte("of another site"), 0o644))
		}
	}
	cases := []hosted{
		{name: "all is well", code: 0, words: []string{"Adopted."}},
		{name: "a shell that greets", settings: []string{"ForceCommand " + script}, code: 0, words: []string{"Adopted."}},
		{name: "one session at a time", settings: []string{"MaxSessions 1"}, code: 0, words: []string{"Adopted."}},
		{name: "an unknown key", known: func(*testenv.SSHServer) string { return "" }, code: 1, words: []string{"is not known yet: its key is SHA256:", "Compare the fingerprint"}},
		{name: "another fingerprint", known: func(*testenv.SSHServer) string { return "" }, args: []string{"--host-key", "SHA256:0000"}, code: 1, words: []string{"you named the key SHA256:0000"}},
		{name: "a changed key", known: func(s *testenv.SSHServer) string {
			public, _ := os.ReadFile(elsewhere + ".pub")
			return strings.Fields(s.KnownLine(t))[0] + " " + string(public)
		}, code: 1, words: []string{"has another key than the one that is known", "known_hosts, line 1", "Ask your host before you do anything else"}},
		{name: "a key that is not let in", key: elsewhere, code: 1, words: []string{"does not let this account in", "Tried: the key SHA256:", "Check that ssh lets you in: ssh -p"}},
		{name: "no consent", args: []string{"-no-helper"}, code: 1, words: []string{"nobody allowed yet that Wetland puts its helper there", "--put-helper"}},
		{name: "a folder that is not there", root: "/srv/no/such/folder", code: 1, words: []string{"there is no file or folder ssh://", "/srv/no/such/folder"}},
		{name: "a folder without a site", root: "/usr", code: 1, words: []string{"ROOT is the folder that the web server hands out"}},
		{name: "a folder by a link", root: link, code: 0, words: []string{"Adopted."}},
		{name: "another site behind the address", address: other.address, code: 2, words: []string{"answers at"}},
		{name: "too many keys", settings: []string{"MaxAuthTries 3"}, config: many.String(), code: 1, words: []string{"does not let this account in", "IdentitiesOnly"}},
		{name: "files alone", settings: []string{"ForceCommand internal-sftp"}, code: 4, words: []string{"the account runs no programs of ours", "names the site by sftp://", "tables can be neither kept nor put back"}},
		{name: "a jailed shell", settings: []string{"ForceCommand /bin/echo This account may not do that."}, code: 1, words: []string{"the account runs no programs of ours", "This account may not do that."}},
		{name: "no way to write there", settings: []string{"SetEnv XDG_CACHE_HOME=/proc/nowhere"}, code: 1, words: []string{"it could not be written", "/proc/nowhere"}},
		{name: "a password in the address", root: "//keeper:secret@127.0.0.1/srv", code: 1, words: []string{"must hold no password"}},
	}
	if disk := mounted(t, "noexec"); disk != "" {
		cases = append(cases, hosted{name: "no program may run", settings: []string{"SetEnv XDG_CACHE_HOME=" + disk}, code: 1, words: []string{"forbids to run " + disk, "helper_folder under [host]"}})
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			settings := c.settings
			if !strings.Contains(strings.Join(settings, " "), "XDG_CACHE_HOME") {
				settings = append(settings, "SetEnv XDG_CACHE_HOME="+t.TempDir())
			}
			server := testenv.StartSSH(t, settings...)
			if c.key == "" {
				c.key = key
			}
			server.Allow(t, c.key)
			known := server.KnownLine(t)
			if c.known != nil {
				known = c.known(server)
			}
			must(t, os.WriteFile(filepath.Join(home, ".ssh", "known_hosts"), []byte(known), 0o600))
			must(t, os.WriteFile(filepath.Join(home, ".ssh", "config"), []byte(c.config), 0o600))
			account := sshd.Account{Server: server.Server}
			root := account.At(f.root)
			switch {
			case strings.HasPrefix(c.root, "//"):
				root = "ssh:" + c.root
			case c.root != "":
				root = account.At(c.root)
			}
			if c.address == "" {
				c.address = f.address
			}
			args := append([]string{"adopt", root, "--address", c.address, "--no-browser"}, c.args...)
			if len(c.args) == 1 && c.args[0] == "-no-helper" {
				args = args[:len(args)-1]
			} else {
				args = append(args, "--put-helper")
			}
			command := exec.Command(program, args...)
			command.Env = append(os.Environ(), "HOME="+home, "SSH_AUTH_SOCK=")
			care := t.TempDir()
			r := finish(t, command, care).want(t, c.code, c.words...)
			settled, err := os.ReadFile(filepath.Join(care, "wetland.toml"))
			if adopted := c.code == 0 || c.code == 4; (err == nil) != adopted {
				t.Errorf("wetland.toml: %v\n%s", err, r)
			}
			if c.name == "files alone" && (!strings.Contains(string(settled), `root = "sftp://`) || strings.Contains(string(settled), "helper")) {
				t.Errorf("wetland.toml: %s", settled)
			}
			if strings.Contains(r.stdout+r.err, "secret") {
				t.Errorf("the password is printed\n%s", r)
			}
		})
	}
}

// What only the site's own machine can reach is fetched from there. Nobody else knows the name here:
// the helper's machine is asked to connect to the server.
func TestPagesFromTheHost(t *testing.T) {
	f := layOut(t)
	account := testenv.OwnSSHAccount(t)
	reachBySSH(t, account)
	server := strings.TrimSuffix(strings.TrimPrefix(f.address, "http://"), "/")
	f.run(t, "adopt", f.root, "--address", f.address, "--server", server, "--from-host", "--no-browser").want(t, 0, "Adopted.")
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "Kept.")
	wetlandHere := exec.Command(program, "adopt", f.root, "--address", f.address, "--from-host")
	finish(t, wetlandHere, t.TempDir()).want(t, 2, "fetched from the site's own machine where that is another one")
}

// No secret is where another user of the machine could read it: neither in the helper's arguments nor
// in its environment.
func TestHelperHasNoSecret(t *testing.T) {
	testenv.TakesLong(t)
	site := testenv.WordPress(t)
	t.Parallel()
	account := testenv.StartSSHAccount(t)
	reachBySSH(t, account)
	workspace := t.TempDir()
	command := wetlandCommand(t, "adopt", site.Root, "--address", site.Address, "--no-browser")
	command.Dir = workspace
	must(t, command.Start())
	ended := make(chan error, 1)
	go func() { ended <- command.Wait() }()
	p := &parted{account: account}
	seen := 0
	for over := false; !over; {
		select {
		case <-ended:
			over = true
		case <-time.After(2 * time.Millisecond):
		}
		for _, process := range p.helpers() {
			folder := fmt.Sprintf("/proc/%d", process)
			arguments, err1 := os.ReadFile(filepath.Join(folder, "cmdline"))
			environment, err2 := os.ReadFile(filepath.Join(folder, "environ"))
			if err1 != nil || err2 != nil || len(arguments) == 0 {
				continue
			}
			seen++
			if text := string(arguments) + string(environment); strings.Contains(text, site.Password) || strings.Contains(text, "Tide") {
				t.Fatalf("the password is there: %q", text)
			}
		}
	}
	if seen == 0 {
		t.Error("the helper was never seen")
	}
}
