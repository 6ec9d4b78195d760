// Package workspace is one workspace: its folder and wetland.toml, read whole, checked, and told where it
// is wrong, every reason at once. Begin reading at Load.
//
// It promises to obey nothing that others own or may write, and that no secret is in it.
package workspace

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/andybalholm/cascadia"
	"github.com/pelletier/go-toml/v2"

	"wetland/core/database"
	"wetland/core/host"
	"wetland/core/network"
	"wetland/core/site/cms"
)

// ConfigName is the file that makes a folder a workspace.
const ConfigName = "wetland.toml"

// configFormat is the newest form of wetland.toml that this version reads.
const configFormat = 1

// Config is wetland.toml.
type Config struct {
	Format    int             `toml:"format"`
	Site      SiteConfig      `toml:"site"`
	Host      HostConfig      `toml:"host"`
	Database  DatabaseConfig  `toml:"database"`
	Files     FilesConfig     `toml:"files"`
	Reach     ReachConfig     `toml:"reach"`
	Smoke     SmokeConfig     `toml:"smoke"`
	Update    UpdateConfig    `toml:"update"`
	Retention RetentionConfig `toml:"retention"`
	Store     StoreConfig     `toml:"store"`
	Caches    CachesConfig    `toml:"caches"`
	Hooks     HooksConfig     `toml:"hooks"`
	Hold      []Hold          `toml:"hold"`
	Severity  []Severity      `toml:"severity"`
	Pages     []Page          `toml:"pages"`
	Sources   []Source        `toml:"sources"`
}

// Source says where a component's packages can be had.
type Source struct {
	Folder string `toml:"folder"` // of the component
	// Address has {name}, {version} and {key} where those go. The key itself is
	// never in it.
	Address string `toml:"address"`
	KeyFrom string `toml:"key_from"` // where the key is: "env NAME", "file PATH", or "ask"
}

// AskForKey in key_from or unlock_with means that a person types the secret each time.
const AskForKey = "ask"

// SiteConfig says which site this is.
type SiteConfig struct {
	Name    string `toml:"name"`
	Root    string `toml:"root"`
	Address string `toml:"address"`
	CMS     string `toml:"cms"`
	PHP     string `toml:"php"`     // the version that the site runs, where it does not tell
	PHPLog  string `toml:"php_log"` // file in which PHP logs its errors, where the CMS does not tell
	// PHPPool is the socket of the PHP processes, "unix:PATH" or HOST:PORT, or PoolByRequest:
	// they are asked to drop compiled code right after a swap.
	PHPPool string `toml:"php_pool"`
}

// HostConfig says how the machine is reached that the site is on, where that is another one.
type HostConfig struct {
	// Helper is PutHelper, NeverHelper, or "" where nobody has decided yet.
	Helper string `toml:"helper"`
	// HelperFolder is where the helper lies there; "": in the account's own folder for caches.
	HelperFolder string `toml:"helper_folder"`
	// Key is the fingerprint that the host's key must have where none is known: "SHA256:...".
	Key          string `toml:"key"`
	PasswordFrom string `toml:"password_from"` // where the account's password is: "env NAME" or "file PATH"
}

// What may be done about the helper: a program of ours on a site's machine.
const (
	PutHelper   = "put" // there, and replaced by another version
	NeverHelper = "never"
)

// IsElsewhere tells whether a root, as settings write it, is on another machine.
func IsElsewhere(root string) bool { return strings.Contains(root, "://") }

// Problems says what is wrong with the settings, for a site with this root.
func (c HostConfig) Problems(root string) (all []string) {
	say := func(format string, args ...any) { all = append(all, fmt.Errorf(format, args...).Error()) }
	if !IsElsewhere(root) && c != (HostConfig{}) {
		say("[host] is for a site on another machine, and %s is a folder of this one", root)
	}
	switch c.Helper {
	case "", PutHelper, NeverHelper:
	default:
		say("[host] helper must be %q or %q, not %q", PutHelper, NeverHelper, c.Helper)
	}
	if folder := c.HelperFolder; folder != "" && !path.IsAbs(folder) {
		say("[host] helper_folder must be an absolute path, not %q", folder)
	}
	if c.Key != "" && !strings.HasPrefix(c.Key, "SHA256:") {
		say("[host] key must be a fingerprint such as SHA256:..., not %q", c.Key)
	}
	checkSecret("[host] password_from", c.PasswordFrom, say)
	return all
}

