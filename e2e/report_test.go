package e2e

import (
	"encoding/xml"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/core/smoke/browser"
	"wetland/internal/testenv"
)

func TestReportTellsOfARun(t *testing.T) {
	f := adopted(t)
	f.run(t, "update", f.pkg("harbourlight-2.5.0")).want(t, 3, "its report:", "report.html")
	file := filepath.Join(f.care, "runs/run-1/report.html")
	text, err := os.ReadFile(file)
	must(t, err)
	for _, want := range []string{"<span class=\"doubt\">Put back.</span> Harbourlight 2.4.1 to 2.5.0", "the server answers 500", "<th>swap</th>", "snap-1", "Not covered", "prefers-color-scheme: dark", "wetland shelf"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("the report does not say %q", want)
		}
	}
	for _, foreign := range []string{"<script", "<link", "url(", "src=\"http", "@import"} {
		if strings.Contains(string(text), foreign) {
			t.Errorf("the report needs something else: %s", foreign)
		}
	}
	must(t, os.Remove(file))
	f.run(t, "report", "run-1").want(t, 0, file)
	f.run(t, "report", "run-1", "--as", "markdown").want(t, 0, "# Put back: Harbourlight 2.4.1 to 2.5.0", "- **broken** `/notices`", "## What now")
	var suite struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Cases    []struct {
			Name    string  `xml:"name,attr"`
			Failure *string `xml:"failure"`
		} `xml:"testcase"`
	}
	must(t, xml.Unmarshal([]byte(f.run(t, "report", "run-1", "--as", "junit").want(t, 0).stdout), &suite))
	if suite.Tests != 11 || suite.Failures == 0 || suite.Cases[0].Failure == nil || !strings.Contains(*suite.Cases[0].Failure, "answers 500") {
		t.Errorf("%+v", suite)
	}
	f.run(t, "report", "run-9").want(t, 1, "there is no such run")
	f.run(t, "report", "run-1", "--as", "pdf").want(t, 1, "--as must be")
}

// With a browser the pages are photographed before and after, and what only it can see
// is found.
func TestUpdateWithABrowser(t *testing.T) {
	if browser.Find() == "" {
		testenv.Missing(t, "chromium")
	}
	f := adopted(t)
	f.edit(t, f.config(), `browser = "none"`, `# browser = "none"`)
	// Only a few pages: a browser takes its time.
	text, err := os.ReadFile(f.config())
	must(t, err)
	before, _, _ := strings.Cut(string(text), "[[pages]]")
	must(t, os.WriteFile(f.config(), []byte(before+"[[pages]]\npath = \"/timetable\"\n"), 0o600))
	entries := entriesOf(t, filepath.Join(f.root, "themes/harbourlight"), "harbourlight")
	entries["harbourlight/theme.toml"] = strings.Replace(entries["harbourlight/theme.toml"], "2.4.1", "2.4.2", 1)
	entries["harbourlight/assets/menu.js"] = `document.addEventListener("DOMContentLoaded", function () { document.querySelector("main").remove(); lantern.light(); });`
	f.run(t, "update", zipOf(t, "harbourlight.zip", entries)).want(t, 3, "the main part does not show", "a script fails in the browser", "lantern is not defined", "Put back.")
	report, err := os.ReadFile(filepath.Join(f.care, "runs/run-1/report.html"))
	must(t, err)
	if strings.Count(string(report), "data:image/jpeg;base64,") != 6 {
		t.Errorf("%d pictures in the report", strings.Count(string(report), "data:image/jpeg;base64,"))
	}
}

// A browser that is named but fails is never a pass; none at all is said.
func TestBrowserThatFails(t *testing.T) {
	f := adopted(t)
	f.run(t, "smoke").want(t, 0, "Not covered:", "how pages look in a browser")
	crashes := filepath.Join(t.TempDir(), "browser")
	must(t, os.WriteFile(crashes, []byte("#!/bin/sh\nexit 3\n"), 0o755))
	f.edit(t, f.config(), `browser = "none"`, `browser = "`+crashes+`"`)
	f.run(t, "smoke").want(t, 4, "could not be looked at", "Doubtful.")
}
