package adopt

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/phrase"
	"wetland/core/site/traits"
	"wetland/core/sshhost"
)

// Allowed is something that the machine of a site allows or not, and what that means for it.
type Allowed struct {
	What  string `json:"what"` // in a word or two
	Is    string `json:"is"`
	Means string `json:"means"`
	Good  bool   `json:"good"`
}

// enter enters the account of a site on another machine.
func (a *adoption) enter(ctx context.Context, on host.Host) error {
	account, ok := on.(*sshhost.Host)
	if !ok {
		return nil
	}
	a.o.Report.Begin("entering host", 0, "")
	about, err := account.Enter(ctx)
	if err != nil {
		return err
	}
	for _, left := range about.NotUsed {
		a.doubt("of your settings of ssh, this is not used: "+left, "It matters only if it concerns this host.")
	}
	if a.filesAlone = about.FilesAlone; a.filesAlone {
		a.allow(false, "helper", "none: files are moved by SFTP", "a file whose size and time were kept by whoever changed it is taken for unchanged, for a week at most; what a frozen Wetland sent can still be done; the rest is promised as elsewhere")
		return nil
	}
	is := "there already"
	if about.Put != "" {
		is = "put at " + about.Put
	}
	a.allow(true, "helper", is, "all promises are kept as on your own machine")
	return nil
}

func (a *adoption) allow(good bool, what, is, means string) {
	a.result.Allows = append(a.result.Allows, Allowed{what, is, means, good})
}

// findAllowed tells what the machine of the site allows, if that is another one.
func (a *adoption) findAllowed(ctx context.Context) {
	on := a.site.Host
	if on.Name() == "" {
		return
	}
	if a.site.Files.CanExchange() {
		a.allow(true, "exchange", "offered", "visitors never meet a folder that is absent")
	} else {
		a.allow(false, "exchange", "not offered", "a folder is absent for a moment when it is replaced: update --allow-gap")
	}
	a.findOwner(ctx)
	if a.result.Engine != "" {
		a.allow(true, "database", "reached from there", "tables are kept and put back, too")
	} else {
		a.allow(false, "database", "not reached", "tables can be neither kept nor put back")
	}
	if version := a.site.PHPOfShell(ctx); version != "" && traits.Of(a.system.Name()).PHP {
		a.allow(true, "PHP", version+" on the command line", "the pages may be made by another")
	}
	if ahead := time.Until(on.Now()); ahead.Abs() > time.Minute {
		a.allow(false, "clock", fmt.Sprintf("%s %s", ahead.Abs().Round(time.Minute), map[bool]string{true: "ahead", false: "behind"}[ahead > 0]), "Wetland goes by it for files there; ask the host to set it")
	}
	if free, err := a.site.Files.FreeSpace(ctx, a.site.Root); err == nil {
		a.allow(free > 1<<30, "free space", phrase.Bytes(int64(free)), "an update needs room for the new packages there; snapshots lie on this machine")
	}
}

// findOwner tells whether what is replaced can be given the owners that it has.
func (a *adoption) findOwner(ctx context.Context) {
	accounts := a.site.Host.Accounts()
	if accounts.Self(ctx) == files.Unowned {
		a.allow(true, "owners", "not known", "new files belong to the account that Wetland enters")
		return
	}
	self := accounts.UserName(ctx, accounts.Self(ctx))
	layout := a.site.CMS.Layout()
	var others []string
	for _, home := range layout.Homes() {
		entry, err := a.site.Files.Lstat(ctx, home.Path)
		if err == nil && !files.CanOwn(a.site.Files, entry.Owner, entry.Group) {
			others = append(others, fmt.Sprintf("%s belongs to %s", path.Base(home.Path), accounts.UserName(ctx, entry.Owner)))
		}
	}
	if len(others) > 0 {
		a.allow(false, "owners", strings.Join(others, ", "), self+" cannot give that owner to new files, and updates are refused")
		return
	}
	a.allow(true, "owners", "as they are", self+" can give new files the owners of what they replace")
}
