package database

import (
	"context"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"math/big"
	"sync"

	"github.com/go-sql-driver/mysql"
)

// TLS says how a connection to a database server by a network is protected.
type TLS string

// The ways.
const (
	// TLSOffered takes TLS wherever the server offers it, whoever it says it is.
	TLSOffered TLS = ""
	// TLSRequired takes nothing else, and wants a certificate for the server's name.
	TLSRequired TLS = "required"
	TLSOff      TLS = "off"
)

// nobodysKey names a public key for the exchange in which some servers ask for the password
// encrypted, where there is no TLS: they would send their own, which nobody vouches for. What is
// encrypted with this one, no server can read.
const nobodysKey = "wetland: nobody's"

// nobodysModulus is RSA-2048 of the RSA Factoring Challenge, whose factors nobody knows.
const nobodysModulus = "25195908475657893494027183240048398571429282126204032027777137836043662020707595556264018525880784406918290641249515082189298559149176184502808489120072844992687392807287776735971418347270261896375014971824691165077613379859095700097330459748808428401797429100642458691817195118746121515172654632282216869987549182422433637259085141865462043576798423387184774447920739934236584823824281198163815010674810451660377306056201619676256133844143603833904414952634432190114657544454178424020924616515723350778707749817125772467962926386356373289912154831438167899885040445364023527381951378636564391212010397122822120720357"

var registerNobody = sync.OnceFunc(func() {
	n, _ := new(big.Int).SetString(nobodysModulus, 10)
	mysql.RegisterServerPubKey(nobodysKey, &rsa.PublicKey{N: n, E: 65537})
})

// protect sets how a connection by a network is protected. A socket of this machine needs nothing.
func protect(config *mysql.Config, login Login) {
	if login.Socket != "" {
		return
	}
	registerNobody()
	config.ServerPubKey = nobodysKey
	switch login.TLS {
	case TLSRequired:
		config.TLS = &tls.Config{ServerName: login.Host, RootCAs: login.Trusted}
	case TLSOff:
	default:
		config.TLSConfig = "preferred" // the driver's word for it
	}
}

// explainTLS says what stands in the way of a protected connection; "" if it is not that.
func explainTLS(err error) string {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.Is(err, mysql.ErrNoTLS):
		return "it offers no TLS, and [database] tls requires it"
	case errors.As(err, &unknown):
		return "its certificate is signed by nobody that is trusted here: name the file that vouches for it as [database] tls_certificates"
	case errors.As(err, &name):
		return "its certificate is made for another name, not for " + name.Host
	case errors.As(err, &invalid):
		return "its certificate is not valid: " + invalid.Error()
	}
	return ""
}

// explainPlain adds to a refused login what a connection without TLS may have to do with it.
func explainPlain(ctx context.Context, config *mysql.Config, login Login, err error) error {
	if !isNumber(err, 1045) || login.Socket != "" || login.TLS == TLSRequired || login.TLS == TLSOffered && offersTLS(ctx, config) {
		return err
	}
	why := "this server offers no TLS"
	if login.TLS == TLSOff {
		why = "[database] tls is off"
	}
	return fmt.Errorf("%w (%s: if user and password are right, the server wants the password encrypted, as MySQL does with caching_sha2_password, and that is done with TLS or by its socket alone)", err, why)
}

// offersTLS asks the server without giving it a password.
func offersTLS(ctx context.Context, config *mysql.Config) bool {
	asking := config.Clone()
	asking.Passwd, asking.TLS = "", &tls.Config{InsecureSkipVerify: true}
	connector, err := mysql.NewConnector(asking)
	if err != nil {
		return true
	}
	conn, err := connector.Connect(ctx)
	if err == nil {
		_ = conn.Close()
	}
	return !errors.Is(err, mysql.ErrNoTLS)
}
