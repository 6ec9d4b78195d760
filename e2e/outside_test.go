package e2e

import (
	"bytes"
	"crypto/tls"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"wetland/core/smoke/browser"
	"wetland/internal/testenv"
)

// A package's scripts and sheets may be nested as deep as they want: the update comes to its end,
// and says so.
func TestNestedCodeOfAPackage(t *testing.T) {
	t.Parallel()
	deep := func(open string) string { return strings.Repeat(open, (5<<20)/len(open)) }
	for name, c := range map[string]struct{ file, text string }{
		"bound names": {"assets/menu.js", "var " + deep("{a:")},
		"functions":   {"assets/menu.js", deep("function f(){")},
		"selectors":   {"style.css", deep(":not(") + " { color: red }"},
	} {
		t.Run(name, func(t *testing.T) {
			f := adopted(t)
			before := f.siteTree(t)
			entries := entriesOf(t, filepath.Join(f.root, "themes/harbourlight"), "harbourlight")
			entries["harbourlight/theme.toml"] = strings.Replace(entries["harbourlight/theme.toml"], "2.4.1", "2.5.9", 1)
			entries["harbourlight/"+c.file] = c.text
			r := f.run(t, "update", zipOf(t, "harbourlight-2.5.9.zip", entries), "--in-doubt", "back")
			if strings.Contains(r.err, "goroutine ") || strings.Contains(r.err, "broke off") {
				t.Fatalf("it broke off:\n%s", r)
			}
			r.want(t, 3, "Put back.")
			same(t, before, f.siteTree(t))
		})
	}
}

