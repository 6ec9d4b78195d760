package site

import (
	"os/user"
	"strconv"
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
