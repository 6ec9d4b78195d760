package workspace

import (
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"strings"
)

// ReachConfig says how the site is reached where its address alone does not lead there.
type ReachConfig struct {
	// Server is HOST:PORT of the server itself, past what stands in front of it.
	Server string `toml:"server"`
	// FromHost has the site's own machine connect to the address: only from there it is reached.
	FromHost bool `toml:"from_host"`
	// Alone lets nothing be reached but the site itself: so it is on a private copy, whatever wetland.toml
	// says.
	Alone bool `toml:"-"`
	// Certificates is a file of certificates (PEM) to trust beside the system's.
	Certificates string `toml:"certificates"`
	// User protects the whole site (HTTP Basic). PasswordFrom says where the password
	// is: "env NAME" or "file PATH".
	User         string       `toml:"user"`
	PasswordFrom string       `toml:"password_from"`
	SignIn       SignInConfig `toml:"sign_in"`
}

// SignInConfig fills in the form that opens a session.
type SignInConfig struct {
	Path          string            `toml:"path"`           // of the page with the form
	Fields        map[string]string `toml:"fields"`         // by the names in the form
	PasswordField string            `toml:"password_field"` // the name of the password's
	PasswordFrom  string            `toml:"password_from"`
}

// Problems lists what is wrong with the settings, in words.
func (reach ReachConfig) Problems() (problems []string) {
	reach.check(func(format string, args ...any) { problems = append(problems, fmt.Sprintf(format, args...)) })
	return problems
}

func (c *Config) checkReach(say func(string, ...any)) {
	c.Reach.check(say)
	for i, page := range c.Pages {
		if page.SignedIn && c.Reach.SignIn.Path == "" {
			say("[[pages]] number %d: signed_in needs [reach.sign_in]", i+1)
		}
	}
}

func (reach ReachConfig) check(say func(string, ...any)) {
	if reach.Server != "" {
		if _, port, err := net.SplitHostPort(reach.Server); err != nil || port == "" {
			say("[reach] server must be HOST:PORT, such as 192.0.2.7:443, not %q", reach.Server)
		}
	}
	checkSecret("[reach] password_from", reach.PasswordFrom, say)
	checkSecret("[reach.sign_in] password_from", reach.SignIn.PasswordFrom, say)
	if (reach.User == "") != (reach.PasswordFrom == "") {
		say("[reach] takes user and password_from together")
	}
	in := reach.SignIn
	if in.Path != "" && (!strings.HasPrefix(in.Path, "/") || in.PasswordField == "" || in.PasswordFrom == "") {
		say("[reach.sign_in] needs path (with its slash), password_field and password_from")
	}
	for name := range in.Fields {
		if name == in.PasswordField || (LooksSecret(name) && name != "testcookie") {
			say("[reach.sign_in] fields holds %q, which looks like a secret. Name it in password_field, and say in password_from where it is", name)
		}
	}
}

func checkSecret(setting, from string, say func(string, ...any)) {
	if from != "" && !strings.HasPrefix(from, "env ") && !strings.HasPrefix(from, "file ") {
		say("%s must be \"env NAME\" or \"file PATH\": where the password is, not the password", setting)
	}
}

// TrustedCertificates reads the certificates to trust beside the system's; nil: the
// system's alone.
func (c ReachConfig) TrustedCertificates() (*x509.CertPool, error) {
	return ReadCertificates("[reach] certificates", c.Certificates, func() *x509.CertPool {
		if pool, err := x509.SystemCertPool(); err == nil {
			return pool
		}
		return x509.NewCertPool()
	})
}

// ReadCertificates adds the certificates in a file to others; nil if there is no file.
func ReadCertificates(setting, file string, others func() *x509.CertPool) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", setting, err)
	}
	pool := others()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s: %s holds no certificate (PEM)", setting, file)
	}
	return pool, nil
}
