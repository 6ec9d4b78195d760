package update

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"wetland/core/deploy"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/smoke"
	"wetland/core/snapshot"
)

// The search for the culprit stops after so many probes, or so long.
const (
	MostProbes    = 30
	longestSearch = 20 * time.Minute
)

// SearchPlan is what a person is asked about before a search.
type SearchPlan struct {
	Judgement *smoke.Judgement
	Packages  int
	Probes    int           // at most
	Exposed   time.Duration // that visitors met the joint update
}

// blame notes at the components of a group why they were not kept: what names them, or,
// if nothing names any, the first findings.
func (m *motion) blame(group []*deploy.Change, judgement *smoke.Judgement) {
	named := m.accused(group, judgement)
	for _, c := range group {
		switch {
		case len(named[c]) > 0:
			c.Target.Because = named[c]
		case len(group) == 1:
			c.Target.Because = []string{worstFinding(judgement)}
		case len(named) == 0:
			c.Target.Because = []string{"together with " + deploy.Titles(deploy.Without(group, []*deploy.Change{c})), worstFinding(judgement)}
		default:
			c.Target.Because = []string{"put back with the others: nothing was found against it alone"}
		}
	}
}

// worstFinding says the first of the worst findings, with its page.
func worstFinding(judgement *smoke.Judgement) string {
	for _, page := range judgement.Pages {
		for _, finding := range page.Findings {
			if page.Verdict == judgement.Verdict && finding.Verdict == judgement.Verdict && !finding.Known && finding.Accepted == "" {
				return page.Path + ": " + finding.What
			}
		}
	}
	return "no finding"
}

// byItself says what a component does alone.
func byItself(judgement *smoke.Judgement) string {
	if judgement.Verdict == smoke.Broken {
		return "it breaks the pages by itself"
	}
	return "it makes pages doubtful by itself"
}

// accused returns the changes that findings name, with the evidence: an error in one of
// their files, or what the CMS says of them.
func (m *motion) accused(group []*deploy.Change, judgement *smoke.Judgement) map[*deploy.Change][]string {
	found := map[*deploy.Change][]string{}
	for _, page := range judgement.Pages {
		for _, finding := range page.Findings {
			if finding.Known || finding.Verdict == smoke.Sound {
				continue
			}
			for _, c := range group {
				if !pagecheck.NamesFileOf(finding.What+" "+finding.Evidence, m.Session, c.Target) {
					continue
				}
				line := strings.TrimSuffix(fmt.Sprintf("%s: %s: %s", page.Path, finding.What, finding.Evidence), ": ")
				if !slices.Contains(found[c], line) && len(found[c]) < 3 {
					found[c] = append(found[c], line)
				}
			}
		}
	}
	return found
}

// searchUnasked tells whether to search when nobody is asked.
func (m *motion) searchUnasked() bool {
	if m.options.Search != nil {
		return *m.options.Search
	}
	return m.Site.Workspace.Config.Update.Search
}

// maySearch asks for consent: visitors will meet parts of the update again.
func (m *motion) maySearch(ctx context.Context, judgement *smoke.Judgement) bool {
	if m.options.Search == nil && m.options.AskSearch != nil {
		return m.options.AskSearch(ctx, SearchPlan{Judgement: judgement, Packages: len(m.changes), Probes: MostProbes, Exposed: m.Run.Exposed})
	}
	return m.searchUnasked()
}

// search finds which of the packages break the pages, alone or together, and keeps a set
// of the others to which none can be added. Every probe begins from what was before. It
// returns an error if the site is not in a proved state. settled is the snapshot of what
// failed together, if there is one.
func (m *motion) search(ctx context.Context, failed *smoke.Judgement, settled *snapshot.Manifest) error {
	s := &search{motion: m, known: map[string]bool{}, judgements: map[string]*smoke.Judgement{}}
	together := setKey(deploy.Leaders(m.changes))
	s.known[together], s.judgements[together] = false, failed
	if settled != nil {
		s.passing = append(s.passing, settled.Name)
	}
	ctx, cancel := context.WithTimeoutCause(ctx, longestSearch, errLongSearch)
	defer cancel()
	defer s.dropProbes(context.WithoutCancel(ctx))
	kept, err := s.find(ctx, failed)
	if err != nil || s.broken != nil {
		if s.broken != nil {
			return s.broken
		}
		m.Report.End(progress.Doubt, "search", err.Error()+"; what was before stands")
		return nil
	}
	if s.standing || len(kept) == 0 {
		return nil
	}
	if sound, err := s.probe(ctx, kept, true); err != nil || !sound {
		if s.broken != nil {
			return s.broken
		}
		m.Report.End(progress.Doubt, "search", "what was found sound could not be put in place for good; what was before stands")
	}
	return nil
}

