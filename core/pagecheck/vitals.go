package pagecheck

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"

	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

// Vitals are what the CMS answered to requests that no page shows, and what it does at set times.
type Vitals struct {
	asked   []cms.Vital
	answers map[string]VitalAnswer // by path
	jobs    []string
}

// VitalAnswer is one of those answers.
type VitalAnswer struct {
	Status int
	Not    string // what it is not, that was to come: "no JSON"; "": nothing
	Failed string // why nothing came
}

func (a VitalAnswer) works() bool { return a.Failed == "" && a.Status < 400 && a.Not == "" }

func (a VitalAnswer) String() string {
	switch {
	case a.Failed != "":
		return fmt.Sprintf("nothing (%s)", a.Failed)
	case a.Not != "":
		return fmt.Sprintf("%d, and %s", a.Status, a.Not)
	}
	return fmt.Sprint(a.Status)
}

// AskVitals asks a CMS that can be replaced; of any other nothing is known.
func AskVitals(ctx context.Context, s *session.Session) Vitals {
	core, can := s.Site.CMS.(cms.Replaceable)
	if !can {
		return Vitals{}
	}
	asked := core.Vitals()
	if upload := findUpload(ctx, s); upload != "" {
		asked = append(asked, cms.Vital{What: "a file that was uploaded", Path: upload})
	}
	return askAll(ctx, s, core, asked)
}

func askAll(ctx context.Context, s *session.Session, core cms.Replaceable, asked []cms.Vital) Vitals {
	v := Vitals{asked: asked, answers: map[string]VitalAnswer{}}
	for _, one := range asked {
		if !one.SignedIn {
			body, status, err := s.Fetcher.Fetch(ctx, one.Path)
			v.answers[one.Path] = answerOf(one, body, status, err)
		}
	}
	if s.Site.Workspace.Config.Reach.SignIn.Path != "" {
		v.askSignedIn(ctx, s)
	}
	v.jobs, _ = core.Jobs(ctx, s.DB) // what is not known is not compared
	return v
}

func answerOf(to cms.Vital, body []byte, status int, err error) VitalAnswer {
	answer := VitalAnswer{Status: status}
	if err != nil {
		answer.Failed = err.Error()
	}
	if to.JSON && !json.Valid(body) {
		answer.Not = "no JSON"
	}
	return answer
}

// askSignedIn asks what is answered to whoever is signed in.
func (v Vitals) askSignedIn(ctx context.Context, s *session.Session) {
	var pages []smoke.Page
	for _, one := range v.asked {
		switch {
		case !one.SignedIn:
		case one.JSON:
			v.answers[one.Path] = askWithToken(ctx, s, one)
		default:
			pages = append(pages, smoke.Page{Path: one.Path, SignedIn: true})
		}
	}
	take, err := s.Fetcher.Glance(ctx, pages)
	if err != nil {
		return // the context ended
	}
	for _, page := range pages {
		facts, ok := take.Page(page.Path)
		if !ok {
			continue
		}
		answer := VitalAnswer{Status: facts.Status, Failed: facts.Problem}
		switch {
		case facts.Text == 0:
			answer.Not = "nothing on it"
		case !facts.Complete:
			answer.Not = "its end is missing"
		case reading.AsksToSignIn(facts):
			answer.Not = "a form to sign in"
		}
		v.answers[page.Path] = answer
	}
}

// longestToken bounds what is taken for proof that a request is meant.
const longestToken = 200

func askWithToken(ctx context.Context, s *session.Session, one cms.Vital) VitalAnswer {
	token, status, err := []byte(nil), http.StatusOK, error(nil)
	if one.Token != "" {
		token, status, err = s.Fetcher.FetchSignedIn(ctx, one.Token)
	}
	if err != nil || status != http.StatusOK || len(token) > longestToken {
		return answerOf(one, nil, status, err)
	}
	body, status, err := s.Fetcher.FetchSignedIn(ctx, one.Path+strings.TrimSpace(string(token)))
	return answerOf(one, body, status, err)
}

// deepestUpload is how many folders below that of all uploads one is looked for.
const deepestUpload = 6

// findUpload finds a file that somebody uploaded, by its address; "": there is none. In each folder it is the first, and
// in folders of years and months the newest.
func findUpload(ctx context.Context, s *session.Session) string {
	layout := s.Site.CMS.Layout()
	at := ""
	for range deepestUpload {
		entries, err := s.Site.Files.List(ctx, path.Join(layout.Uploads, at))
		if err != nil {
			return ""
		}
		served := func(entry files.Entry) bool {
			return entry.Kind == files.File && entry.Size > 0 && entry.Name[0] != '.' && slices.Contains(servedEndings, strings.ToLower(path.Ext(entry.Name)))
		}
		if i := slices.IndexFunc(entries, served); i >= 0 {
			address := url.URL{Path: path.Join("/", layout.PublicUploads, at, entries[i].Name)}
			return address.EscapedPath()
		}
		deeper := slices.DeleteFunc(slices.Clone(entries), func(entry files.Entry) bool { return entry.Kind != files.Folder })
		if len(deeper) == 0 {
			return ""
		}
		at = path.Join(at, deeper[len(deeper)-1].Name)
	}
	return ""
}

// servedEndings are those of files that any web server hands out.
var servedEndings = []string{".jpg", ".jpeg", ".png", ".gif", ".webp", ".svg", ".pdf", ".css", ".txt"}

// JudgeVitals asks again, and adds to a judgement what worked before and does not any more.
func JudgeVitals(ctx context.Context, s *session.Session, before Vitals, judgement *smoke.Judgement) error {
	core, can := s.Site.CMS.(cms.Replaceable)
	if !can || len(before.answers) == 0 {
		return nil
	}
	return s.Step("vitals", 0, "", func() (progress.Mark, string, error) {
		now := askAll(ctx, s, core, before.asked)
		if err := ctx.Err(); err != nil {
			return progress.Bad, "", err
		}
		worse := before.judge(now, judgement)
		if worse > 0 {
			return progress.Bad, fmt.Sprintf("%d of %d requests that no page shows are answered otherwise than before", worse, len(now.answers)), nil
		}
		var names []string
		for _, one := range before.asked {
			if _, asked := before.answers[one.Path]; asked {
				names = append(names, one.What)
			}
		}
		words, mark := "answered as before: "+phrase.List(names, 8), progress.Good
		if gone := slices.DeleteFunc(slices.Clone(before.jobs), func(job string) bool { return slices.Contains(now.jobs, job) }); len(gone) > 0 {
			words, mark = words+"; not done at set times any more, as this version may want it: "+phrase.List(gone, 4), progress.Note
		} else if len(before.jobs) > 0 {
			words += "; " + phrase.Plural(len(before.jobs), "job") + " at set times, as before"
		}
		return mark, words, nil
	})
}

// judge adds to a judgement what is answered otherwise now, and counts it.
func (v Vitals) judge(now Vitals, judgement *smoke.Judgement) (worse int) {
	for _, one := range v.asked {
		was, asked := v.answers[one.Path]
		is := now.answers[one.Path]
		finding := smoke.Finding{Page: one.Path, Check: "vitals", Verdict: smoke.Broken, What: fmt.Sprintf("%s answered %s, and now %s", one.What, was, is)}
		switch {
		case !asked, was.works() && is.works(), was.Status == is.Status && was.Not == is.Not && (was.Failed == "") == (is.Failed == ""):
			continue
		case !was.works():
			finding.Verdict = smoke.Doubtful
		}
		worse++
		judgement.Add(finding)
	}
	return worse
}
