package network

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"net"
	"time"
)

// SelfSigned makes a certificate for a host, a name or an IP address, that vouches for itself (DER): only whoever
// was given it, or its key, accepts it. "" names no host.
func SelfSigned(key crypto.Signer, host string, number int64, lasts time.Duration) ([]byte, error) {
	about := &x509.Certificate{
		SerialNumber: big.NewInt(number), Subject: pkix.Name{CommonName: "Wetland, on this machine"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(lasts),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	if at := net.ParseIP(host); at != nil {
		about.IPAddresses = []net.IP{at}
	} else if host != "" {
		about.DNSNames = []string{host}
	}
	return x509.CreateCertificate(rand.Reader, about, about, key.Public(), key)
}
