package cli

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"wetland/cli/screen"
	"wetland/core/adopt"
	"wetland/core/advice"
	"wetland/core/archive"
	"wetland/core/preflight"
	"wetland/core/restore"
	"wetland/core/runs"
	"wetland/core/shelf"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/smoke/fetching"
	"wetland/core/smoke/judging"
	"wetland/core/snapshot"
	"wetland/core/survey"
	"wetland/core/update"
)

// What --json prints: one document on standard output, of one of these types. docs/json.md is
// made from them.

// closing ends every document.
type closing struct {
	ExitCode int `json:"exit_code"` // the same that the program ends with
}

// errorDocument is printed where a command could not do what it was asked for.
type errorDocument struct {
	Error string `json:"error"`
	// Reasons and PagesLookedAt come with a refusal, which has exit code 2.
	Reasons       []runs.Reason `json:"reasons,omitempty"`
	PagesLookedAt *bool         `json:"pages_looked_at,omitempty"`
	Next          []advice.Step `json:"next,omitempty"` // what to do
	closing
}

// acceptDocument lists the findings that were accepted.
type acceptDocument struct {
	Accepted []judging.Acceptance `json:"accepted"`
	closing
}

// pagesDocument lists the pages that are tested, and what a command changed of them.
type pagesDocument struct {
	Pages   []testedPage `json:"pages"`
	Added   []string     `json:"added,omitempty"`
	LeftOut []string     `json:"left_out,omitempty"`
	Preview bool         `json:"preview,omitempty"` // nothing was changed: nobody was there to ask
	Notes   []string     `json:"notes,omitempty"`   // where pages were looked for
	closing
}

// testedPage is one page that wetland.toml names.
type testedPage struct {
	Path  string `json:"path"`
	Title string `json:"title,omitempty"` // when it was last recorded
	// InBrowser says that a browser looked at it then.
	InBrowser bool `json:"in_browser"`
	// Conditions says that wetland.toml wants more of it than that it answers.
	Conditions bool `json:"conditions"`
	Status     int  `json:"status,omitempty"`
}

// adoptDocument tells of a site that was taken into care.
type adoptDocument struct {
	Workspace   string              `json:"workspace"`
	System      string              `json:"system"` // the CMS and its version
	Root        string              `json:"root"`
	Address     string              `json:"address"`
	Files       int                 `json:"files"`      // that a snapshot will hold
	BelongsTo   string              `json:"belongs_to"` // the user whose site root looks after; "" otherwise
	Engine      string              `json:"engine"`     // of the database; "": it could not be reached
	Tables      int                 `json:"tables"`
	Components  []cms.Component     `json:"components"`
	Pages       []string            `json:"pages"` // to test
	DeadPages   []fetching.DeadLink `json:"dead_pages"`
	NotCompared []smoke.Finding     `json:"not_compared"` // what changes by itself on the pages
	LeftOut     []string            `json:"left_out"`     // of snapshots
	PHPPool     string              `json:"php_pool"`     // "": none was found
	Host        []preflight.Offer   `json:"host"`         // what the site's machine offers, where that is another one
	Doubts      []runs.Reason       `json:"doubts"`
	closing
}

func documentOfAdoption(r *adopt.Result, code int) adoptDocument {
	var pages []string
	for _, page := range r.Pages {
		pages = append(pages, page.Path)
	}
	return adoptDocument{
		Workspace: r.Workspace.Dir, System: r.System, Root: r.Root, Address: r.Address, Files: r.Files, BelongsTo: r.BelongsTo, Engine: r.Engine, Tables: r.Tables,
		Components: r.Components, Pages: pages, DeadPages: r.Dead, NotCompared: r.NotCompared, LeftOut: r.LeaveOut, PHPPool: r.Pool, Host: r.Offers,
		Doubts: r.Doubts, closing: closing{code},
	}
}

// examineDocument holds packages against the site, in the order in which they were named.
type examineDocument struct {
	Examined []*preflight.Examination `json:"examined"`
	closing
}

// exportDocument tells of a snapshot that was written in open formats.
type exportDocument struct {
	*archive.Exported
	closing
}

// historyDocument lists snapshots and runs, oldest first.
type historyDocument struct {
	Site   string          `json:"site"`
	Events []archive.Event `json:"events"`
	closing
}

// movedDocument tells of a site that was followed to another place.
type movedDocument struct {
	*restore.Moved
	closing
}

// nothingDocument tells that there was nothing to do.
type nothingDocument struct {
	State string        `json:"state"`          // "up to date" of update --all, "settled" of recover
	Left  []update.Left `json:"left,omitempty"` // what the shelf has newer, and is not updated
	closing
}

// planDocument is what update --plan would do.
type planDocument struct {
	*update.Plan
	closing
}

// runDocument tells of a run: of update, restore, recover and report.
type runDocument struct {
	*runs.Run
	Error string `json:"error,omitempty"` // what went wrong, where the state does not say it
	closing
}

// sealDocument tells of a store that was sealed.
type sealDocument struct {
	Sealed string `json:"sealed"` // the store's folder
	closing
}

// shelveDocument lists the archives that were to be shelved.
type shelveDocument struct {
	Shelved []shelf.Shelved `json:"shelved"`
	closing
}

