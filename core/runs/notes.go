package runs

import (
	"path/filepath"
	"slices"
	"time"

	"wetland/core/smoke"
)

// TableNote says what going back did with one table that had changed.
type TableNote struct {
	Table string `json:"table"`
	What  string `json:"what"`
	Saved string `json:"saved,omitempty"` // file with the rows that were there before going back
	// Left marks changes that are not the update's and stay as they are.
	Left bool `json:"left,omitempty"`
	// Own marks those of them that the CMS makes by itself.
	Own bool `json:"own,omitempty"`
	// Unsure marks what could not be told, or not be kept in the table.
	Unsure bool `json:"unsure,omitempty"`
}

// Undecided are rows of a table of which nobody can tell whether the update or a visitor changed them.
type Undecided struct {
	Table string `json:"table"`
	Rows  int    `json:"rows"`
	File  string `json:"file"` // with both states of each
}

// Note records what was done with tables, by table. What was done several times is said
// once, with the folder of all that was saved.
func (r *Run) Note(notes ...TableNote) {
	for _, note := range notes {
		i := slices.IndexFunc(r.Database, func(n TableNote) bool { return n.Table == note.Table && n.What == note.What })
		switch {
		case i < 0:
			at := len(r.Database)
			for j, other := range r.Database {
				if other.Table == note.Table {
					at = j + 1
				}
			}
			r.Database = slices.Insert(r.Database, at, note)
		case note.Saved != "" && r.Database[i].Saved != "":
			r.Database[i].Saved = filepath.Dir(note.Saved)
		}
	}
}

// FileName makes the name of a file out of that of a table or folder.
func FileName(table string) string {
	clean := []rune(table)
	for i, r := range clean {
		if r != '_' && r != '-' && (r < '0' || r > '9') && (r < 'A' || r > 'Z') && (r < 'a' || r > 'z') {
			clean[i] = '_'
		}
	}
	return string(clean)
}

// RestNote says what became of one thing that changed outside of the components.
type RestNote struct {
	What  string `json:"what"` // a path, or a table with its rows
	Done  string `json:"done"`
	Left  bool   `json:"left,omitempty"`  // it stays as it is
	Saved string `json:"saved,omitempty"` // where it is kept as it was before going back
}

// Remedy is something that was tried before going back, and what it did.
type Remedy struct {
	What   string   `json:"what"`
	Pages  []string `json:"pages"`  // that were not sound before it
	Helped []string `json:"helped"` // of those, the ones that are sound, or better, since
}

// Probe is one part of the packages, put in place to see whether it breaks the pages.
type Probe struct {
	Components []string      `json:"components"` // kind/folder
	Verdict    smoke.Verdict `json:"verdict"`
	Exposed    time.Duration `json:"exposed_ns"` // how long visitors could meet it
}

// CopyNote tells of the private copy that a rehearsal was made on.
type CopyNote struct {
	Snapshot string `json:"snapshot"` // that was brought up
	// Differs says in what the copy was not as the site.
	Differs []string `json:"differs,omitempty"`
	// WithoutRows are tables that somebody wanted empty on it.
	WithoutRows []string `json:"without_rows,omitempty"`
}
