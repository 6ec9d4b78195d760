package database

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"os"
	"testing"

	"wetland/internal/testenv"
)

// TLS is taken wherever the server offers it; what is required is checked, by name.
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
			db, err := Open(t.Context(), login, Everything)
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
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	learnt := make(chan []byte, 16)
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go rogue(conn, key, learnt)
		}
	}()
	const password = "Tide and time"
	login := Login{Engine: "mysql", Host: "127.0.0.1", Port: listener.Addr().(*net.TCPAddr).Port, Name: "ferry", User: "keeper", Password: password}
	if db, err := Open(t.Context(), login, Everything); err == nil {
		_ = db.Close()
		t.Fatal("it is open")
	}
	close(learnt)
	count := 0
	for sent := range learnt {
		count++
		if bytes.Contains(sent, []byte(password)) {
			t.Errorf("the server learnt %q", sent)
		}
	}
	if count == 0 {
		t.Error("nothing was asked for")
	}
}

// rogue speaks the protocol up to the password (Connection Phase, in MySQL's manual of its
// client/server protocol), and notes what it can read.
func rogue(conn net.Conn, key *rsa.PrivateKey, learnt chan<- []byte) {
	defer conn.Close()
	scramble := bytes.Repeat([]byte("s"), 20)
	sequence := byte(0)
	send := func(payload []byte) {
		_, _ = conn.Write(append([]byte{byte(len(payload)), byte(len(payload) >> 8), byte(len(payload) >> 16), sequence}, payload...))
	}
	receive := func() []byte {
		head := make([]byte, 4)
		if _, err := io.ReadFull(conn, head); err != nil {
			return nil
		}
		sequence = head[3] + 1
		payload := make([]byte, int(head[0])|int(head[1])<<8|int(head[2])<<16)
		if _, err := io.ReadFull(conn, payload); err != nil {
			return nil
		}
		return payload
	}
	// Protocol 10, version, connection, scramble, capabilities without CLIENT_SSL (0x0800).
	hello := append([]byte{10}, "9.0.0\x00\x01\x00\x00\x00"...)
	hello = append(hello, scramble[:8]...)
	hello = append(hello, 0, 0xff, 0xf7, 45, 2, 0, 0xff, 0x81, 21)
	hello = append(hello, make([]byte, 10)...)
	hello = append(append(hello, scramble[8:]...), 0)
	send(append(hello, "caching_sha2_password\x00"...))
	if receive() == nil {
		return
	}
	send([]byte{1, 4}) // the whole password is wanted
	asked := receive()
	if len(asked) == 1 && asked[0] == 2 { // for the server's key
		public, _ := x509.MarshalPKIXPublicKey(key.Public())
		send(append([]byte{1}, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})...))
		asked = receive()
	}
	if plain, err := rsa.DecryptOAEP(sha1.New(), nil, key, asked, nil); err == nil {
		for i := range plain {
			plain[i] ^= scramble[i%len(scramble)]
		}
		asked = plain
	}
	defer func() { _ = recover() }() // the test has ended
	learnt <- asked
}