var (
	errLongSearch = fmt.Errorf("the search for the culprit took longer than %s", longestSearch)
	errManyProbes = fmt.Errorf("the search for the culprit took more than %d probes", MostProbes)
)

// search is a search under way.
type search struct {
	*motion
	known      map[string]bool // by the set of components: whether it is sound
	judgements map[string]*smoke.Judgement
	left       []*deploy.Change
	standing   bool     // the set that is to stay is in place
	broken     error    // going back failed: no more probes
	passing    []string // snapshots of what was put back
}

// dropProbes deletes the snapshots of probes that were put back and proved, and of what
// failed together: nobody would find their way among them. Those of a probe whose return
// failed stay.
func (s *search) dropProbes(ctx context.Context) {
	if s.broken != nil {
		return
	}
	for _, name := range s.passing {
		if err := snapshot.Drop(ctx, s.Store, name); err == nil { // one more snapshot does no harm
			s.Run.Snapshots = slices.DeleteFunc(s.Run.Snapshots, func(n string) bool { return n == name })
		}
	}
}

func setKey(set []*deploy.Change) string {
	keys := deploy.Folders(set)
	slices.Sort(keys)
	return strings.Join(keys, " ")
}

// find returns a largest set that is sound: evidence first, then by halving.
func (s *search) find(ctx context.Context, failed *smoke.Judgement) ([]*deploy.Change, error) {
	named, all := s.accused(s.changes, failed), deploy.Leaders(s.changes)
	var suspects []*deploy.Change
	for _, c := range s.changes {
		leader := cmp.Or(c.Follows, c)
		if len(named[c]) > 0 && !slices.Contains(suspects, leader) {
			suspects = append(suspects, leader)
		}
	}
	rest := deploy.Without(all, suspects)
	if len(suspects) == 0 || len(rest) == 0 {
		return s.grow(ctx, nil, all)
	}
	kept, err := s.grow(ctx, nil, rest)
	if err != nil {
		return nil, err
	}
	return s.grow(ctx, kept, suspects)
}

// grow adds to a sound set as many of the candidates as stay sound with it.
func (s *search) grow(ctx context.Context, kept, candidates []*deploy.Change) ([]*deploy.Change, error) {
	all := slices.Concat(kept, candidates)
	sound, err := s.probe(ctx, all, len(all)+len(s.left) == len(deploy.Leaders(s.changes)))
	if err != nil {
		return nil, err
	}
	if sound {
		return all, nil
	}
	if len(candidates) == 1 {
		return kept, s.leaveOut(ctx, kept, candidates[0])
	}
	half := len(candidates) / 2
	if kept, err = s.grow(ctx, kept, candidates[:half]); err != nil {
		return nil, err
	}
	return s.grow(ctx, kept, candidates[half:])
}

// leaveOut finds out whether a component that fails with others fails by itself, and notes
// the evidence.
func (s *search) leaveOut(ctx context.Context, kept []*deploy.Change, bad *deploy.Change) error {
	s.left = append(s.left, bad)
	s.blame([]*deploy.Change{bad}, s.judgements[setKey(slices.Concat(kept, []*deploy.Change{bad}))])
	if len(kept) == 0 {
		bad.Target.Because = append([]string{byItself(s.judgements[setKey([]*deploy.Change{bad})])}, bad.Target.Because...)
		return nil
	}
	alone, err := s.probe(ctx, []*deploy.Change{bad}, false)
	if err != nil {
		return err
	}
	if !alone {
		s.blame([]*deploy.Change{bad}, s.judgements[setKey([]*deploy.Change{bad})])
		bad.Target.Because = append([]string{byItself(s.judgements[setKey([]*deploy.Change{bad})])}, bad.Target.Because...)
		return nil
	}
	partners, err := s.partners(ctx, bad, nil, kept)
	if err != nil {
		return err
	}
	bad.Target.Because = append([]string{fmt.Sprintf("it breaks the pages only together with %s, which was kept: each is sound without the other", deploy.Titles(partners))}, bad.Target.Because...)
	return nil
}