// SiteServer is HOST:PORT at which the site's own pages are asked for; "" where the address is wrong.
func (c Config) SiteServer() string {
	if c.Reach.Server != "" {
		return c.Reach.Server
	}
	address, err := ParseAddress(c.Site.Address)
	if err != nil {
		return ""
	}
	return network.HostPort(address)
}

// isAbsolute tells whether a path is whole, here or on another machine.
func isAbsolute(name string) bool { return filepath.IsAbs(name) || path.IsAbs(name) }

// PoolByRequest in php_pool means that the PHP processes are asked by a request to the site
// itself, for a script of one use in its root.
const PoolByRequest = "by request"

// checkPool refuses what names no pool of PHP.
func (c *Config) checkPool(say func(string, ...any)) {
	pool := c.Site.PHPPool
	if path, ok := strings.CutPrefix(pool, "unix:"); ok {
		if !isAbsolute(path) {
			say("[site] php_pool must name the socket by an absolute path, such as unix:/run/php/fpm.sock")
		}
		return
	}
	if _, _, err := net.SplitHostPort(pool); pool != "" && pool != PoolByRequest && err != nil {
		say("[site] php_pool must be unix:PATH, HOST:PORT or %q, not %q", PoolByRequest, pool)
	}
}

// DatabaseConfig gives what the CMS's own settings do not say.
type DatabaseConfig struct {
	Host   string `toml:"host"`
	Port   int    `toml:"port"`
	Socket string `toml:"socket"`
	Name   string `toml:"name"`
	User   string `toml:"user"`
	Prefix string `toml:"prefix"`
	File   string `toml:"file"`
	// PasswordFrom names where the password is, never the password: "env NAME" or
	// "file PATH".
	PasswordFrom string `toml:"password_from"`
	// TLS is "required", "off", or "": wherever the server offers it.
	TLS string `toml:"tls"`
	// TLSCertificates is a file of certificates (PEM) that vouch for the server's.
	TLSCertificates string `toml:"tls_certificates"`
}

// FilesConfig says what is no part of a snapshot.
type FilesConfig struct {
	Exclude []string `toml:"exclude"`
	// AnewAfterDays is after how many days all files are read anew where their disk keeps no time of change; nil:
	// usualAnew.
	AnewAfterDays *int `toml:"read_anew_after_days"`
}

const usualAnew = 7 // days

// ReadAnewAfterDays is after how many days all files are read anew, where their disk keeps no time of change.
func (c FilesConfig) ReadAnewAfterDays() int {
	if c.AnewAfterDays == nil {
		return usualAnew
	}
	return *c.AnewAfterDays
}

// SmokeConfig says how pages are fetched.
type SmokeConfig struct {
	Concurrency   int       `toml:"concurrency"`     // pages fetched at the same time
	Timeout       Duration  `toml:"timeout"`         // for one answer
	WaitAfterSwap *Duration `toml:"wait_after_swap"` // wait after a swap; nil: as the CMS needs
	// ShorterWait says once more that WaitAfterSwap is meant, though the CMS needs longer.
	ShorterWait bool `toml:"shorter_wait"`
	// Browser is the program that looks at pages; "": an installed Chromium or Chrome,
	// "none": none.
	Browser string `toml:"browser"`
	// BrowserPages is how many pages it looks at; 0: six.
	BrowserPages int `toml:"browser_pages"`
}