// shelfDocument lists the packages at hand, by kind and folder, newest version first.
type shelfDocument struct {
	Shelf []shelf.OnShelf `json:"shelf"`
	closing
}

// smokeDocument is a test of the pages.
type smokeDocument struct {
	Site     string           `json:"site"`
	Address  string           `json:"address"`
	Baseline string           `json:"baseline,omitempty"` // when it was recorded, RFC 3339
	Result   *smoke.Judgement `json:"result"`
	closing
}

// learnDocument tells of pages that were recorded with smoke --learn.
type learnDocument struct {
	Recorded bool             `json:"recorded"` // false: they are broken, and were not
	Result   *smoke.Judgement `json:"result"`
	closing
}

// snapshotDocument tells of a snapshot: of snapshot, verify and restore --into.
type snapshotDocument struct {
	Snapshot   string    `json:"snapshot"`
	Site       string    `json:"site"`
	Files      int       `json:"files"`
	Bytes      int64     `json:"bytes"` // of the files
	Tables     int       `json:"tables"`
	Rows       int64     `json:"rows"`
	FilesAt    time.Time `json:"files_at"`
	DatabaseAt time.Time `json:"database_at"`
	Reason     string    `json:"reason"`
	Run        string    `json:"run"`             // that took it; "": none
	Weaker     []string  `json:"weaker"`          // what it does not promise
	Skipped    []string  `json:"skipped"`         // sockets, devices and pipes
	Fresh      *bool     `json:"fresh,omitempty"` // of snapshot: false if the newest one serves
	// BroughtUp says what came of verify --bring-up.
	BroughtUp *archive.Livable `json:"brought_up,omitempty"`
	closing
}

func documentOfSnapshot(m *snapshot.Manifest) snapshotDocument {
	count, size, tables, rows := m.Totals()
	return snapshotDocument{
		Snapshot: m.Name, Site: m.Site, Files: count, Bytes: size, Tables: tables, Rows: rows, FilesAt: m.FilesAt.UTC(), DatabaseAt: m.DatabaseAt.UTC(),
		Reason: m.Reason, Run: m.Run, Weaker: m.Weaker, Skipped: m.Skipped,
	}
}

// pinDocument tells whether a snapshot is pinned.
type pinDocument struct {
	Snapshot string `json:"snapshot"`
	Pinned   bool   `json:"pinned"`
	closing
}

// surveyDocument tells what is installed.
type surveyDocument struct {
	*survey.Survey
	closing
}

// editsDocument is what was edited by hand, of survey --edits.
type editsDocument struct {
	Folder string `json:"folder"`
	Diff   string `json:"diff"` // in the unified form; "": nothing
	closing
}

// tidyDocument tells which snapshots go and stay.
type tidyDocument struct {
	*archive.TidyPlan
	Preview bool `json:"preview"` // nothing was deleted
	closing
}

// documents are all of them, with the commands that print them.
var documents = []struct {
	commands string
	document any
}{
	{"every command that could not do what it was asked for", errorDocument{}},
	{"accept", acceptDocument{}}, {"adopt", adoptDocument{}}, {"examine", examineDocument{}}, {"export", exportDocument{}}, {"history", historyDocument{}},
	{"moved", movedDocument{}}, {"pages", pagesDocument{}}, {"pin", pinDocument{}}, {"seal", sealDocument{}}, {"shelf", shelfDocument{}}, {"shelve", shelveDocument{}},
	{"smoke", smokeDocument{}}, {"smoke --learn", learnDocument{}}, {"snapshot, verify, restore --into", snapshotDocument{}},
	{"survey", surveyDocument{}}, {"survey --edits", editsDocument{}}, {"tidy", tidyDocument{}},
	{"update, restore, recover, report", runDocument{}}, {"update --plan", planDocument{}}, {"update --all and recover, where there is nothing to do", nothingDocument{}},
}

func (a *app) writeJSON(document any) {
	encoder := json.NewEncoder(a.out)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(filled(document)); err != nil {
		fmt.Fprintln(a.errs, "cannot write JSON:", err)
	}
}

// filled returns a document whose lists that are always there are empty, not null, and whose
// commands say how they are typed.
func filled(document any) any {
	copied := reflect.New(reflect.TypeOf(document)).Elem()
	copied.Set(reflect.ValueOf(document))
	fill(copied)
	return copied.Interface()
}

func fill(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			fill(v.Elem())
		}
	case reflect.Slice:
		for i := range v.Len() {
			fill(v.Index(i))
		}
	case reflect.Struct:
		if v.CanAddr() && v.CanInterface() {
			if command, ok := v.Addr().Interface().(*advice.Command); ok {
				command.Line = screen.CommandLine(command)
			}
		}
		for i := range v.NumField() {
			field := v.Field(i)
			if !field.CanSet() && !v.Type().Field(i).Anonymous {
				continue
			}
			tag := v.Type().Field(i).Tag.Get("json")
			if field.Kind() == reflect.Slice && field.IsNil() && field.CanSet() && tag != "-" && !slices.Contains(strings.Split(tag, ","), "omitempty") && field.Type().Elem().Kind() != reflect.Uint8 {
				field.Set(reflect.MakeSlice(field.Type(), 0, 0))
			}
			fill(field)
		}
	}
}
