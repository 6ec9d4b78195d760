package privatecopy

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"time"

	"wetland/core/network"
)

// certificate is that of one copy: its key exists as long as the copy, and only who works on the copy
// accepts it.
type certificate struct{ certificate, key []byte } // PEM

// lasts is how long: longer than anybody looks at a copy.
const lasts = 7 * 24 * time.Hour

func newCertificate(host string) (*certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	made, err := network.SelfSigned(key, host, 1, lasts)
	if err != nil {
		return nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return &certificate{
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: made}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}),
	}, nil
}