// UpdateConfig says how to decide when nobody is asked.
type UpdateConfig struct {
	InDoubt string `toml:"in_doubt"` // "back" or "keep"
	// Search looks for the culprit when several packages fail together.
	Search    bool     `toml:"search"`
	TimeLimit Duration `toml:"time_limit"` // how long an update may take; 0: without limit
	// Rehearse says which updates are made on a private copy first: RehearseAlways,
	// RehearseLarge, or RehearseNever, as "" is.
	Rehearse string `toml:"rehearse"`
}

// Which updates are rehearsed.
const (
	RehearseAlways = "always"
	RehearseLarge  = "large steps" // to another major release, or of several components
	RehearseNever  = "never"
)

// CachesConfig names caches outside of the CMS, emptied after each swap.
type CachesConfig struct {
	Commands  []string `toml:"commands"`  // for the shell
	Addresses []string `toml:"addresses"` // that get a request with the method PURGE
}

// HooksConfig names commands for the shell.
type HooksConfig struct {
	Before    string `toml:"before"`     // if it fails, nothing is touched
	After     string `toml:"after"`      // what was wanted is in place
	OnFailure string `toml:"on_failure"` // it is not, or not all of it
}

// Hold keeps a component at its version.
type Hold struct {
	Folder  string   `toml:"folder"`
	Kind    cms.Kind `toml:"kind"` // "theme" or "plugin"; "": both
	Because string   `toml:"because"`
}

// Severity says how findings of one kind count.
type Severity struct {
	Check   string   `toml:"check"` // the kind, as reports name it
	Pages   []string `toml:"pages"` // none: all
	As      string   `toml:"as"`    // "sound", "doubtful" or "broken"
	Because string   `toml:"because"`
}

// HeldBack tells whether a component is to stay as it is, and why.
func (c *Config) HeldBack(kind cms.Kind, folder string) (Hold, bool) {
	for _, hold := range c.Hold {
		if hold.Folder == folder && (hold.Kind == "" || hold.Kind == kind) {
			return hold, true
		}
	}
	return Hold{}, false
}

// RetentionConfig says how long wetland tidy keeps snapshots, and how often they are read back.
type RetentionConfig struct {
	AllForDays       *int `toml:"all_for_days"`
	DailyForDays     *int `toml:"one_a_day_for_days"`
	WeeklyForWeeks   *int `toml:"one_a_week_for_weeks"`
	MonthlyForMonths *int `toml:"one_a_month_for_months"`
	ProveEveryDays   *int `toml:"prove_every_days"`
}

// usualProof is within how many days each block of the store is read back, unless wetland.toml says so.
const usualProof = 30

// ProvesEveryDays is within how many days each block of the store is read back; 0: with each snapshot.
func (c RetentionConfig) ProvesEveryDays() int {
	if c.ProveEveryDays == nil {
		return usualProof
	}
	return *c.ProveEveryDays
}

// StoreConfig says how the store of snapshots is opened.
type StoreConfig struct {
	// UnlockWith says where the secret of a sealed store is, never the secret: "env
	// NAME" or "file PATH" for a passphrase, "keys PATH" for an age key file, or "ask".
	UnlockWith string `toml:"unlock_with"`
}

// Page is one page to test.
type Page struct {
	Path      string   `toml:"path"`
	Expect    []string `toml:"expect"`     // texts that must be on it
	Has       []string `toml:"has"`        // CSS selectors of what must be on it
	HasNot    []string `toml:"has_not"`    // and of what must not
	Ignore    []string `toml:"ignore"`     // CSS selectors of parts that are not compared
	Status    int      `toml:"status"`     // that it must answer with
	LeadsTo   string   `toml:"leads_to"`   // the path that it must redirect to
	TimeLimit Duration `toml:"time_limit"` // how long it may take
	// SignedIn fetches it in the session of [reach.sign_in].
	SignedIn bool `toml:"signed_in"`
	// InBrowser says that the browser looks at it before others, or never; nil: as there is room.
	InBrowser *bool `toml:"in_browser"`
}

