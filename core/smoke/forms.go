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
	Name    string   `json:"name"`             // its id, name or target
	Within  string   `json:"within,omitempty"` // the landmark it is in
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
	// Along are the other hidden fields that are sent along, such as the number of the product
	// or of the post: their names, for their values change.
	Along []string `json:"along,omitempty"`
}

// sends are the elements that send a form (HTML, 4.10.18.4).
const sends = `button:not([type]), button[type="submit" i], input[type="submit" i], input[type="image" i]`

func readForm(document *goquery.Document, s *goquery.Selection, where, base *url.URL) Form {
	form := Form{Name: s.AttrOr("id", ""), Within: within(s), Method: strings.ToUpper(s.AttrOr("method", http.MethodGet))}
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

// asksToSignIn tells of a page with a form for a password.
func asksToSignIn(facts Facts) bool {
	return slices.ContainsFunc(facts.Forms, func(f Form) bool { return f.Secret })
}

func loseForms(found *collector, was, now Facts) {
	for i, j := range sameForms(was.Forms, now.Forms) {
		form := was.Forms[i]
		if j >= 0 {
			loseForm(found, form, now.Forms[j])
			continue
		}
		verdict, what := Broken, fmt.Sprintf("the form %q is gone", form.Name)
		if slices.ContainsFunc(now.Forms, func(f Form) bool { return f.To == form.To && len(minus(form.Fields, f.Fields)) == 0 }) {
			verdict, what = Doubtful, fmt.Sprintf("one of the forms %q is gone; another one like it stands", form.Name)
		}
		found.lose(verdict, "form", form.Name, what, "fields: "+strings.Join(form.Fields, ", "))
	}
	for _, name := range now.DeadForms {
		found.lose(Broken, "form", name, fmt.Sprintf("the form %q is sent to an address where nothing is", name), "")
	}
}

// likeForm tells how alike two forms are. A new version may call a form otherwise: then all of
// its fields must be there.
func likeForm(a, b Form) float64 {
	renamed := len(a.Fields) > 0 && len(minus(a.Fields, b.Fields)) == 0 && a.Secret == b.Secret
	if a.Name != b.Name && !renamed {
		return 0
	}
	return points(a.Name == b.Name, 2) + 2*share(a.Fields, b.Fields) + points(a.To == b.To, 0.5) + points(a.Within == b.Within, 1) +
		points(a.Secret == b.Secret, 0.5) + points(a.Hidden == b.Hidden, 0.25) + points(a.Buttons == b.Buttons, 0.25)
}

func sameForms(a, b []Form) []int {
	return pairs(len(a), len(b), func(i, j int) float64 { return likeForm(a[i], b[j]) })
}

// loseForm finds why a form that stands does not work any more.
func loseForm(found *collector, was, now Form) {
	if lost := minus(was.Fields, now.Fields); len(lost) > 0 {
		found.lose(Broken, "form", was.Name, fmt.Sprintf("the form %q lost %d of %d fields", was.Name, len(lost), len(was.Fields)), strings.Join(lost, ", "))
	}
	if lost := minus(was.Tokens, now.Tokens); len(lost) > 0 {
		found.lose(Doubtful, "form", was.Name, fmt.Sprintf("the form %q lost the hidden field by which the site knows it as its own", was.Name), strings.Join(lost, ", "))
	}
	if lost := minus(was.Along, slices.Concat(now.Along, now.Fields)); len(lost) > 0 {
		found.lose(Doubtful, "form", was.Name, fmt.Sprintf("the form %q lost %s by which the site knows what it is about", was.Name, plural(len(lost), "hidden field")), strings.Join(lost, ", "))
	}
	for _, field := range slices.Sorted(maps.Keys(was.Choices)) {
		if was.Choices[field] > 1 && now.Choices[field] <= 1 && slices.Contains(now.Fields, field) {
			found.lose(Broken, "form", was.Name, fmt.Sprintf("the field %q of the form %q offers nothing to choose any more, was %d", field, was.Name, was.Choices[field]), "")
		}
	}
	if was.Buttons > 0 && now.Buttons == 0 {
		found.lose(Broken, "form", was.Name, fmt.Sprintf("the form %q cannot be sent any more: its button is gone or switched off", was.Name), "")
	}
	if now.Hidden && !was.Hidden {
		verdict := Broken
		if len(was.Fields) < 2 && !was.Secret {
			verdict = Doubtful // a search, say, may wait behind a button
		}
		found.lose(verdict, "form", was.Name, fmt.Sprintf("the form %q does not show any more: a style sheet hides it", was.Name), "")
	}
	if hostOf(was.To) != hostOf(now.To) && was.To != "" {
		found.lose(Broken, "form", was.Name, fmt.Sprintf("the form %q is sent to another site", was.Name), now.To)
	}
	if was.Method != "" && was.Method != now.Method {
		verdict := Doubtful
		if now.Secret && now.Method == http.MethodGet {
			verdict = Broken // the password would stand in the address
		}
		found.lose(verdict, "form", was.Name, fmt.Sprintf("the form %q is sent by %s, was %s", was.Name, now.Method, was.Method), "")
	}
}

// mergeForms keeps the forms that stood still.
func mergeForms(a, b []Form) []Form {
	var kept []Form
	for i, j := range sameForms(a, b) {
		if j < 0 {
			continue
		}
		form, other := a[i], b[j]
		form.Fields, form.Tokens = both(form.Fields, other.Fields), both(form.Tokens, other.Tokens)
		form.Along = both(form.Along, other.Along)
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
