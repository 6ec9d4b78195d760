package update

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"wetland/core/deploy"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/preflight"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/smoke"
)

// chooseCore says which parts of the site's root a package of the CMS itself replaces. Of anything else it knows
// nothing.
func (m *motion) chooseCore(ctx context.Context, c *deploy.Change) (err error) {
	_, can := m.Site.CMS.(cms.Replaceable)
	installed, is := site.Component(m.Components, c.Target.Kind, c.Target.Folder)
	if c.Target.Kind != cms.Core || !can || !is {
		return nil
	}
	m.coreStep, err = preflight.FindCoreStep(ctx, m.Session, c.Pkg, installed)
	c.Target.Parts = m.coreStep.Parts
	return err
}

// core is the change of the CMS itself, which is a group of its own; nil: there is none in the group.
func (m *motion) core() *deploy.Change {
	for _, c := range m.group {
		if c.IsCore() {
			return c
		}
	}
	return nil
}

// bringsCore tells whether the CMS itself is among the changes.
func (m *motion) bringsCore() bool {
	return slices.ContainsFunc(m.changes, func(c *deploy.Change) bool { return c.IsCore() })
}

// foldersOf lists what changes exchange before visitors. The CMS itself goes behind a
// gate.
func foldersOf(all []*deploy.Change) (folders []string) {
	for _, c := range all {
		if !c.IsCore() {
			folders = append(folders, c.Places()...)
		}
	}
	return folders
}

// swapCore puts the CMS itself in place behind the gate, and has it bring its tables up to date behind its own notice.
func (m *motion) swapCore(ctx context.Context, c *deploy.Change) error {
	if err := m.checkUnchanged(ctx); err != nil {
		return err
	}
	m.vitals = pagecheck.AskVitals(ctx, m.Session)
	if err := m.Journal.Write(runs.Swapping{}); err != nil {
		return err
	}
	var visit string
	var alone []string
	err := deploy.ReplaceCore(ctx, m.Session, c, func(ctx context.Context) (err error) {
		if err := m.readings.OpenBefore(ctx); err != nil {
			return err
		}
		if visit, err = m.Site.CMS.(cms.Replaceable).PendingUpgrade(ctx, m.DB); err != nil || visit == "" {
			return err
		}
		m.readings.NobodyElseWrites()
		alone = m.readings.AsBefore()
		return deploy.RenewNotice(ctx, m.Session)
	})
	if err == nil {
		err = m.Journal.Write(runs.Swapped{Undisturbed: alone})
	}
	if err == nil && visit != "" {
		err = m.upgrade(ctx, visit)
	}
	if err == nil && !m.options.Trial {
		m.exposed = time.Now()
	}
	if err == nil {
		m.rebuildLinks(ctx)
	}
	return err
}

// rebuildLinks has the CMS work out the addresses of its pages by what is in place now: an upgrade may have done so before
// all of that was loaded.
func (m *motion) rebuildLinks(ctx context.Context) {
	if m.DB == nil {
		return
	}
	if err := m.Site.CMS.RebuildLinks(ctx, m.DB); err != nil && !errors.Is(err, errors.ErrUnsupported) {
		m.Report.End(progress.Note, "addresses", fmt.Sprintf("the CMS could not be told to work out the addresses of its pages anew: %v", err))
	}
}

// mostRowsBehindGate bounds of how many rows the state after an upgrade is stored behind the CMS's notice: each million
// takes a second or two.
const mostRowsBehindGate = 2_000_000

// Of an upgrade of the tables: how often it is looked how far it is, and how long it is waited without an answer.
const (
	upgradeLook    = time.Second
	upgradeAtMost  = 30 * time.Minute
	noticeRenewals = 5 * time.Minute
	busyAtMost     = 20 // how often it is asked again after that the site is busy
)