// HasConditions tells of a page for which wetland.toml wants more than that it answers.
func (p Page) HasConditions() bool {
	return len(p.Expect)+len(p.Has)+len(p.HasNot)+len(p.Ignore) > 0 || p.LeadsTo != "" || p.TimeLimit.Duration > 0 ||
		p.SignedIn || p.InBrowser != nil
}

// Duration is a length of time, written with its unit: "20s" or "1m30s". A number alone is
// refused: nobody can tell what it counts.
type Duration struct {
	time.Duration
	wrong string // what was written and is none
}

// UnmarshalText reads the form of time.ParseDuration. What is none, or negative, is noted for
// check, which knows its line.
func (d *Duration) UnmarshalText(text []byte) (err error) {
	if d.Duration, err = time.ParseDuration(string(text)); err != nil || d.Duration < 0 ||
		!strings.ContainsAny(string(text), "smhu") {
		d.wrong = string(text)
	}
	return nil
}

// checkDurations tells of lengths of time that are none. Of those it says nothing else.
func (c *Config) checkDurations(at lines, say func(string, ...any)) {
	tell := func(name string, d *Duration) bool {
		if d != nil && d.wrong != "" {
			say("%s must be %s, not %s", name, durationForm, d.wrong)
			return false
		}
		return true
	}
	if tell("[smoke] timeout", &c.Smoke.Timeout) && at.has("smoke.timeout") && (c.Smoke.Timeout.Duration < leastTimeout ||
		c.Smoke.Timeout.Duration > mostTimeout) {
		say("[smoke] timeout must be from %s to %s", leastTimeout, mostTimeout)
	}
	if tell("[update] time_limit", &c.Update.TimeLimit) && at.has("update.time_limit") &&
		c.Update.TimeLimit.Duration < leastTimeLimit {
		say("[update] time_limit must be %s or more: an update needs that long to put back what was before", leastTimeLimit)
	}
	tell("[smoke] wait_after_swap", c.Smoke.WaitAfterSwap)
	for i := range c.Pages {
		tell(fmt.Sprintf("[[pages]] number %d: time_limit", i+1), &c.Pages[i].TimeLimit)
	}
}

// Workspace is the folder that holds one site's wetland.toml, shelf, store and runs.
type Workspace struct {
	Dir    string // absolute; on this machine
	Config Config
	Host   host.Host // that the site is on
	Folder string    // the site's root on that host, slash-separated
	hosts  Hosts
	of     *Workspace // whose private copy it is of; nil: it is none
}

// Hosts finds the machine that a root, as settings write it, is on, and its folder there.
type Hosts func(root string, config Config) (on host.Host, folder string, err error)

// OnlyHere are the hosts of whoever reaches no other machine.
func OnlyHere(root string, _ Config) (host.Host, string, error) {
	if IsElsewhere(root) {
		return nil, "", fmt.Errorf("%s is on another machine: %w", root, errors.ErrUnsupported)
	}
	return host.Here, filepath.ToSlash(root), nil
}

// At is the workspace of a site that stands in another place.
func (w *Workspace) At(root, address string) (*Workspace, error) {
	other := *w
	other.Config.Site.Root, other.Config.Site.Address = root, address
	var err error
	other.Host, other.Folder, err = w.hosts(root, w.Config)
	return &other, err
}

// Store is the folder of the snapshots.
func (w *Workspace) Store() string { return filepath.Join(w.Dir, "store") }

// StoreName is the file that says which store is this workspace's own.
func (w *Workspace) StoreName() string { return filepath.Join(w.Dir, "store-name") }

// Shelf is the folder of the packages.
func (w *Workspace) Shelf() string { return filepath.Join(w.main().Dir, "shelf") }

// Runs is the folder of the runs.
func (w *Workspace) Runs() string {
	if w.IsCopy() {
		return filepath.Join(w.of.Dir, "rehearsals")
	}
	return filepath.Join(w.Dir, "runs")
}

// Baseline is the file of the recorded pages.
func (w *Workspace) Baseline() string { return filepath.Join(w.Dir, "baseline.json") }

