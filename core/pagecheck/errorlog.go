package pagecheck

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"wetland/core/errorlog"
	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/workspace"
)

// MarkLogs remembers where the logs of PHP's errors stand, before anything is swapped.
// wetland.toml names the log where the CMS does not; that one must be readable.
func MarkLogs(ctx context.Context, s *session.Session) error {
	s.ErrorLogs = nil
	wanted := s.Site.Workspace.Config.Site.PHPLog
	names := s.Site.CMS.ErrorLogs()
	if wanted != "" {
		names = append([]string{wanted}, slices.DeleteFunc(names, func(name string) bool { return name == wanted })...)
	}
	logs, failed := make([]*errorlog.Log, len(names)), make([]error, len(names))
	err := files.AtOnce(ctx, s.Site.Files, len(names), func(ctx context.Context, i int) error {
		logs[i], failed[i] = markLog(ctx, s, names[i], names[i] == wanted)
		return nil
	})
	if err != nil {
		return err
	}
	for i, name := range names {
		switch err := failed[i]; {
		case err == nil:
			s.ErrorLogs = append(s.ErrorLogs, logs[i])
		case name == wanted:
			return fmt.Errorf("%w. Fix [site] php_log, or let the user who runs Wetland read it", err)
		}
	}
	return nil
}

// markLog reaches the folder of a log first. What wetland.toml names may be reached through
// links, as its owner wrote it.
func markLog(ctx context.Context, s *session.Session, name string, owners bool) (*errorlog.Log, error) {
	if owners {
		folder, err := s.Site.Host.Real(ctx, path.Dir(name))
		if err != nil {
			return nil, fmt.Errorf("find PHP's error log: %w", err)
		}
		name = path.Join(folder, path.Base(name))
	}
	if err := s.Site.Files.Reach(ctx, path.Dir(name)); err != nil {
		return nil, fmt.Errorf("find PHP's error log: %w", err)
	}
	return errorlog.Mark(ctx, s.Site.Files, name)
}

// ReadLogs adds what PHP has logged since to the judgement. What names one of the
// components is theirs; who knows whose the rest is.
func ReadLogs(ctx context.Context, s *session.Session, judgement *smoke.Judgement, targets []*runs.Target) error {
	if len(s.ErrorLogs) == 0 {
		return nil
	}
	return s.Step("php log", 0, "", func() (progress.Mark, string, error) {
		fresh, known, there := 0, 0, 0
		for _, log := range logsThere(ctx, s) {
			there++
			lines, before, err := log.Since(ctx)
			if err != nil {
				judgement.Add(smoke.Finding{Page: errorlog.LogPage, Check: "php log", Verdict: smoke.Doubtful, What: err.Error()})
				return progress.Doubt, err.Error(), nil
			}
			fresh, known = fresh+len(lines), known+len(before)
			for _, line := range lines {
				judgement.Add(logFinding(line, s, targets))
			}
		}
		switch {
		case there == 0:
			judgement.NotCovered = append(slices.Clone(judgement.NotCovered), "PHP's error log: none was found; name it as php_log in "+workspace.ConfigName)
			return progress.Note, "no PHP error log was found; name it as php_log in " + workspace.ConfigName, nil
		case fresh > 0:
			return progress.Bad, phrase.Plural(fresh, "new fatal error") + " since the swap", nil
		case known > 0:
			return progress.Good, fmt.Sprintf("no new fatal error; %s were there before, too", phrase.Plural(known, "old one")), nil
		}
		return progress.Good, "no fatal error since the swap", nil
	})
}

// logsThere are those that there are by now.
func logsThere(ctx context.Context, s *session.Session) []*errorlog.Log {
	there := slices.Clone(s.ErrorLogs)
	_ = files.AtOnce(ctx, s.Site.Files, len(there), func(ctx context.Context, i int) error {
		if !there[i].There(ctx) {
			there[i] = nil
		}
		return nil
	})
	return slices.DeleteFunc(there, func(log *errorlog.Log) bool { return log == nil })
}

func logFinding(line string, s *session.Session, targets []*runs.Target) smoke.Finding {
	finding := smoke.Finding{Page: errorlog.LogPage, Check: "php log", Verdict: smoke.Doubtful, What: "PHP logged a fatal error", Evidence: line}
	for _, t := range targets {
		if NamesFileOf(line, s, t) {
			finding.Verdict, finding.What = smoke.Broken, "PHP logged a fatal error in "+t.Folder
		}
	}
	return finding
}

// NamesFileOf tells whether a message names a file of a component, by the last two folders of its
// name: PHP may know the site by another path than we do.
func NamesFileOf(message string, s *session.Session, t *runs.Target) bool {
	begins := func(place cms.Place) bool {
		short := "/" + path.Join(path.Base(path.Dir(place.Path)), path.Base(place.Path))
		return strings.Contains(message, short+"/") || place.Single && strings.Contains(message, short)
	}
	if installed, ok := site.Component(s.Components, t.Kind, t.Folder); ok && t.Kind != cms.Core {
		return slices.ContainsFunc(installed.Places, begins)
	}
	folder, err := s.Site.CMS.Layout().Folder(t.Kind, t.Folder)
	return err == nil && begins(folder)
}
