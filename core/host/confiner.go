package host

import (
	"context"
	"errors"
	"io"
	"io/fs"
)

// Confiner is a Host on which programs can be run in worlds of their own: they see what they are given, and
// nothing else of the machine; they reach each other, and no network. Package confine makes them.
type Confiner interface {
	Host
	// Machine tells what the host has for a private copy of a site.
	Machine(ctx context.Context) (Machine, error)
	// Confine makes a world, in a folder of its own that nobody else reaches, and returns the line to
	// its keeper, which a remote.Host speaks over, and the folder. All of it is gone when the line is closed.
	// Where the system offers no such thing, or not to whoever asks, the error wraps ErrNotConfined.
	Confine(ctx context.Context, w World) (line io.ReadWriteCloser, top string, err error)
}

// ErrNotConfined says that a system does not let a program be confined, or not whoever asks.
var ErrNotConfined = errors.New("no confinement")

// World is what the programs in it find. All names are slash-separated and absolute.
type World struct {
	// Shown are files and folders of the machine that are there, too, at the same place, and can
	// only be read. What does not exist is passed over.
	Shown []string `json:"shown,omitempty"`
	// Folders are made in it.
	Folders []WorldFolder `json:"folders,omitempty"`
	// Names are hosts, and Addresses IP addresses, that lead to the world itself.
	Names     []string `json:"names,omitempty"`
	Addresses []string `json:"addresses,omitempty"`
	// User and Group are whom programs run as. Only root can choose another than itself.
	User  int `json:"user"`
	Group int `json:"group"`
	// TLS is where connections are taken off TLS, with Certificate and Key (PEM), and passed on to
	// the port Plain: "HOST:PORT"; "": nowhere.
	TLS         string `json:"tls,omitempty"`
	Plain       string `json:"plain,omitempty"`
	Certificate []byte `json:"certificate,omitempty"`
	Key         []byte `json:"key,omitempty"`
}

// WorldFolder is one that a world has of its own.
type WorldFolder struct {
	Name string      `json:"name"`
	Mode fs.FileMode `json:"mode"`
	// Own tells that it belongs to whom programs run as.
	Own bool `json:"own,omitempty"`
}

// Machine is what a host has for a private copy of a site. Programs have their whole names, without links; ""
// is for what is not there.
type Machine struct {
	User  int `json:"user"` // whom we act as there; 0: root
	Group int `json:"group"`

	PHP  string `json:"php,omitempty"`
	Pool string `json:"pool,omitempty"` // php-fpm, of the same version
	// PHPSettings and PHPScanned are the file and the folder of settings that a pool of PHP or a web
	// server's module would read; "": those of the command line are all there is.
	PHPSettings string `json:"php_settings,omitempty"`
	PHPScanned  string `json:"php_scanned,omitempty"`
	// Front is the program that serves a webfront.Site, which it is given as JSON, at HOST:PORT, before a
	// pool of PHP; none: PHP's own server does, as where there is no pool.
	Front []string `json:"front,omitempty"`

	MariaDB        string `json:"mariadb,omitempty"` // their servers
	MySQL          string `json:"mysql,omitempty"`
	InstallMariaDB string `json:"install_mariadb,omitempty"` // makes an empty database

	Shown []string `json:"shown"`          // what these programs need to run
	Free  uint64   `json:"free,omitempty"` // bytes, where worlds are made; 0: not known
}