// ErrNone says that no folder holds a wetland.toml.
var ErrNone = errors.New("no wetland.toml")

// Find returns start or the nearest folder above it that holds a
// wetland.toml, or an error that wraps ErrNoWorkspace.
func Find(start string) (string, error) {
	dir, err := filepath.Abs(start)
	if err != nil {
		return "", err
	}
	for {
		if _, err := os.Stat(filepath.Join(dir, ConfigName)); err == nil {
			return dir, nil
		}
		parent := filepath.Dir(dir)
		if parent == dir {
			return "", fmt.Errorf("%w in %s or above it", ErrNone, start)
		}
		dir = parent
	}
}

// Load reads wetland.toml in dir, and finds the host of its site. Every mistake in it is told at once,
// each with its line.
func Load(dir string, hosts Hosts) (*Workspace, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	file := filepath.Join(dir, ConfigName)
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w in %s", ErrNone, dir)
	}
	if err != nil {
		return nil, err
	}
	if err := checkWhose(dir); err != nil {
		return nil, err
	}
	config, err := ReadConfig(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	w := &Workspace{Dir: dir, Config: *config, hosts: hosts}
	if w.Host, w.Folder, err = hosts(config.Site.Root, *config); err != nil {
		return nil, fmt.Errorf("%s: [site] root: %w", file, err)
	}
	return w, nil
}

// ReadConfig reads the text of a wetland.toml. Every mistake in it is told at once, each with
// its line.
func ReadConfig(text []byte) (*Config, error) {
	config := &Config{}
	return config, decodeConfig(text, config)
}

func decodeConfig(text []byte, config *Config) error {
	decoder := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields()
	err := decoder.Decode(config)
	var strict *toml.StrictMissingError
	var bad *toml.DecodeError
	switch {
	case errors.As(err, &strict):
		var lines []error
		for _, one := range strict.Errors {
			line, _ := one.Position()
			lines = append(lines, fmt.Errorf("line %d: %s", line, unknownSetting(one.Key())))
		}
		return errors.Join(lines...)
	case errors.As(err, &bad):
		return decodeProblem(bad)
	case err != nil:
		return err
	}
	at := linesOf(text)
	var wrong []error
	config.check(at, func(format string, args ...any) {
		wrong = append(wrong, errors.New(at.tell(fmt.Errorf(format, args...).Error())))
	})
	return errors.Join(wrong...)
}

// Bounds of lengths of time that make sense.
const (
	leastTimeout, mostTimeout = time.Second, 10 * time.Minute
	leastTimeLimit            = 10 * time.Second
)

// check finds every value that cannot be used. Each message begins with the setting's name.
func (c *Config) check(at lines, say func(string, ...any)) {
	if c.Format > configFormat {
		say("format = %d is newer than this version of Wetland reads (%d). Use a newer Wetland", c.Format, configFormat)
	}
	c.checkSite(say)
	c.checkDatabase(say)
	c.checkReach(say)
	c.checkPool(say)
	c.checkSmoke(at, say)
	c.checkDurations(at, say)
	c.checkKept(say)
	for _, address := range c.Caches.Addresses {
		if at, err := url.Parse(address); err != nil || at.User != nil || (at.Scheme != "http" && at.Scheme != "https") {
			say("[caches] addresses takes complete addresses, without a user in them, not %q", address)
		}
	}
	if !slices.Contains([]string{"", "back", "keep"}, c.Update.InDoubt) {
		say("[update] in_doubt must be \"back\" or \"keep\", not %q", c.Update.InDoubt)
	}
	if !slices.Contains([]string{"", RehearseAlways, RehearseLarge, RehearseNever}, c.Update.Rehearse) {
		say("[update] rehearse must be %q, %q or %q, not %q", RehearseAlways, RehearseLarge, RehearseNever, c.Update.Rehearse)
	}
	for i, hold := range c.Hold {
		if hold.Folder == "" || hold.Because == "" || hold.Kind != "" && !slices.Contains(cms.Kinds(), hold.Kind) {
			say("[[hold]] number %d needs folder and because; kind, where it is given, is one of: %s", i+1, kindsInWords())
		}
	}
	for i, severity := range c.Severity {
		if severity.Check == "" || severity.Because == "" || !slices.Contains([]string{"sound", "doubtful", "broken"},
			severity.As) {
			say("[[severity]] number %d needs check, because, and as: \"sound\", \"doubtful\" or \"broken\"", i+1)
		}
	}
	for i, source := range c.Sources {
		c.checkSource(i+1, source, say)
	}
	for i, page := range c.Pages {
		checkPage(i+1, page, say)
	}
}

