package testenv

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"
)

// Authority makes certificates of one day, for names and addresses.
type Authority struct {
	Certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

// NewAuthority makes one that nobody trusts yet.
func NewAuthority() (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := ofOneDay()
	template.IsCA, template.BasicConstraintsValid, template.KeyUsage = true, true, x509.KeyUsageCertSign
	made, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, err
	}
	certificate, err := x509.ParseCertificate(made)
	return &Authority{certificate, key}, err
}

// For makes a server's certificate for a name or an address.
func (a *Authority) For(host string) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := ofOneDay()
	template.KeyUsage, template.ExtKeyUsage = x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	if address := net.ParseIP(host); address != nil {
		template.IPAddresses = []net.IP{address}
	} else {
		template.DNSNames = []string{host}
	}
	made, err := x509.CreateCertificate(rand.Reader, template, a.Certificate, key.Public(), a.key)
	return &tls.Certificate{Certificate: [][]byte{made}, PrivateKey: key}, err
}

func ofOneDay() *x509.Certificate {
	return &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour)}
}

// certify writes an authority of one use, and a certificate by it for this machine's own address,
// into a folder.
func certify(folder string) (authority, certificate, key string, err error) {
	by, err := NewAuthority()
	if err != nil {
		return "", "", "", err
	}
	own, err := by.For("127.0.0.1")
	if err != nil {
		return "", "", "", err
	}
	private, err := x509.MarshalPKCS8PrivateKey(own.PrivateKey)
	if err != nil {
		return "", "", "", err
	}
	authority, err1 := writePEM(folder, "authority.pem", "CERTIFICATE", by.Certificate.Raw)
	certificate, err2 := writePEM(folder, "server.pem", "CERTIFICATE", own.Certificate[0])
	key, err3 := writePEM(folder, "server-key.pem", "PRIVATE KEY", private)
	return authority, certificate, key, errors.Join(err1, err2, err3)
}

func writePEM(folder, name, kind string, bytes []byte) (file string, err error) {
	file = filepath.Join(folder, name)
	return file, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: bytes}), 0o600)
}
