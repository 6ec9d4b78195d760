package privatecopy

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"time"
)

// certificate is that of one copy: its key exists as long as the copy, and only who works on the copy
// accepts it.
type certificate struct{ certificate, key []byte } // PEM

func newCertificate(name string) (*certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	about := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "a private copy of " + name},
		NotBefore: time.Now().Add(-24 * time.Hour), NotAfter: time.Now().Add(7 * 24 * time.Hour), // clocks may be off
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		IsCA: true, BasicConstraintsValid: true,
	}
	if at := net.ParseIP(name); at != nil {
		about.IPAddresses = []net.IP{at}
	} else {
		about.DNSNames = []string{name}
	}
	signed, err := x509.CreateCertificate(rand.Reader, about, about, key.Public(), key)
	if err != nil {
		return nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return &certificate{
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: signed}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}),
	}, nil
}