func (c *Config) checkSite(say func(string, ...any)) {
	if c.Site.Root == "" {
		say("[site] root is missing: the folder that holds the site")
	} else if !filepath.IsAbs(c.Site.Root) && !IsElsewhere(c.Site.Root) {
		say("[site] root must be an absolute path, ssh://USER@HOST/PATH or sftp://USER@HOST/PATH, not %q", c.Site.Root)
	}
	if c.Reach.FromHost && !IsElsewhere(c.Site.Root) {
		say("[reach] from_host is for a site on another machine")
	}
	for _, problem := range c.Host.Problems(c.Site.Root) {
		say("%s", problem)
	}
	if _, err := ParseAddress(c.Site.Address); err != nil {
		say("[site] address: %w", err)
	}
	if c.Site.PHPLog != "" && !isAbsolute(c.Site.PHPLog) {
		say("[site] php_log must be an absolute path, not %q", c.Site.PHPLog)
	}
	if _, err := cms.Find(c.Site.CMS); err != nil {
		say("[site] cms: %w", err)
	}
}

func (c *Config) checkDatabase(say func(string, ...any)) {
	checkSecret("[database] password_from", c.Database.PasswordFrom, say)
	if how := database.TLS(c.Database.TLS); how != database.TLSOffered && how != database.TLSRequired &&
		how != database.TLSOff {
		say("[database] tls must be \"required\" or \"off\"; without it, TLS is used wherever the server offers it")
	}
	if c.Database.TLSCertificates != "" && database.TLS(c.Database.TLS) != database.TLSRequired {
		say("[database] tls_certificates goes with tls = \"required\"")
	}
}

func (c *Config) checkSmoke(at lines, say func(string, ...any)) {
	if c.Smoke.Concurrency < 0 || c.Smoke.Concurrency > 64 || c.Smoke.Concurrency == 0 && at.has("smoke.concurrency") {
		say("[smoke] concurrency must be a whole number from 1 to 64")
	}
	if c.Smoke.BrowserPages < 0 || c.Smoke.BrowserPages > 100 || c.Smoke.BrowserPages == 0 &&
		at.has("smoke.browser_pages") {
		say("[smoke] browser_pages must be a whole number from 1 to 100; to have no browser look at all: browser = \"none\"")
	}
}

// checkKept checks what is kept, where, and for how long.
func (c *Config) checkKept(say func(string, ...any)) {
	for _, name := range c.Files.Exclude {
		if clean := path.Clean(filepath.ToSlash(name)); name == "" || path.IsAbs(clean) || filepath.IsAbs(name) ||
			clean == "." || clean == ".." || strings.HasPrefix(clean, "../") {
			say("[files] exclude takes paths below the root, such as \"logs\", not %q", name)
		}
	}
	if days := c.Files.AnewAfterDays; days != nil && *days < 0 {
		say("[files] read_anew_after_days takes a whole number, 0 or more, not %d; with 0, each snapshot reads everything",
			*days)
	}
	if with := c.Store.UnlockWith; with != "" && with != AskForKey && !strings.HasPrefix(with, "env ") &&
		!strings.HasPrefix(with, "file ") && !strings.HasPrefix(with, "keys ") {
		say("[store] unlock_with must be \"env NAME\", \"file PATH\", \"keys PATH\" or \"ask\": where the secret is, not" +
			" the secret")
	}
	keep := c.Retention
	for _, n := range []*int{
		keep.AllForDays, keep.DailyForDays, keep.WeeklyForWeeks, keep.MonthlyForMonths, keep.ProveEveryDays,
	} {
		if n != nil && *n < 0 {
			say("[retention] takes whole numbers, 0 or more, not %d", *n)
		}
	}
}

