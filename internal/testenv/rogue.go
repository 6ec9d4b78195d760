package testenv

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"encoding/pem"
	"io"
	"net"
	"sync"
	"testing"
)

// RogueServer pretends to be a MySQL server without TLS that wants the whole password, encrypted
// under a key of its own.
type RogueServer struct {
	Port int

	key *rsa.PrivateKey
	mu  sync.Mutex
	got [][]byte
}

// NewRogueServer serves until the test ends.
func NewRogueServer(t testing.TB) *RogueServer {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	listener := listen(t)
	t.Cleanup(func() { _ = listener.Close() })
	rogue := &RogueServer{Port: listener.Addr().(*net.TCPAddr).Port, key: key}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go rogue.answer(conn)
		}
	}()
	return rogue
}

// HasNotLearnt fails if the password came, or if nobody logged in.
func (s *RogueServer) HasNotLearnt(t testing.TB, password string) {
	t.Helper()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, sent := range s.got {
		if bytes.Contains(sent, []byte(password)) {
			t.Errorf("the server learnt %q", sent)
		}
	}
	if len(s.got) == 0 {
		t.Error("nobody logged in")
	}
}

// answer speaks the protocol up to the password (Connection Phase, in MySQL's manual of its
// client/server protocol), and notes what it can read.
func (s *RogueServer) answer(conn net.Conn) {
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
		public, _ := x509.MarshalPKIXPublicKey(s.key.Public())
		send(append([]byte{1}, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})...))
		asked = receive()
	}
	if plain, err := rsa.DecryptOAEP(sha1.New(), nil, s.key, asked, nil); err == nil {
		for i := range plain {
			plain[i] ^= scramble[i%len(scramble)]
		}
		asked = plain
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.got = append(s.got, asked)
	send(append([]byte{0xff, 0x15, 0x04}, "#28000Access denied for user"...)) // 1045
}