// Between fetching and the browser's look somebody else answers, with a certificate that the same
// authority made for another name: the password does not go there.
func TestBrowserGivesThePasswordToNobodyElse(t *testing.T) {
	t.Parallel()
	if browser.Find() == "" {
		testenv.Missing(t, "chromium")
	}
	f := layOut(t)
	authority, err := testenv.NewAuthority()
	must(t, err)
	own, err1 := authority.For("127.0.0.1")
	others, err2 := authority.For("rogue.example")
	must(t, err1, err2)
	var lookedAt, exchanged atomic.Bool
	var toOthers sync.Map // the connections that were given the other certificate
	site := f.behindPassword(t, "low tide", func(w http.ResponseWriter, r *http.Request) bool {
		if !exchanged.Load() || !strings.Contains(r.UserAgent(), "Chrome") {
			return false
		}
		lookedAt.Store(true)
		w.Header().Set("Connection", "close")
		w.WriteHeader(http.StatusServiceUnavailable)
		return true
	})
	front := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, other := toOthers.Load(r.RemoteAddr); other {
			_, password, _ := r.BasicAuth()
			t.Errorf("another server was asked, with the password %q", password)
		}
		site.ServeHTTP(w, r)
	}))
	front.TLS = &tls.Config{GetConfigForClient: func(hello *tls.ClientHelloInfo) (*tls.Config, error) {
		if lookedAt.Load() {
			toOthers.Store(hello.Conn.RemoteAddr().String(), true)
			return &tls.Config{Certificates: []tls.Certificate{*others}}, nil
		}
		return &tls.Config{Certificates: []tls.Certificate{*own}}, nil
	}}
	front.StartTLS()
	defer front.Close()
	must(t, os.WriteFile(filepath.Join(f.care, "password"), []byte("low tide\n"), 0o600),
		os.WriteFile(filepath.Join(f.care, "own.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: authority.Certificate.Raw}), 0o600))
	f.run(t, "adopt", f.root, "--address", front.URL+"/", "--user", "staging", "--password-from", "file password", "--certificates", "own.pem").want(t, 4, "this folder is what answers there")
	// More than are looked at at the same time: those that come later connect anew.
	onlyPages(t, f.care, "/", "/fares", "/timetable", "/contact", "/notices", "/getting-here")
	f.run(t, "smoke").want(t, 0)
	exchanged.Store(true)
	r := f.run(t, "smoke")
	met := false
	toOthers.Range(func(any, any) bool { met = true; return false })
	if !met || r.code == 0 {
		t.Errorf("another server was met: %v\n%s", met, r)
	}
}

// As root, the browser runs as nobody, with none of our environment and a folder of its own.
func TestBrowserHasFewRights(t *testing.T) {
	real := browser.Find()
	if real == "" || os.Geteuid() != 0 {
		testenv.Missing(t, "chromium, and the rights of root")
	}
	f := layOut(t)
	shared, err := os.MkdirTemp("", "browser-of-others-*")
	must(t, err)
	defer os.RemoveAll(shared)
	told, wrapper := filepath.Join(shared, "told"), filepath.Join(shared, "chromium")
	must(t, os.WriteFile(told, nil, 0o666), os.Chmod(told, 0o666), os.Chmod(shared, 0o755),
		os.WriteFile(wrapper, []byte("#!/bin/sh\n{ id -u; env; } >> "+told+"\nexec "+real+" \"$@\"\n"), 0o755), os.Chmod(wrapper, 0o755))
	t.Setenv("FERRY_SECRET", "opensesame")
	f.run(t, "adopt", f.root, "--address", f.address, "--no-browser").want(t, 0)
	f.edit(t, f.config(), `browser = "none"`, `browser = "`+wrapper+`"`)
	f.run(t, "smoke").want(t, 0)
	text, err := os.ReadFile(told)
	must(t, err)
	user, environment, _ := strings.Cut(string(text), "\n")
	if user != "65534" || strings.Contains(environment, "opensesame") || strings.Contains(environment, os.Getenv("HOME")+"\n") {
		t.Errorf("it runs as %s, with\n%s", user, environment)
	}
}

// A server in the database's place, which offers no TLS and wants the password under a key of its
// own, does not learn it.
func TestServerInTheDatabasesPlace(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	workspace := care(t, site)
	rogue := testenv.NewRogueServer(t)
	edit(t, filepath.Join(site.Root, "wp-config.php"), fmt.Sprintf("127.0.0.1:%d", site.Port), fmt.Sprintf("127.0.0.1:%d", rogue.Port))
	wetland(t, workspace, "snapshot").want(t, 2, "refuses this user or password", "this server offers no TLS")
	rogue.HasNotLearnt(t, site.Password)
}

// A value is a value, whatever a forged store says of its column's type: nothing of it is carried
// out when it is restored, or when a plain client loads what was exported.
func TestValuesOfAForgedStore(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	workspace := care(t, site)
	kinds := []string{"int", "double", "decimal", "bit", "json", "year", "geometry"}
	_, err := site.Account.Root.Exec("CREATE DATABASE of_loaded")
	must(t, err)
	for _, kind := range kinds {
		_, err := site.Account.Root.Exec("CREATE TABLE of_" + kind + " (id INT PRIMARY KEY, value TEXT)")
		must(t, err)
		_, err = site.Account.Root.Exec("INSERT INTO of_"+kind+" VALUES (1, ?)", "1);CREATE TABLE `"+site.Account.Name+"`.`came_of_"+kind+"` (a INT);-- ")
		must(t, err)
	}
	wetland(t, workspace, "snapshot").want(t, 0)
	forge(t, workspace, "snap-1", func(m object) {
		for _, kind := range kinds {
			for _, column := range tableOf(t, m, "of_"+kind)["columns"].([]any) {
				if column := column.(object); column["name"] == "value" {
					column["type"] = kind
				}
			}
		}
	})
	for _, kind := range kinds {
		_, err := site.Account.Root.Exec("UPDATE of_" + kind + " SET value = 'another'")
		must(t, err)
	}
	if r := wetland(t, workspace, "restore", "snap-1", "--only", "database", "--yes"); strings.Contains(r.err, "goroutine ") {
		t.Error(r)
	}
	exported := filepath.Join(t.TempDir(), "exported")
	if r := wetland(t, workspace, "export", "snap-1", exported); r.code == 0 {
		sql, err := os.Open(filepath.Join(exported, "database.sql"))
		must(t, err)
		load := site.Client("--force", "of_loaded") // a column that is not of its type may be an error
		load.Stdin = sql
		_, _ = load.CombinedOutput()
		must(t, sql.Close())
	}
	if made := column(t, site.Account.Root, "SHOW TABLES LIKE 'came\\_of\\_%'"); len(made) > 0 {
		t.Errorf("values were carried out: %q", made)
	}
}

// A bundle with very many folders is looked through, or refused for holding more than anybody
// bundles.
func TestBundleOfManyFolders(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	entries := map[string]string{"all/f7000/plugin.toml": "name = \"Tidetable\"\nversion = \"1.4.0\"\n"}
	for n := range 20_000 {
		entries[fmt.Sprintf("all/f%d/text.txt", n)] = "x"
	}
	f.run(t, "examine", zipOf(t, "one.zip", entries)).want(t, 3, "Tidetable")
	for n := range 300 {
		entries[fmt.Sprintf("all/f%d/plugin.toml", n)] = entries["all/f7000/plugin.toml"]
	}
	f.run(t, "examine", zipOf(t, "many.zip", entries)).want(t, 3, "more than 200 packages")
}

// A wetland.toml that others own or may write is not obeyed: no command of theirs is run.
func TestSettingsOfOthers(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	ran := filepath.Join(t.TempDir(), "ran")
	text, err := os.ReadFile(f.config())
	must(t, err)
	must(t, os.WriteFile(f.config(), append(text, "\n[hooks]\nbefore = \"touch "+ran+"\"\n"...), 0o600))
	below := filepath.Join(f.care, "below")
	must(t, os.Mkdir(below, 0o755))
	refuse := func(words ...string) {
		t.Helper()
		for _, folder := range []string{f.care, below} {
			wetland(t, folder, "update", f.pkg("enquiries-1.2.0")).want(t, 1, words...)
		}
		if _, err := os.Stat(ran); !errors.Is(err, os.ErrNotExist) {
			t.Error("their command was run")
		}
	}
	must(t, os.Chmod(f.config(), 0o666))
	refuse("everybody on this machine can write there", "chmod o-w")
	must(t, os.Chmod(f.config(), 0o600), os.Chmod(f.care, 0o777))
	refuse("everybody on this machine can write there", "chmod o-w")
	must(t, os.Chmod(f.care, 0o700))
	if os.Geteuid() == 0 {
		must(t, os.Chown(f.config(), 65534, 65534))
		refuse("you run Wetland as root")
		must(t, os.Chown(f.config(), 0, 0))
	}
	f.run(t, "update", f.pkg("enquiries-1.2.0")).want(t, 0, "Kept.")
	if _, err := os.Stat(ran); err != nil {
		t.Errorf("one's own command is not run: %v", err)
	}
}

// A vendor's key goes to the vendor alone, and a package comes from nowhere that can be read or
// changed on the way.
func TestKeyGoesNowhereElse(t *testing.T) {
	f := adopted(t)
	var met atomic.Value
	archive, err := os.ReadFile(f.pkg("tidetable-2.0.0"))
	must(t, err)
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		met.Store(r.Clone(t.Context()))
		http.ServeContent(w, r, "tidetable-2.0.0.zip", time.Time{}, bytes.NewReader(archive))
	}))
	defer elsewhere.Close()
	where := elsewhere.URL + "/files/tidetable-2.0.0.zip"
	leads := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Location", where)
		w.WriteHeader(http.StatusFound)
	})
	plain, secure := httptest.NewServer(leads), httptest.NewTLSServer(leads)
	defer plain.Close()
	defer secure.Close()
	authority := filepath.Join(t.TempDir(), "authority.pem")
	must(t, os.WriteFile(authority, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: secure.Certificate().Raw}), 0o600))
	t.Setenv("SSL_CERT_FILE", authority)
	var said []result
	shelve := func(from string, code int, words ...string) {
		t.Helper()
		said = append(said, f.shelveWith(t, "", from+"/tidetable.zip?key="+licenceKey+"\n", "-").want(t, code, words...))
	}
	shelve(plain.URL, 0, "Tidetable 2.0.0")
	if asked, _ := met.Load().(*http.Request); asked == nil || strings.Contains(fmt.Sprint(asked.Header, asked.URL), licenceKey) {
		t.Errorf("the other host was told %+v", asked)
	}
	met.Store(&http.Request{})
	shelve(secure.URL, 2, "from https to http")
	if met.Load().(*http.Request).URL != nil {
		t.Error("what can be changed on the way was taken")
	}
	for _, where = range []string{"http://[" + licenceKey, "http://%zz/" + licenceKey, "://" + licenceKey} {
		shelve(plain.URL, 2)
	}
	endless := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "1099511627776")
		_, _ = w.Write([]byte("PK"))
	}))
	defer endless.Close()
	shelve(endless.URL, 2, "512")
	f.secretNowhere(t, said...)
}

