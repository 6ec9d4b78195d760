package testenv

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"
)

// certify makes an authority of one use, and a certificate by it for this machine's own address,
// in a folder.
func certify(folder string) (authority, certificate, key string, err error) {
	authority, certificate, key = filepath.Join(folder, "authority.pem"), filepath.Join(folder, "server.pem"), filepath.Join(folder, "server-key.pem")
	by, err1 := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	own, err2 := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err := errors.Join(err1, err2); err != nil {
		return "", "", "", err
	}
	begins, ends := time.Now().Add(-time.Hour), time.Now().Add(24*time.Hour)
	root := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: begins, NotAfter: ends, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), NotBefore: begins, NotAfter: ends, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	rootBytes, err1 := x509.CreateCertificate(rand.Reader, root, root, by.Public(), by)
	leafBytes, err2 := x509.CreateCertificate(rand.Reader, leaf, root, own.Public(), by)
	keyBytes, err3 := x509.MarshalPKCS8PrivateKey(own)
	err = errors.Join(err1, err2, err3)
	for file, block := range map[string]*pem.Block{authority: {Type: "CERTIFICATE", Bytes: rootBytes}, certificate: {Type: "CERTIFICATE", Bytes: leafBytes}, key: {Type: "PRIVATE KEY", Bytes: keyBytes}} {
		err = errors.Join(err, os.WriteFile(file, pem.EncodeToMemory(block), 0o600))
	}
	return authority, certificate, key, err
}