func checkPage(number int, page Page, say func(string, ...any)) {
	if !strings.HasPrefix(page.Path, "/") {
		say("[[pages]] number %d: path must begin with a slash, not %q", number, page.Path)
	}
	for _, selector := range slices.Concat(page.Has, page.HasNot, page.Ignore) {
		if _, err := cascadia.ParseGroup(selector); err != nil {
			say("[[pages]] number %d: %q is not a CSS selector: %w", number, selector, err)
		}
	}
	if page.Status != 0 && (page.Status < 100 || page.Status > 599) {
		say("[[pages]] number %d: status must be from 100 to 599, not %d", number, page.Status)
	}
}

func (c *Config) checkSource(number int, source Source, say func(string, ...any)) {
	if source.Folder == "" {
		say("[[sources]] number %d: folder is missing: the component's folder, such as harbourlight", number)
	}
	if address, err := url.Parse(source.Address); err != nil || address.User != nil || (address.Scheme != "http" &&
		address.Scheme != "https") {
		say("[[sources]] number %d: address must be such as https://vendor.example/{name}/{version}.zip?key={key}, without"+
			" a user or password in it", number)
	} else {
		if !strings.Contains(source.Address, "{version}") {
			say("[[sources]] number %d: address has no {version} in it: every version would be the same file", number)
		}
		for name, values := range address.Query() {
			if LooksSecret(name) && !strings.Contains(values[0], "{") {
				say("[[sources]] number %d: the parameter %q of its address looks like a secret. Write {key} there, and say in"+
					" key_from where the key is", number, name)
			}
		}
	}
	if source.KeyFrom != "" && source.KeyFrom != AskForKey && !strings.HasPrefix(source.KeyFrom, "env ") &&
		!strings.HasPrefix(source.KeyFrom, "file ") {
		say("[[sources]] number %d: key_from must be \"env NAME\", \"file PATH\" or \"ask\": where the key is, not the key",
			number)
	}
	if strings.Contains(source.Address, "{key}") && source.KeyFrom == "" {
		say("[[sources]] number %d: its address needs a key, and key_from does not say where that is", number)
	}
}

var secretName = regexp.MustCompile(`(?i)(key|token|secret|licen[cs]e|password|passwd|pwd|auth|sig|credential|code|session)`)

// LooksSecret tells of a query parameter whose name says that it carries a secret.
func LooksSecret(parameter string) bool { return secretName.MatchString(parameter) }

// ParseAddress reads a site's address: http or https, a host, perhaps a path,
// and never a password in it.
func ParseAddress(text string) (*url.URL, error) {
	if text == "" {
		return nil, errors.New("it is missing: where visitors reach the site, such as https://ferry.example/")
	}
	address, err := url.Parse(text)
	switch {
	case err != nil:
		return nil, errors.New("it is not an address such as https://ferry.example/")
	case address.User != nil:
		return nil, errors.New("it holds a user name or password, which must not be given there")
	case address.Scheme != "http" && address.Scheme != "https", address.Host == "":
		return nil, fmt.Errorf("%q is not an address such as https://ferry.example/", text)
	}
	address.RawQuery, address.Fragment = "", ""
	if !strings.HasSuffix(address.Path, "/") {
		address.Path += "/"
	}
	return address, nil
}

// kindsInWords lists the kinds of components as they are written.
func kindsInWords() string {
	var words []string
	for _, kind := range cms.Kinds() {
		words = append(words, strconv.Quote(string(kind)))
	}
	return strings.Join(words, ", ")
}
