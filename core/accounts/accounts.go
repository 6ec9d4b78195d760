// Package accounts names users and groups of this machine, and tells what they may do.
package accounts

import (
	"context"
	"os"
	"os/user"
	"slices"
	"strconv"

	"wetland/core/files"
)

// UserName names an account where it has a name here, else by its number.
func UserName(id int) string {
	if found, err := user.LookupId(strconv.Itoa(id)); err == nil {
		return found.Username
	}
	return "#" + strconv.Itoa(id)
}

// GroupName names a group in the same way.
func GroupName(id int) string {
	if found, err := user.LookupGroupId(strconv.Itoa(id)); err == nil {
		return found.Name
	}
	return "#" + strconv.Itoa(id)
}

// webAccounts are the names under which systems run web servers and PHP: Debian, Red Hat, Alpine,
// Arch, SUSE, BSD, macOS.
var webAccounts = []string{"www-data", "apache", "httpd", "nginx", "http", "wwwrun", "www", "_www", "caddy", "lighttpd"}

// WebUsers are the accounts of this machine as which web servers and PHP run, where they run as
// nobody in particular.
func WebUsers() (ids []int) {
	for _, name := range webAccounts {
		if found, err := user.Lookup(name); err == nil {
			if id, err := strconv.Atoi(found.Uid); err == nil && id != 0 {
				ids = append(ids, id)
			}
		}
	}
	return ids
}

// MayWrite tells whether a user of this machine has the right to write what has this owner, group
// and mode. Of one whose groups cannot be found it is believed.
func MayWrite(id int, entry files.Entry) bool {
	switch {
	case id == 0, id == entry.Owner, entry.Mode&0o002 != 0:
		return true
	case entry.Mode&0o020 == 0:
		return false
	}
	account, err := user.LookupId(strconv.Itoa(id))
	if err != nil {
		return true
	}
	groups, err := account.GroupIds()
	return err != nil || slices.Contains(groups, strconv.Itoa(entry.Group))
}

// Here are the accounts of the machine that this program runs on.
type Here struct{}

// Self is the user that this program runs as, or files.Unowned where users have no numbers.
func (Here) Self(context.Context) int { return os.Geteuid() }

// UserName is that of the package.
func (Here) UserName(_ context.Context, id int) string { return UserName(id) }

// GroupName is that of the package.
func (Here) GroupName(_ context.Context, id int) string { return GroupName(id) }

// MayWrite is that of the package.
func (Here) MayWrite(_ context.Context, id int, entry files.Entry) bool { return MayWrite(id, entry) }
