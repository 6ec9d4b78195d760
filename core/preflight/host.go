package preflight

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/site"
	"wetland/core/site/traits"
)

// Offer is something that the machine of a site offers or not, and what that means for it.
type Offer struct {
	What  string `json:"what"` // in a word or two
	Is    string `json:"is"`
	Means string `json:"means"`
	Good  bool   `json:"good"`
}

func (o Offer) String() string {
	return fmt.Sprintf("%s: %s. %s", o.What, o.Is, phrase.Capital(o.Means))
}

// exchange is the Offer of putting one folder in another's place in one step.
const exchange = "exchange"

// Lacks says what the machine of a site does not offer, but for the exchange: the gap is told by itself.
func Lacks(of []Offer) (all []string) {
	for _, one := range of {
		if !one.Good && one.What != exchange {
			all = append(all, one.String())
		}
	}
	return all
}

// Offers are what the machine of a site offers; none, where that is this one. reached says that the site's database is.
func Offers(ctx context.Context, s *site.Site, reached bool) (all []Offer) {
	on := s.Host
	if on.Name() == "" {
		return nil
	}
	offer := func(good bool, what, is, means string) { all = append(all, Offer{what, is, means, good}) }
	if !on.Abilities().Run {
		offer(false, "helper", "none, files are moved by SFTP", "a file whose size and time were kept by whoever changed it is taken for unchanged, for a week at most; what a frozen Wetland sent can still be done; the rest is promised as elsewhere. Ask your host for a full shell to get more")
	}
	if answers := answersIn(ctx, s); answers > 0 && !on.Abilities().Run {
		offer(true, "line", "answers in "+answers.Round(100*time.Microsecond).String(), fmt.Sprintf("reading 1,000 small files takes %s and more the first time; later only what changed is read", phrase.Live(1000*tripsPerFile*answers/readTogether)))
	}
	if s.Files.CanExchange() {
		offer(true, exchange, "offered", "visitors never meet a folder that is absent")
	} else {
		offer(false, exchange, "not offered", "a folder is absent for a moment when it is replaced: update --allow-gap")
	}
	all = append(all, ownersOf(ctx, s))
	if reached {
		offer(true, "database", "reached from there", "tables are kept and put back, too")
	} else {
		offer(false, "database", "not reached", "tables can be neither kept nor put back: update --without-database goes on with the files alone. Ask your host to allow connections by way of the account")
	}
	if version := s.PHPOfShell(ctx); version != "" && traits.Of(s.Workspace.Config.Site.CMS).PHP {
		offer(true, "PHP", version+" on the command line", "the pages may be made by another")
	}
	if ahead := time.Until(on.Now()); ahead.Abs() > time.Minute {
		offer(false, "clock", fmt.Sprintf("%s %s", ahead.Abs().Round(time.Minute), map[bool]string{true: "ahead", false: "behind"}[ahead > 0]), "Wetland goes by it for files there; ask the host to set it")
	}
	if free, err := s.Files.FreeSpace(ctx, s.Root); err == nil {
		offer(free > 1<<30, "free space", phrase.Bytes(int64(free)), "an update needs room for the new packages there; snapshots lie on this machine")
	}
	return all
}

// A file that is moved costs so many questions that wait for an answer, and so many files are asked for at a time.
const tripsPerFile, readTogether = 4, 32

// answersIn is how long the site's machine takes for an answer, at best; 0: it gave none.
func answersIn(ctx context.Context, s *site.Site) (best time.Duration) {
	for range 3 {
		asked := time.Now()
		if _, err := s.Files.Lstat(ctx, s.Root); err != nil {
			return 0
		}
		if took := time.Since(asked); best == 0 || took < best {
			best = took
		}
	}
	return best
}

// ownersOf tells whether what is replaced can be given the owners that it has.
func ownersOf(ctx context.Context, s *site.Site) Offer {
	accounts := s.Host.Accounts()
	if accounts.Self(ctx) == files.Unowned {
		return Offer{"owners", "not known", "new files belong to the account that Wetland enters", true}
	}
	self := accounts.UserName(ctx, accounts.Self(ctx))
	var others []string
	for _, home := range s.CMS.Layout().Homes() {
		entry, err := s.Files.Lstat(ctx, home.Path)
		if err == nil && !files.CanOwn(s.Files, entry.Owner, entry.Group) {
			others = append(others, fmt.Sprintf("%s belongs to %s", path.Base(home.Path), accounts.UserName(ctx, entry.Owner)))
		}
	}
	if len(others) > 0 {
		return Offer{"owners", strings.Join(others, ", "), self + " cannot give that owner to new files, and updates are refused", false}
	}
	return Offer{"owners", "as they are", self + " can give new files the owners of what they replace", true}
}
