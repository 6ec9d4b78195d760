package update

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"wetland/core/deploy"
	"wetland/core/packages"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/preflight"
	"wetland/core/runs"
	"wetland/core/shelf"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
	"wetland/core/version"
	"wetland/core/workspace"
)

// Plan is what an update is going to do.
type Plan struct {
	Steps         []PlanStep          `json:"steps"`
	Left          []Left              `json:"left,omitempty"`   // what the shelf has newer, and is not updated
	Beside        []shelf.Beside      `json:"beside,omitempty"` // what came in one bundle, and is not installed with it
	OneByOne      bool                `json:"one_by_one"`       // each step is judged by itself
	Core          *preflight.CoreStep `json:"core,omitempty"`   // of the CMS itself: which files it replaces
	Pages         []string            `json:"pages"`
	Touched       []pagecheck.Touched `json:"touched,omitempty"`    // pages that a component has a part in; they are among Pages
	Size          int64               `json:"snapshot_at_most"`     // bytes that the snapshot may need in the store; PlanOf alone tells
	InDoubt       Decision            `json:"in_doubt"`             // when nobody is asked
	Search        bool                `json:"search"`               // for a culprit, when nobody is asked
	TimeLimit     string              `json:"time_limit,omitempty"` // how long it may take; "": without limit
	WaitAfterSwap string              `json:"wait_after_swap"`      // how long it waits after each swap
	Notice        bool                `json:"notice"`               // visitors see one while files are swapped
	Rehearse      string              `json:"rehearse"`             // which updates are rehearsed on a private copy first, as wetland.toml says
	Gap           bool                `json:"gap"`                  // folders cannot be exchanged in one step on this system
	Commands      []string            `json:"commands,omitempty"`   // of wetland.toml, with when they run
	// WithoutDatabase says that the site's tables are not in our hands.
	WithoutDatabase bool `json:"without_database,omitempty"`
	// Host says what the site's machine offers, where that is another one; PlanOf alone tells. Brings are the bytes
	// of the packages that travel there. LastSnapshot and LastUpdate are how long the last ones took, and LastGap is for
	// how long a folder was absent last; 0: there is none.
	Host         []preflight.Offer `json:"host,omitempty"`
	Brings       int64             `json:"brings,omitempty"`
	LastSnapshot time.Duration     `json:"last_snapshot_ns,omitempty"`
	LastUpdate   time.Duration     `json:"last_update_ns,omitempty"`
	LastGap      time.Duration     `json:"last_gap_ns,omitempty"`

	groups [][]*deploy.Change
}

// IsLarge tells of a plan by which much may become different: to another major release, or of several
// components at once.
func (p *Plan) IsLarge() bool {
	changes := p.Changes()
	return len(changes) > 1 || slices.ContainsFunc(changes, func(c PlannedChange) bool { return c.Distance == version.Major })
}

// PlanStep is a group of components that are put in place together.
type PlanStep struct {
	Components []PlannedChange `json:"components"`
}

// PlannedChange is one component of a plan.
type PlannedChange struct {
	*runs.Target
	Distance version.Distance `json:"distance,omitempty"`
	Risks    []string         `json:"risks,omitempty"`
}

// Left is a newer version that an update of everything passes over.
type Left struct {
	Kind    cms.Kind `json:"kind"`
	Folder  string   `json:"folder"`
	Version string   `json:"version"`
	Because string   `json:"because"`
}

// Changes lists the components of all steps.
func (p *Plan) Changes() []PlannedChange {
	var all []PlannedChange
	for _, step := range p.Steps {
		all = append(all, step.Components...)
	}
	return all
}

// NothingNewer says that an update of everything has nothing to do.
type NothingNewer struct{ Left []Left }

// Error says it, with what was passed over.
func (n *NothingNewer) Error() string {
	text := "the shelf has nothing newer to update"
	for _, left := range n.Left {
		text += fmt.Sprintf("\n%s %s is left: %s", left.Folder, left.Version, left.Because)
	}
	return text
}

