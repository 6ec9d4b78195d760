package session

import (
	"fmt"
	"slices"
	"strings"

	"wetland/core/durable"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/workspace"
)

// RulesOf returns how findings count on a workspace's site.
func RulesOf(w *workspace.Workspace) (judging.Rules, error) {
	var rules judging.Rules
	for i, weight := range w.Config.Severity {
		if !slices.Contains(judging.Checks, weight.Check) {
			return rules, fmt.Errorf("%s: [[severity]] number %d: there is no check called %q (known: %s)", workspace.ConfigName, i+1, weight.Check, strings.Join(judging.Checks, ", "))
		}
		rules.Weights = append(rules.Weights, judging.Weight{Check: weight.Check, Pages: weight.Pages, As: smoke.Verdict(weight.As), Because: weight.Because})
	}
	var err error
	rules.Accepted, err = durable.ReadJSONIfAny[[]judging.Acceptance](w.Accepted())
	return rules, err
}
