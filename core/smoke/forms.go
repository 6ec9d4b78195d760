package smoke

import (
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
)

// Form is one form of a page.
type Form struct {
	Name    string   `json:"name"` // its id, name or target
	Fields  []string `json:"fields"`
	To      string   `json:"to,omitempty"` // path and query; with its host on another site; "": unknown
	Method  string   `json:"method,omitempty"`
	Buttons int      `json:"buttons,omitempty"` // that send it
	Secret  bool     `json:"secret,omitempty"`  // it asks for a password
	Hidden  bool     `json:"hidden,omitempty"`  // by a style sheet
	// Choices counts what each field offers to choose from; Tokens are the hidden fields that
	// prove that the form comes from the site.
	Choices map[string]int `json:"choices,omitempty"`
	Tokens  []string       `json:"tokens,omitempty"`
}

// sends are the elements that send a form (HTML, 4.10.18.4).
const sends = `button:not([type]), button[type="submit" i], input[type="submit" i], input[type="image" i]`

func readForm(document *goquery.Document, s *goquery.Selection, where, base *url.URL) Form {
	form := Form{Name: s.AttrOr("id", ""), Method: strings.ToUpper(s.AttrOr("method", http.MethodGet))}
	if form.Name == "" {
		form.Name = s.AttrOr("name", "")
	}
	if target, err := base.Parse(strings.TrimSpace(s.AttrOr("action", ""))); err == nil {
		target = withoutMark(target)
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
		if field.AttrOr("type", "") == "hidden" && token.MatchString(name) {
			form.Tokens = append(form.Tokens, name)
		}
		if name != "" && field.AttrOr("type", "") != "hidden" && !slices.Contains(form.Fields, name) {
			form.Fields = append(form.Fields, name)
		}
	})
	return form
}

// token matches the names that such fields have by custom.
var token = regexp.MustCompile(`(?i)nonce|token|csrf`)

// asksToSignIn tells of a page with a form for a password.
func asksToSignIn(facts Facts) bool {
	return slices.ContainsFunc(facts.Forms, func(f Form) bool { return f.Secret })
}

func loseForms(found *collector, was, now Facts) {
	for _, form := range was.Forms {
		i := sameForm(form, now.Forms)
		if i < 0 {
			found.add(Broken, "form", fmt.Sprintf("the form %q is gone", form.Name), "fields: "+strings.Join(form.Fields, ", "))
			continue
		}
		loseForm(found, form, now.Forms[i])
	}
	for _, name := range now.DeadForms {
		found.add(Broken, "form", fmt.Sprintf("the form %q is sent to an address where nothing is", name), "")
	}
}

// sameForm finds a form by its name, else by its fields: a new version may call it otherwise.
// It returns -1 if there is none.
func sameForm(form Form, among []Form) int {
	if i := slices.IndexFunc(among, func(f Form) bool { return f.Name == form.Name }); i >= 0 {
		return i
	}
	return slices.IndexFunc(among, func(f Form) bool {
		return len(form.Fields) > 0 && len(both(form.Fields, f.Fields)) == len(form.Fields) && f.Secret == form.Secret
	})
}

// loseForm finds why a form that stands does not work any more.
func loseForm(found *collector, was, now Form) {
	if lost := slices.DeleteFunc(slices.Clone(was.Fields), func(s string) bool { return slices.Contains(now.Fields, s) }); len(lost) > 0 {
		found.add(Broken, "form", fmt.Sprintf("the form %q lost %d of %d fields", was.Name, len(lost), len(was.Fields)), strings.Join(lost, ", "))
	}
	if lost := slices.DeleteFunc(slices.Clone(was.Tokens), func(s string) bool { return slices.Contains(now.Tokens, s) }); len(lost) > 0 {
		found.add(Doubtful, "form", fmt.Sprintf("the form %q lost the hidden field by which the site knows it as its own", was.Name), strings.Join(lost, ", "))
	}
	for _, field := range slices.Sorted(maps.Keys(was.Choices)) {
		if was.Choices[field] > 1 && now.Choices[field] <= 1 && slices.Contains(now.Fields, field) {
			found.add(Broken, "form", fmt.Sprintf("the field %q of the form %q offers nothing to choose any more, was %d", field, was.Name, was.Choices[field]), "")
		}
	}
	if was.Buttons > 0 && now.Buttons == 0 {
		found.add(Broken, "form", fmt.Sprintf("the form %q cannot be sent any more: its button is gone or switched off", was.Name), "")
	}
	if now.Hidden && !was.Hidden {
		verdict := Broken
		if len(was.Fields) < 2 && !was.Secret {
			verdict = Doubtful // a search, say, may wait behind a button
		}
		found.add(verdict, "form", fmt.Sprintf("the form %q does not show any more: a style sheet hides it", was.Name), "")
	}
	if hostOf(was.To) != hostOf(now.To) && was.To != "" {
		found.add(Broken, "form", fmt.Sprintf("the form %q is sent to another site", was.Name), now.To)
	}
	if was.Method != "" && was.Method != now.Method {
		verdict := Doubtful
		if now.Secret && now.Method == http.MethodGet {
			verdict = Broken // the password would stand in the address
		}
		found.add(verdict, "form", fmt.Sprintf("the form %q is sent by %s, was %s", was.Name, now.Method, was.Method), "")
	}
}

// mergeForms keeps the forms that stood still.
func mergeForms(a, b []Form) []Form {
	var kept []Form
	for _, form := range a {
		i := slices.IndexFunc(b, func(f Form) bool { return f.Name == form.Name })
		if i < 0 {
			continue
		}
		other := b[i]
		form.Fields, form.Tokens = both(form.Fields, other.Fields), both(form.Tokens, other.Tokens)
		form.Choices = least(form.Choices, other.Choices)
		form.Buttons, form.Hidden = min(form.Buttons, other.Buttons), form.Hidden || other.Hidden
		if form.To != other.To {
			form.To = ""
		}
		if form.Method != other.Method {
			form.Method = ""
		}
		kept = append(kept, form)
	}
	return kept
}
