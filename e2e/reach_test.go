package e2e

import (
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// behindPassword serves the site to the user staging, who knows the password. instead, if there is
// one, may answer such a request in the site's place, and tells whether it did.
func (f *ferry) behindPassword(t *testing.T, password string, instead func(w http.ResponseWriter, r *http.Request) bool) http.Handler {
	t.Helper()
	behind, err := url.Parse(f.address)
	must(t, err)
	site := httputil.NewSingleHostReverseProxy(behind)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, given, _ := r.BasicAuth(); user != "staging" || given != password {
			w.Header().Set("WWW-Authenticate", "Basic")
			http.Error(w, "who is there?", http.StatusUnauthorized)
			return
		}
		if instead == nil || !instead(w, r) {
			site.ServeHTTP(w, r)
		}
	})
}

// A copy for trying things out, behind a password and a certificate of its own: it is adopted
// and updated as any other, and the password is nowhere on record.
func TestProtectedSite(t *testing.T) {
	const password = "bell-at-noon-77"
	f := layOut(t)
	front := httptest.NewTLSServer(f.behindPassword(t, password, nil))
	defer front.Close()
	certificate := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: front.Certificate().Raw})
	secret := filepath.Join(f.care, "..", "secret")
	for name, text := range map[string]string{secret: password + "\n", f.care + "/own.pem": string(certificate)} {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	adopt := []string{"adopt", f.root, "--address", front.URL + "/", "--no-browser"}
	f.run(t, append(adopt, "--user", "staging")...).want(t, 2, "takes user and password_from together", "--password-from")
	f.run(t, append(adopt, "--user", "staging", "--password-from", "file "+f.care+"/nothing")...).want(t, 2, "nothing")
	if _, err := os.Stat(f.care + "/wetland.toml"); err == nil {
		t.Error("a refusal has written wetland.toml")
	}
	f.run(t, append(adopt, "--user", "staging", "--password-from", "file ../secret", "--certificates", "own.pem")...).want(t, 4, "this folder is what answers there")
	f.run(t, "smoke").want(t, 0)
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "in place")
	err := filepath.Walk(f.care, func(name string, info os.FileInfo, err error) error {
		if err != nil || info.IsDir() {
			return err
		}
		text, err := os.ReadFile(name)
		if strings.Contains(string(text), password) {
			t.Errorf("%s holds the password", name)
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
}
