package reading

import (
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"

	"wetland/core/smoke"
)

// sends are the elements that send a form (HTML, 4.10.18.4).
const sends = `button:not([type]), button[type="submit" i], input[type="submit" i], input[type="image" i]`

func readForm(document *goquery.Document, s *goquery.Selection, where, base *url.URL) smoke.Form {
	form := smoke.Form{Name: s.AttrOr("id", ""), Within: within(s), Method: strings.ToUpper(s.AttrOr("method", http.MethodGet))}
	if form.Name == "" {
		form.Name = s.AttrOr("name", "")
	}
	if target, err := base.Parse(strings.TrimSpace(s.AttrOr("action", ""))); err == nil {
		target = WithoutMark(target)
		target.Fragment = ""
		form.To = target.String()
		if target.Host == where.Host {
			form.To = target.RequestURI()
		}
		if form.Name == "" {
			form.Name = "to " + target.Path
		}
	}
	buttons := s.Find(sends)
	if id := s.AttrOr("id", ""); id != "" {
		buttons = buttons.AddSelection(document.Find(sends).FilterFunction(func(_ int, b *goquery.Selection) bool { return b.AttrOr("form", "") == id }))
	}
	form.Buttons = buttons.Not("[disabled]").Length()
	form.Secret = s.Find(`input[type="password" i]`).Length() > 0
	form.Choices = map[string]int{}
	s.Find("input, textarea, select").Each(func(_ int, field *goquery.Selection) {
		name := field.AttrOr("name", "")
		if choices := field.Find("option").Length(); choices > 0 {
			form.Choices[name] = choices
		}
		switch hidden := strings.EqualFold(field.AttrOr("type", ""), "hidden"); {
		case !hidden || name == "":
		case token.MatchString(name):
			form.Tokens = append(form.Tokens, name)
		case !slices.Contains(form.Along, name):
			form.Along = append(form.Along, name)
		}
		if name != "" && field.AttrOr("type", "") != "hidden" && !slices.Contains(form.Fields, name) {
			form.Fields = append(form.Fields, name)
		}
	})
	return form
}

// token matches the names that such fields have by custom.
var token = regexp.MustCompile(`(?i)nonce|token|csrf`)

// AsksToSignIn tells of a page with a form for a password.
func AsksToSignIn(facts smoke.Facts) bool {
	return slices.ContainsFunc(facts.Forms, func(f smoke.Form) bool { return f.Secret })
}