// choose opens the packages that are wanted. Whatever is wrong with any of them is a
// reason against all.
func (m *motion) choose(ctx context.Context, why *runs.Reasons) error {
	m.plan = &Plan{}
	named := m.options.Packages
	if m.options.All {
		var err error
		if named, err = m.newer(); err != nil {
			return err
		}
		if len(named) == 0 {
			return &NothingNewer{m.plan.Left}
		}
		m.options.Packages = named
	}
	for i, name := range named {
		var own runs.Reasons
		pkg, beside, err := shelf.ReadPackage(ctx, m.Session, name, m.options.Pick, filepath.Join(m.scratch, fmt.Sprint("package-", i+1)), &own)
		if err != nil {
			return err
		}
		label := filepath.Base(name)
		if pkg != nil {
			c := &deploy.Change{Pkg: pkg, Target: preflight.TargetOf(m.Session, pkg, m.options.Allowed, &own)}
			if c.Live, err = preflight.PlaceOf(m.Session, c.Target.Kind, c.Target.Folder); err == nil { // else it is refused
				err = m.chooseCore(ctx, c)
			}
			if err != nil && !errors.Is(err, cms.ErrKind) {
				return err
			}
			for _, one := range beside {
				c.Companions = append(c.Companions, one.Folder)
			}
			c.Companions = append(c.Companions, pkg.Header.RequiresPlugins...)
			m.checkTwice(c, &own)
			m.checkHold(c.Target, &own)
			m.changes, m.company.Coming = append(m.changes, c), append(m.company.Coming, c.Key())
			label = c.Target.Folder
		}
		if pkg != nil && pkg.Header.Kind == cms.Core {
			m.coreStep.Brings = beside
		} else {
			m.company.Beside = append(m.company.Beside, beside...)
		}
		m.addOwn(why, label, own)
	}
	for _, c := range slices.Clone(m.changes) { // once all that are wanted for themselves are known
		if err := m.attach(ctx, c); err != nil {
			return err
		}
	}
	return nil
}

// newer lists the packages that the shelf has newer, and notes what is passed over.
func (m *motion) newer() ([]string, error) {
	entries, err := m.Shelf().List()
	if err != nil {
		return nil, err
	}
	var named []string
	for _, c := range m.Components {
		best := newest(entries, c)
		if best == nil {
			continue
		}
		left := func(because string) {
			m.plan.Left = append(m.plan.Left, Left{Kind: c.Kind, Folder: c.Folder, Version: best.Version, Because: because})
		}
		hold, held := m.Site.Workspace.Config.HeldBack(c.Kind, c.Folder)
		switch {
		case held:
			left("wetland.toml holds it: " + hold.Because)
		case c.Kind.Distance(c.Version, best.Version) == version.Major && !m.options.Major:
			left("it is " + version.Major.Meaning() + ": --allow-major takes it along")
		default:
			named = append(named, best.File)
		}
	}
	return named, nil
}

// newest returns the newest package on the shelf that is newer than what is installed.
func newest(entries []packages.Entry, installed cms.Component) *packages.Entry {
	var best *packages.Entry
	for i, entry := range entries {
		if entry.Kind == installed.Kind && entry.Folder == installed.Folder && version.Compare(entry.Version, installed.Version) > 0 &&
			(best == nil || version.Compare(entry.Version, best.Version) > 0) {
			best = &entries[i]
		}
	}
	return best
}

func (m *motion) checkTwice(c *deploy.Change, why *runs.Reasons) {
	if slices.ContainsFunc(m.changes, func(other *deploy.Change) bool { return other.Key() == c.Key() }) {
		why.Add(fmt.Sprintf("the %s is named twice", c.Target.Kind), "Name one version of it.")
	}
}

// checkHold refuses a component that a person holds at its version.
func (m *motion) checkHold(t *runs.Target, why *runs.Reasons) {
	hold, held := m.Site.Workspace.Config.HeldBack(t.Kind, t.Folder)
	if held && version.Compare(t.To, t.From) > 0 {
		why.Add(fmt.Sprintf("%s holds %s at %s: %s", workspace.ConfigName, t.Folder, phrase.Version(t.From), hold.Because), "If that is over, take its [[hold]] out of "+workspace.ConfigName+".")
	}
}

// makePlan puts the changes in order: parent themes before their children, a theme in one
// step with the plugins that belong to it, then the other plugins.
func (m *motion) makePlan() {
	p := m.plan
	if m.options.AsGiven {
		for _, c := range deploy.Leaders(m.changes) {
			p.groups = append(p.groups, deploy.WithFollowers([]*deploy.Change{c}, m.changes))
		}
		m.changes = slices.Concat(p.groups...)
	} else {
		p.groups = inOrder(m.changes)
		// What the CMS itself breaks is told apart from what they do.
		slices.SortStableFunc(p.groups, func(a, b []*deploy.Change) int { return cmp.Compare(rank(a), rank(b)) })
		m.changes = slices.Concat(p.groups...)
	}
	p.OneByOne = m.options.OneByOne || m.bringsCore()
	if m.bringsCore() {
		p.Core = &m.coreStep
	}
	for _, group := range p.groups {
		var step PlanStep
		for _, c := range group {
			planned := PlannedChange{Target: c.Target}
			if !c.Target.New {
				planned.Distance = c.Target.Kind.Distance(c.Target.From, c.Target.To)
			}
			step.Components = append(step.Components, planned)
		}
		p.Steps = append(p.Steps, step)
	}
	for _, one := range m.company.Beside {
		if !slices.ContainsFunc(m.changes, func(c *deploy.Change) bool { return c.Target.Kind == one.Kind && c.Target.Folder == one.Folder }) {
			p.Beside = append(p.Beside, one)
		}
	}
	for _, page := range m.Pages {
		p.Pages = append(p.Pages, page.Path)
	}
	config := m.Site.Workspace.Config.Update
	p.InDoubt, p.Search, p.WaitAfterSwap = m.inDoubt(), m.searchUnasked(), m.Site.SettleTime().String()
	p.Rehearse = cmp.Or(config.Rehearse, workspace.RehearseNever)
	if config.TimeLimit.Duration > 0 {
		p.TimeLimit = config.TimeLimit.String()
	}
	p.WithoutDatabase = m.NoDatabase != nil
	p.Notice, p.Commands, p.Gap = m.options.Notice, m.commands(), !m.Site.Files.CanExchange()
}