// While the browser looks, another user of this machine finds the door through which it reaches the
// site, behind its password: it is shut in front of them.
func TestBrowsersWayIsForNobodyElse(t *testing.T) {
	t.Parallel()
	if browser.Find() == "" || os.Geteuid() != 0 {
		testenv.Missing(t, "chromium, and the rights of root")
	}
	f := layOut(t)
	looked, goOn := make(chan struct{}), make(chan struct{})
	var once sync.Once
	front := httptest.NewServer(f.behindPassword(t, "low tide", func(_ http.ResponseWriter, r *http.Request) bool {
		if strings.Contains(r.UserAgent(), "Chrome") {
			once.Do(func() { close(looked) })
			<-goOn
		}
		return false
	}))
	defer front.Close()
	must(t, os.WriteFile(filepath.Join(f.care, "password"), []byte("low tide\n"), 0o600))
	f.run(t, "adopt", f.root, "--address", front.URL+"/", "--user", "staging", "--password-from", "file password", "--no-browser").want(t, 4, "this folder is what answers there")
	f.edit(t, f.config(), `browser = "none"`, "")
	command := wetlandCommand(t, "smoke")
	command.Dir = f.care
	must(t, command.Start())
	defer func() { _ = command.Wait() }()
	defer close(goOn)
	<-looked
	doors := listening(t, childOf(command))
	if len(doors) != 1 {
		t.Fatalf("the browser has the doors %q", doors)
	}
	for _, door := range doors {
		ask := "exec 3<>/dev/tcp/127.0.0.1/" + door + " && printf 'GET " + front.URL + "/fares HTTP/1.1\\r\\nHost: x\\r\\nConnection: close\\r\\n\\r\\n' >&3 && cat <&3"
		for user, want := range map[uint32]bool{0: true, 65533: false} {
			other := exec.Command("bash", "-c", ask)
			other.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: user, Gid: user}}
			if answer, _ := other.Output(); strings.Contains(string(answer), "Fares") != want {
				t.Errorf("the user %d got %q", user, answer)
			}
		}
	}
}

// listening names the ports of this machine's own address at which a process listens.
func listening(t *testing.T, process int) (ports []string) {
	t.Helper()
	own := map[string]bool{}
	handles, err := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", process))
	must(t, err)
	for _, handle := range handles {
		if to, err := os.Readlink(handle); err == nil && strings.HasPrefix(to, "socket:[") {
			own[strings.Trim(to, "socket:[]")] = true
		}
	}
	table, err := os.ReadFile("/proc/net/tcp")
	must(t, err)
	for _, line := range strings.Split(string(table), "\n")[1:] {
		columns := strings.Fields(line) // proc_net_tcp: local address, state 0A for listening, inode
		if len(columns) < 10 || columns[3] != "0A" || !own[columns[9]] {
			continue
		}
		if port, here := strings.CutPrefix(columns[1], "0100007F:"); here {
			number, err := strconv.ParseUint(port, 16, 16)
			must(t, err)
			ports = append(ports, fmt.Sprint(number))
		}
	}
	return ports
}
