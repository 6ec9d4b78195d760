package database

import (
	"crypto/x509"
	"errors"
	"os"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// TLS is used wherever the server offers it; what is required is checked, by name.
func TestConnectionsAreProtected(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account := server.Database(t)
		login := Login{Engine: "mysql", Host: "127.0.0.1", Port: account.Port, Name: account.Name, User: account.User, Password: account.Password}
		text, err := os.ReadFile(server.Authority)
		if err != nil {
			t.Fatal(err)
		}
		trusted := x509.NewCertPool()
		trusted.AppendCertsFromPEM(text)
		for name, c := range map[string]struct {
			change func(*Login)
			open   bool
			tls    bool
		}{
			"as it is offered":                {func(*Login) {}, true, true},
			"off":                             {func(l *Login) { l.TLS = TLSOff }, true, false},
			"required":                        {func(l *Login) { l.TLS, l.Trusted = TLSRequired, trusted }, true, true},
			"required, of nobody trusted":     {func(l *Login) { l.TLS = TLSRequired }, false, false},
			"required, and of another name":   {func(l *Login) { l.TLS, l.Trusted, l.Host = TLSRequired, trusted, "localhost" }, false, false},
			"by a socket, which is no wire":   {func(l *Login) { l.TLS, l.Socket = TLSRequired, account.Socket }, true, false},
			"required, with a wrong password": {func(l *Login) { l.TLS, l.Trusted, l.Password = TLSRequired, trusted, "x" }, false, false},
		} {
			if name == "off" && account.Kind.IsMySQL() {
				continue // opens only if the server remembers the account from a connection before
			}
			login := login
			c.change(&login)
			db, err := (Engines{}).Open(t.Context(), login, Everything)
			if !c.open {
				if err == nil {
					_ = db.Close()
				}
				if err == nil || login.Password == account.Password && login.TLS == TLSRequired && !errors.Is(err, ErrUnprotected) || login.Password != account.Password && !errors.Is(err, ErrDenied) {
					t.Errorf("%s: %v", name, err)
				}
				continue
			}
			if err != nil {
				t.Errorf("%s: %v", name, err)
				continue
			}
			rows, err := db.Query(t.Context(), "SHOW SESSION STATUS LIKE 'Ssl_cipher'")
			if err != nil || len(rows) != 1 || (rows[0][1].String() != "") != c.tls {
				t.Errorf("%s: %v %v", name, rows, err)
			}
			_ = db.Close()
		}
	})
}

// A server that offers no TLS, but asks for the password under a key of its own, does not learn it.
func TestRogueServerLearnsNoPassword(t *testing.T) {
	rogue := testenv.NewRogueServer(t)
	const password = "Tide and time"
	login := Login{Engine: "mysql", Host: "127.0.0.1", Port: rogue.Port, Name: "ferry", User: "keeper", Password: password}
	db, err := (Engines{}).Open(t.Context(), login, Everything)
	if err == nil {
		_ = db.Close()
	}
	if !errors.Is(err, ErrDenied) || !strings.Contains(err.Error(), "this server offers no TLS") {
		t.Error(err)
	}
	rogue.HasNotLearnt(t, password)
}
