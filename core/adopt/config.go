package adopt

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"wetland/core/site/cms"
	"wetland/core/site/traits"
	"wetland/core/workspace"
)

// sayReach writes the settings that were given, and the others as examples.
func (a *adoption) sayReach(say func(string, ...any)) {
	given := a.o.Reach
	head := "# [reach]"
	if given.Server+given.Certificates+given.User != "" || given.FromHost {
		head = "[reach]"
	}
	say("%s", head)
	if given.FromHost {
		say("%-40s # the site's own machine connects to the address", "from_host = true")
	}
	for _, one := range []struct{ name, value, example, what string }{
		{"server", given.Server, "192.0.2.7:443", "past what stands in front of the server"},
		{"certificates", given.Certificates, "/etc/ssl/staging.pem", "to trust beside the system's"},
		{"user", given.User, "staging", "protects the whole site (HTTP Basic)"},
		{"password_from", given.PasswordFrom, "env STAGING_PASSWORD", "where the password is: never the password itself"},
	} {
		if one.value != "" {
			say("%-40s # %s", one.name+" = "+workspace.Quote(one.value), one.what)
			continue
		}
		say("%-40s # %s", "# "+one.name+" = "+workspace.Quote(one.example), one.what)
	}
	say("")
}

// config writes wetland.toml so that a person can read and change it.
func (a *adoption) config() string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	say("# How Wetland looks after this site. Change what you like; a word that it")
	say("# does not know is refused, with its line.")
	say("format = 1\n")
	say("[site]")
	say("name = %s", workspace.Quote(a.o.Name))
	say("root = %s        # the folder that the web server hands out", workspace.Quote(a.site.Place()))
	say("address = %s     # where visitors reach it", workspace.Quote(a.site.Address.String()))
	say("cms = %s", workspace.Quote(a.system.Name()))
	if traits.Of(a.system.Name()).PHP {
		say("# php = \"8.2\"        # the site's PHP, where its answers do not tell the version")
		say("# php_log = \"/var/log/php/error.log\"    # where PHP logs its errors: good evidence")
		pool := "# php_pool = \"unix:/run/php/php-fpm.sock\""
		if a.result.Pool != "" {
			pool = "php_pool = " + workspace.Quote(a.result.Pool)
		}
		say("# How PHP is asked to drop compiled code after a swap, so that visitors meet one")
		say("# version alone: by the socket of its processes, or, where none can be reached,")
		say("# %q: with a script of one use in the root.", workspace.PoolByRequest)
		say("%s", pool)
	}
	say("")
	a.sayHost(say)
	a.sayDatabase(say)
	say("# Only where the address alone does not lead to the site's own pages.")
	a.sayReach(say)
	say("[files]")
	say("# Snapshots leave these out by themselves: %s.", workspace.Comment(strings.Join(a.result.LeaveOut, ", ")))
	say("# More paths below the root, such as logs: they are neither kept nor restored.")
	say("exclude = []\n")
	a.saySmoke(say)
	say("[update]")
	say("in_doubt = \"back\"    # pages neither sound nor broken, and nobody to ask: \"back\" or \"keep\"")
	say("# Which updates are tried on a private copy first, that no visitor sees: \"always\", \"large steps\"")
	say("# (another major release, or several at once) or \"never\". It takes as long as an update once more.")
	say("# rehearse = \"large steps\"\n")
	say("# Which snapshots stay when the store is tidied. The newest, pinned ones, and those that a run")
	say("# still needs stay in any case.")
	say("[retention]")
	say("all_for_days = 14")
	say("one_a_day_for_days = 60")
	say("one_a_week_for_weeks = 26")
	say("one_a_month_for_months = 24")
	say("# Each snapshot reads old ones back by turns, so that every byte is proved within so many days.")
	say("# prove_every_days = 30\n")
	a.sayPages(say)
	return b.String()
}

// sayHost writes how the machine of the site is entered, if that is another one.
func (a *adoption) sayHost(say func(format string, args ...any)) {
	if a.site.Host.Name() == "" {
		return
	}
	say("# The machine that the site is on. Your own settings, keys and agent of ssh are used.")
	say("[host]")
	if a.site.Host.Abilities().Run {
		say("helper = \"put\"         # Wetland's helper lies in the account there, and is replaced by newer ones")
		say("# helper_folder = \"/srv/tools\"     where programs may be run, if not in ~/.cache")
	}
	for _, one := range []struct{ name, value, example, what string }{
		{"key", a.o.Host.Key, "SHA256:...", "the fingerprint of its key, where ssh does not know it"},
		{"password_from", a.o.Host.PasswordFrom, "env FERRY_ACCOUNT_PASSWORD", "never the password itself"},
	} {
		if one.value != "" {
			say("%s = %s", one.name, workspace.Quote(one.value))
			continue
		}
		say("# %s = %s     %s", one.name, workspace.Quote(one.example), one.what)
	}
	say("")
}