// lookBack says what it was like the last time. Runs that cannot be read tell nothing.
func (p *Plan) lookBack(w *workspace.Workspace) error {
	return runs.Each(w, func(_ string, r *runs.Run, err error) error {
		if err != nil {
			return nil
		}
		if r.Kind == "update" && r.State == runs.Kept {
			p.LastUpdate = r.Ended.Sub(r.Started)
		}
		if r.Gap > 0 {
			p.LastGap = r.Gap
		}
		return nil
	})
}

// rank puts the CMS itself after the themes and plugins.
func rank(group []*deploy.Change) int {
	if group[0].IsCore() {
		return 1
	}
	return 0
}

// planHost says what is to be known of a site on another machine.
func (m *motion) planHost(ctx context.Context) {
	p := m.plan
	if p.Host = preflight.Offers(ctx, m.Site, m.DB != nil); len(p.Host) == 0 {
		return
	}
	for _, c := range m.changes {
		if c.Pkg != nil {
			_, size := c.Pkg.Tree.Total()
			p.Brings += size
		}
	}
	if last := snapshot.Newest(ctx, m.Store); last != nil { // else how long it takes is not told
		p.LastSnapshot = last.Took
	}
}

// commands lists what wetland.toml has run, and when.
func (m *motion) commands() []string {
	hooks, caches := m.Site.Workspace.Config.Hooks, m.Site.Workspace.Config.Caches
	var all []string
	for _, hook := range [][2]string{{"before", hooks.Before}, {"after", hooks.After}, {"on failure", hooks.OnFailure}} {
		if hook[1] != "" {
			all = append(all, hook[0]+": "+hook[1])
		}
	}
	for _, command := range caches.Commands {
		all = append(all, "for caches: "+command)
	}
	for _, address := range caches.Addresses {
		all = append(all, "for caches: PURGE "+address)
	}
	return all
}

// addRisks says of each component what a person should know before.
func (m *motion) addRisks(ctx context.Context) error {
	i := 0
	for s := range m.plan.Steps {
		for j := range m.plan.Steps[s].Components {
			c := m.changes[i]
			i++
			installed, ok := site.Component(m.Components, c.Target.Kind, c.Target.Folder)
			if !ok {
				continue
			}
			var e preflight.Examination
			as := preflight.Options{Allowed: m.options.Allowed, Package: m.options.named(c.Pkg.Folder)}
			as.Major = true
			if err := preflight.ExamineInstalled(ctx, m.Session, &e, c.Pkg, installed, as); err != nil {
				return err
			}
			if c.IsCore() {
				if err := preflight.ExamineCore(ctx, m.Session, &e, c.Pkg, installed, m.coreStep); err != nil {
					return err
				}
			}
			if err := preflight.CheckAutomatic(ctx, m.Session, &e, installed); err != nil {
				return err
			}
			for _, line := range m.Site.CMS.Warnings(ctx, m.DB, installed) {
				e.Add("warning", preflight.Care, line, "")
			}
			for _, check := range e.Checks {
				if check.Advice == preflight.Care && check.Name != "distance" {
					m.plan.Steps[s].Components[j].Risks = append(m.plan.Steps[s].Components[j].Risks, check.Name+": "+check.What)
				}
			}
		}
	}
	return nil
}

// inOrder groups changes into steps.
func inOrder(all []*deploy.Change) [][]*deploy.Change {
	var groups [][]*deploy.Change
	placed := map[*deploy.Change]bool{}
	place := func(c *deploy.Change) {
		group := deploy.WithFollowers([]*deploy.Change{c}, all)
		for _, one := range group {
			placed[one] = true
		}
		for _, plugin := range all {
			if plugin.Target.Kind == cms.Plugin && !placed[plugin] && slices.Contains(c.Companions, plugin.Target.Folder) {
				with := deploy.WithFollowers([]*deploy.Change{plugin}, all)
				for _, one := range with {
					placed[one] = true
				}
				group = append(group, with...)
			}
		}
		groups = append(groups, group)
	}
	// A parent is no child of another theme: two rounds are enough.
	for _, children := range []bool{false, true} {
		for _, c := range all {
			if c.Target.Kind == cms.Theme && (c.Pkg.Header.Parent != "") == children {
				place(c)
			}
		}
	}
	for _, c := range deploy.Leaders(all) {
		if !placed[c] {
			place(c)
		}
	}
	return groups
}
