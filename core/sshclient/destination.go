// Package sshclient reaches accounts on other machines by SSH, the way the user's own ssh does: with
// his settings, keys, agent and known hosts. Begin reading at Connect.
//
// It promises to speak to no host whose key is not known, or accepted by a person; never to offer a
// password to one before; and to run nothing on this machine that a configuration names.
package sshclient

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"path"
	"strconv"
	"strings"
)

// Scheme begins the names of folders on other machines.
const Scheme = "ssh://"

// Destination is a folder of an account on another machine.
type Destination struct {
	User string // "": as the settings say, else the user's own name
	Host string // a name, an address, or an alias of the settings
	Port int    // 0: as the settings say, else 22
	Path string // absolute on that machine; "/~/..." is below the account's home
	// FilesAlone says that files are to be moved there, and no program be run: by SFTP.
	FilesAlone bool
}

// ParseDestination reads ssh://USER@HOST:PORT/PATH, and sftp:// for files alone. A password in it is refused: whoever lists
// processes could read it.
func ParseDestination(text string) (Destination, error) {
	at, err := url.Parse(text)
	switch {
	case err != nil:
		return Destination{}, fmt.Errorf("%q is not an address such as ssh://keeper@ferry.example/srv/www/ferry", text)
	case at.Scheme != "ssh" && at.Scheme != "sftp" || at.Opaque != "" || at.RawQuery != "" || at.Fragment != "" || at.Hostname() == "":
		return Destination{}, fmt.Errorf("%q is not an address such as ssh://keeper@ferry.example/srv/www/ferry", text)
	}
	if _, has := at.User.Password(); has {
		return Destination{}, errors.New("the address of a host must hold no password: others could read it. You are asked for it, or password_from says where it is")
	}
	d := Destination{User: at.User.Username(), Host: at.Hostname(), Path: path.Clean("/" + at.Path), FilesAlone: at.Scheme == "sftp"}
	if strings.HasPrefix(d.Host, "-") || strings.HasPrefix(d.User, "-") || strings.ContainsFunc(d.Host+d.User+d.Path, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return Destination{}, fmt.Errorf("%q has characters in it that belong in no name", text)
	}
	if port := at.Port(); port != "" {
		if d.Port, err = strconv.Atoi(port); err != nil || d.Port < 1 || d.Port > 65535 {
			return Destination{}, fmt.Errorf("%q has the port %s; ports are from 1 to 65535", text, port)
		}
	}
	return d, nil
}

// String is the address, as ParseDestination reads it.
func (d Destination) String() string {
	at := url.URL{Scheme: "ssh", Host: d.Host, Path: d.Path}
	if d.FilesAlone {
		at.Scheme = "sftp"
	}
	if strings.Contains(d.Host, ":") {
		at.Host = "[" + d.Host + "]"
	}
	if d.Port != 0 {
		at.Host = net.JoinHostPort(d.Host, strconv.Itoa(d.Port))
	}
	if d.User != "" {
		at.User = url.User(d.User)
	}
	return at.String()
}