// upgrade has the CMS bring its tables up to date, and waits until it has. Visitors see its notice meanwhile.
func (m *motion) upgrade(ctx context.Context, visit string) error {
	core, began := m.Site.CMS.(cms.Replaceable), time.Now()
	defer func() { m.Run.Notice += time.Since(began) }()
	err := m.Step("tables", 0, "", func() (progress.Mark, string, error) {
		if err := m.watchUpgrade(ctx, core, visit, began); err != nil {
			return progress.Bad, "", err
		}
		m.Run.Upgrades += time.Since(began)
		words := fmt.Sprintf("%s brought them to its version in %s", m.core().Target.Name, phrase.Live(time.Since(began)))
		if notice, _ := m.Site.CMS.Notice(began); notice != "" {
			words += ", behind its own notice"
		}
		return progress.Good, words, nil
	})
	// Before visitors write again: all that is new is the upgrade's.
	behind := context.WithoutCancel(ctx)
	if kept := m.readings.OpenSettled(behind, false); kept != nil {
		m.Report.End(progress.Note, "after", fmt.Sprintf("the state after the upgrade is not known: %v", kept))
	} else if _, _, _, rows := m.manifest.Totals(); rows > mostRowsBehindGate {
		m.Report.End(progress.Note, "after", "the state after the upgrade is not kept for a recovery: visitors would wait for it")
	} else if kept := m.takeSettled(behind); kept != nil { // recover goes by it
		m.Report.End(progress.Note, "after", fmt.Sprintf("the state after the upgrade was not kept: %v", kept))
	}
	if err != nil { // the notice stays up until the version before is back
		m.Run.Judgement = &smoke.Judgement{}
		m.Run.Judgement.Add(smoke.Finding{Page: "(the CMS)", Check: "tables", Verdict: smoke.Broken, What: err.Error()})
		return err
	}
	return deploy.TakeDownNotice(context.WithoutCancel(ctx), m.Session)
}

// watchUpgrade asks for the upgrade, and looks at the tables until it is done. A web server may give up an answer that
// takes long, and the upgrade goes on.
func (m *motion) watchUpgrade(ctx context.Context, core cms.Replaceable, visit string, began time.Time) error {
	type answer struct {
		status int
		failed error
	}
	answered := make(chan answer, 1)
	ask := func() {
		_, status, err := m.Fetcher.Fetch(ctx, visit)
		if err == nil && status >= 500 {
			err = fmt.Errorf("it answers %d", status)
		}
		answered <- answer{status, err}
	}
	go ask()
	renewed := began
	for failed, busy := 0, 0; ; {
		var said answer
		var ended bool
		select {
		case said = <-answered:
			ended = true
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(upgradeLook):
		}
		pending, err := core.PendingUpgrade(ctx, m.DB)
		switch {
		case err == nil && pending == "":
			return nil
		case ended && said.status == http.StatusServiceUnavailable && busy < busyAtMost: // a gate that is still compiled, say
			busy++
			time.AfterFunc(upgradeLook, ask)
		case ended:
			if failed++; failed == 2 {
				return notUpgraded(visit, errors.Join(said.failed, err))
			}
			go ask()
		case time.Since(began) > upgradeAtMost:
			return fmt.Errorf("%w within %s", errNotUpgraded, upgradeAtMost)
		case time.Since(renewed) > noticeRenewals:
			renewed = time.Now()
			if err := deploy.RenewNotice(ctx, m.Session); err != nil {
				return err
			}
		}
	}
}

// notUpgraded says that an upgrade was asked for in vain.
func notUpgraded(visit string, because error) error {
	if because != nil {
		return fmt.Errorf("%w, though it was asked twice to (%s): %w", errNotUpgraded, visit, because)
	}
	return fmt.Errorf("%w, though it was asked twice to (%s)", errNotUpgraded, visit)
}

// errNotUpgraded says that another try would end alike.
var errNotUpgraded = errors.New("the CMS did not bring its tables to its version")

// closeGate puts the gate up before the CMS itself goes back, unless it is as before.
func (m *motion) closeGate(ctx context.Context) error {
	c := m.core()
	if c == nil || deploy.IsOld(ctx, m.Session, c) {
		return nil
	}
	alone := deploy.NoticeIsUp(ctx, m.Session) // since the upgrade: a crash came before its state was kept
	if err := deploy.CloseGate(ctx, m.Session, c); err != nil {
		return err
	}
	if alone && m.Settled == nil && len(m.undisturbed) > 0 {
		if err := m.takeSettled(ctx); err != nil {
			return err
		}
		m.readings.SettledIn(m.Settled, m.undisturbed)
	}
	return nil
}

// openGate takes the gate down once the files of the CMS are back.
func (m *motion) openGate(ctx context.Context) error {
	c := m.core()
	if c == nil {
		return nil
	}
	return deploy.ReopenCore(ctx, m.Session, c, m.manifest)
}
