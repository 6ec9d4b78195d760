package judging

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"wetland/core/phrase"
	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

func loseForms(found *Collector, was, now smoke.Facts) {
	for i, j := range sameForms(was.Forms, now.Forms) {
		form := was.Forms[i]
		if j >= 0 {
			loseForm(found, form, now.Forms[j])
			continue
		}
		verdict, what := smoke.Broken, fmt.Sprintf("the form %q is gone", form.Name)
		if slices.ContainsFunc(now.Forms, func(f smoke.Form) bool { return f.To == form.To && len(minus(form.Fields, f.Fields)) == 0 }) {
			verdict, what = smoke.Doubtful, fmt.Sprintf("one of the forms %q is gone; another one like it stands", form.Name)
		}
		found.lose(verdict, "form", form.Name, what, "fields: "+strings.Join(form.Fields, ", "))
	}
	for _, name := range now.DeadForms {
		found.lose(smoke.Broken, "form", name, fmt.Sprintf("the form %q is sent to an address where nothing is", name), "")
	}
}

// likeForm tells how alike two forms are. A new version may call a form otherwise: then all of
// its fields must be there.
func likeForm(a, b smoke.Form) float64 {
	renamed := len(a.Fields) > 0 && len(minus(a.Fields, b.Fields)) == 0 && a.Secret == b.Secret
	if a.Name != b.Name && !renamed {
		return 0
	}
	return points(a.Name == b.Name, 2) + 2*share(a.Fields, b.Fields) + points(a.To == b.To, 0.5) + points(a.Within == b.Within, 1) +
		points(a.Secret == b.Secret, 0.5) + points(a.Hidden == b.Hidden, 0.25) + points(a.Buttons == b.Buttons, 0.25)
}

func sameForms(a, b []smoke.Form) []int {
	return pairs(len(a), len(b), func(i, j int) float64 { return likeForm(a[i], b[j]) })
}

// loseForm finds why a form that stands does not work any more.
func loseForm(found *Collector, was, now smoke.Form) {
	if lost := minus(was.Fields, now.Fields); len(lost) > 0 {
		found.lose(smoke.Broken, "form", was.Name, fmt.Sprintf("the form %q lost %d of %d fields", was.Name, len(lost), len(was.Fields)), strings.Join(lost, ", "))
	}
	if lost := minus(was.Tokens, now.Tokens); len(lost) > 0 {
		found.lose(smoke.Doubtful, "form", was.Name, fmt.Sprintf("the form %q lost the hidden field by which the site knows it as its own", was.Name), strings.Join(lost, ", "))
	}
	if lost := minus(was.Along, slices.Concat(now.Along, now.Fields)); len(lost) > 0 {
		found.lose(smoke.Doubtful, "form", was.Name, fmt.Sprintf("the form %q lost %s by which the site knows what it is about", was.Name, phrase.Plural(len(lost), "hidden field")), strings.Join(lost, ", "))
	}
	for _, field := range slices.Sorted(maps.Keys(was.Choices)) {
		if was.Choices[field] > 1 && now.Choices[field] <= 1 && slices.Contains(now.Fields, field) {
			found.lose(smoke.Broken, "form", was.Name, fmt.Sprintf("the field %q of the form %q offers nothing to choose any more, was %d", field, was.Name, was.Choices[field]), "")
		}
	}
	if was.Buttons > 0 && now.Buttons == 0 {
		found.lose(smoke.Broken, "form", was.Name, fmt.Sprintf("the form %q cannot be sent any more: its button is gone or switched off", was.Name), "")
	}
	if now.Hidden && !was.Hidden {
		verdict := smoke.Broken
		if len(was.Fields) < 2 && !was.Secret {
			verdict = smoke.Doubtful // a search, say, may wait behind a button
		}
		found.lose(verdict, "form", was.Name, fmt.Sprintf("the form %q does not show any more: a style sheet hides it", was.Name), "")
	}
	if smoke.HostOf(was.To) != smoke.HostOf(now.To) && was.To != "" {
		found.lose(smoke.Broken, "form", was.Name, fmt.Sprintf("the form %q is sent to another site", was.Name), now.To)
	}
	if was.Method != "" && was.Method != now.Method {
		verdict := smoke.Doubtful
		if now.Secret && now.Method == http.MethodGet {
			verdict = smoke.Broken // the password would stand in the address
		}
		found.lose(verdict, "form", was.Name, fmt.Sprintf("the form %q is sent by %s, was %s", was.Name, now.Method, was.Method), "")
	}
}

// mergeForms keeps the forms that stood still.
func mergeForms(a, b []smoke.Form) []smoke.Form {
	var kept []smoke.Form
	for i, j := range sameForms(a, b) {
		if j < 0 {
			continue
		}
		form, other := a[i], b[j]
		form.Fields, form.Tokens = both(form.Fields, other.Fields), both(form.Tokens, other.Tokens)
		form.Along = both(form.Along, other.Along)
		form.Choices = reading.Least(form.Choices, other.Choices)
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