// partners narrows down with which of some sound components another one fails: a smallest
// set of them, together with those in fixed.
func (s *search) partners(ctx context.Context, bad *deploy.Change, fixed, among []*deploy.Change) ([]*deploy.Change, error) {
	if len(among) == 1 {
		return among, nil
	}
	half := len(among) / 2
	first, second := among[:half], among[half:]
	for _, part := range [][]*deploy.Change{first, second} {
		sound, err := s.probe(ctx, slices.Concat([]*deploy.Change{bad}, fixed, part), false)
		if err != nil {
			return nil, err
		}
		if !sound {
			return s.partners(ctx, bad, fixed, part)
		}
	}
	// Some of either half are needed.
	left, err := s.partners(ctx, bad, slices.Concat(fixed, second), first)
	if err != nil {
		return nil, err
	}
	right, err := s.partners(ctx, bad, slices.Concat(fixed, left), second)
	return slices.Concat(left, right), err
}

// probe tells whether the pages are sound with these components alone. stay keeps them in
// place if so; else what was before is put back and proved.
func (s *search) probe(ctx context.Context, set []*deploy.Change, stay bool) (bool, error) {
	if sound, known := s.known[setKey(set)]; known && !(sound && stay) {
		return sound, nil
	}
	if len(s.Run.Probes) == MostProbes {
		return false, errManyProbes
	}
	if err := ctx.Err(); err != nil {
		return false, context.Cause(ctx)
	}
	s.group, s.Settled = deploy.WithFollowers(set, s.changes), nil
	s.attempts++
	name := fmt.Sprintf("probe %d", len(s.Run.Probes)+1)
	report := s.Report
	report.Begin(name, 0, "")
	s.Report = progress.Silent{} // the steps are in the record
	judgement, probe, err := s.putUp(ctx, set, stay)
	s.Report = report
	if err != nil {
		report.End(progress.Bad, name, fmt.Sprintf("%s: %v", deploy.Titles(set), err))
		return false, err
	}
	s.judgements[setKey(set)] = judgement
	s.known[setKey(set)] = s.sound(judgement)
	s.Run.Probes = append(s.Run.Probes, probe)
	mark, what := progress.Good, "kept"
	if !s.standing {
		mark, what = progress.Note, "put back, proved"
		if probe.Exposed > 0 {
			what = fmt.Sprintf("was live for %s, %s", phrase.Live(probe.Exposed), what)
		}
	}
	report.End(mark, name, fmt.Sprintf("%s: %s; %s", deploy.Titles(set), judgement.Verdict, what))
	return s.known[setKey(set)], nil
}

// sound tells whether a set may stay, without asking.
func (s *search) sound(judgement *smoke.Judgement) bool {
	return judgement.Verdict == smoke.Sound || (judgement.Verdict == smoke.Doubtful && s.options.Decide == nil && s.inDoubt() == Keep)
}

// putUp puts a set in place and judges it, and keeps it or puts back what was before.
func (s *search) putUp(ctx context.Context, set []*deploy.Change, stay bool) (*smoke.Judgement, runs.Probe, error) {
	probe, was, taken := runs.Probe{Components: deploy.Folders(set)}, s.Run.Exposed, len(s.Run.Snapshots)
	judgement, err := s.tryProbe(ctx)
	if err != nil {
		s.broken = s.undo(err.Error())
		return nil, probe, err
	}
	probe.Verdict = judgement.Verdict
	if s.standing = stay && s.sound(judgement); s.standing {
		s.broken = s.keepGroup(ctx, judgement)
	} else {
		s.broken = s.undo(fmt.Sprintf("the probe with %s is over", deploy.Titles(set)))
	}
	if !s.standing && s.broken == nil {
		s.passing = append(s.passing, s.Run.Snapshots[taken:]...)
		if s.Settled != nil {
			s.passing = append(s.passing, s.Settled.Name)
		}
	}
	probe.Exposed = s.Run.Exposed - was
	return judgement, probe, s.broken
}

func (s *search) tryProbe(ctx context.Context) (*smoke.Judgement, error) {
	if err := s.untilSwap(ctx); err != nil {
		return nil, err
	}
	return s.judge(ctx)
}