func (a *adoption) sayDatabase(say func(format string, args ...any)) {
	say("# Read from the CMS's own settings. Give here only what cannot be read there;")
	say("# the password is never written here, only where it is: \"env NAME\" or \"file PATH\".")
	say("[database]")
	for _, one := range a.missing {
		say("# %s", workspace.Comment(one.Why))
		say("%s = %s", strings.TrimPrefix(one.Key, "database."), workspace.Quote(placeholder(one.Key)))
		if one.Key == passwordKey {
			a.sayServer(say)
		}
	}
	say("# host = \"127.0.0.1\"")
	say("# password_from = \"env FERRY_DATABASE_PASSWORD\"     (needs host or socket beside it)")
	say("# tls = \"required\"     by a network: with a certificate for the server's name\n")
}

func (a *adoption) saySmoke(say func(format string, args ...any)) {
	say("[smoke]")
	say("concurrency = 4       # pages fetched at the same time")
	say("timeout = \"20s\"       # for one answer")
	browser := "# browser = \"none\" "
	if a.o.NoBrowser {
		browser = browser[2:] + "  "
	}
	say("%s # without it, an installed Chromium or Chrome looks at the pages, too", browser)
	if wait := a.site.CMS.SettleTime(); wait > 0 {
		say("wait_after_swap = %-6q # after files changed: PHP keeps compiled code for a while", wait.String())
	}
	say("")
}

func (a *adoption) sayPages(say func(format string, args ...any)) {
	say("# The pages to test: one of each kind. expect lists texts that must be on it.")
	for _, page := range a.result.Pages {
		say("[[pages]]")
		say("path = %s", workspace.Quote(page.Path))
		if page.Path == "/" {
			say("expect = []")
		}
		if page.Status != 0 {
			say("status = %d", page.Status)
		}
		say("")
	}
}

const passwordKey = "database.password_from"

// sayServer writes where a password goes: there and nowhere else.
func (a *adoption) sayServer(say func(format string, args ...any)) {
	login, _ := a.site.CMS.Database(cms.Given{})
	say("# The password goes there and nowhere else; this is what the site's settings say:")
	if login.Socket != "" {
		say("socket = %s", workspace.Quote(login.Socket))
		return
	}
	say("host = %s", workspace.Quote(login.Host))
	say("port = %d", login.Port)
}

// placeholder keeps the file readable until a person fills in the value.
func placeholder(key string) string {
	if key == passwordKey {
		return "env SITE_DATABASE_PASSWORD"
	}
	return ""
}

// longestName bounds the site's name, in characters.
const longestName = 80

// oneLine makes a name of what a CMS calls a site.
func oneLine(title string) string {
	clean := strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(title, ""))
	letters := []rune(strings.Join(strings.Fields(clean), " "))
	return string(letters[:min(len(letters), longestName)])
}

// checkConfig makes sure that wetland.toml says what was meant and nothing else, before it is
// written: commands in it are run.
func (a *adoption) checkConfig(text string) error {
	read, err := workspace.ReadConfig([]byte(text))
	if err != nil {
		return fmt.Errorf("%s cannot be written so that it can be read again: %w", workspace.ConfigName, err)
	}
	var pages []string
	for _, page := range read.Pages {
		pages = append(pages, page.Path)
	}
	var wanted []string
	for _, page := range a.result.Pages {
		wanted = append(wanted, page.Path)
	}
	if read.Site.Name != a.o.Name || read.Site.Root != a.site.Place() || read.Site.Address != a.site.Address.String() ||
		!slices.Equal(pages, wanted) ||
		read.Hooks != (workspace.HooksConfig{}) || len(read.Caches.Commands)+len(read.Sources)+len(read.Severity) > 0 {
		return fmt.Errorf("the site's settings hold characters that %s cannot hold: it would not say what was meant."+
			" Rename the folder or page that holds them", workspace.ConfigName)
	}
	return nil
}
