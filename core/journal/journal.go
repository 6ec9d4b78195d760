// Package journal keeps the record of a run: one line for each thing that is
// about to be done or was done, safe on disk before the work goes on.
package journal

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"wetland/core/durable"
)

// Entry is one line of a journal.
type Entry struct {
	At    time.Time       `json:"at"`
	Step  string          `json:"step"`
	Facts json.RawMessage `json:"facts,omitempty"`
}

// Journal appends entries to a file.
type Journal struct {
	file *os.File
}

// Create begins a new journal; the file must not exist yet.
func Create(name string) (*Journal, error) {
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("begin the journal: %w", err)
	}
	return &Journal{file: file}, durable.SyncFolder(filepath.Dir(name))
}

// Append opens an existing journal to go on with it. A last line that a crash cut
// off is taken away first: the next entry must not become a part of it.
func Append(name string) (*Journal, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("open the journal: %w", err)
	}
	if whole := bytes.LastIndexByte(text, '\n') + 1; whole < len(text) {
		if err := os.Truncate(name, int64(whole)); err != nil {
			return nil, fmt.Errorf("open the journal: %w", err)
		}
	}
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the journal: %w", err)
	}
	return &Journal{file: file}, nil
}

// Write adds an entry. When it returns nil the entry survives a loss of power.
func (j *Journal) Write(step string, facts any) error {
	entry := Entry{At: time.Now().UTC(), Step: step}
	var err error
	if facts != nil {
		if entry.Facts, err = json.Marshal(facts); err != nil {
			return fmt.Errorf("write the journal: %w", err)
		}
	}
	line, err := json.Marshal(entry)
	if err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	if _, err := j.file.Write(append(line, '\n')); err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	if err := durable.Sync(j.file); err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	return nil
}

// Close ends writing.
func (j *Journal) Close() error { return j.file.Close() }

// Read returns the entries of a journal. A last line that was cut off by a crash
// is passed over: what it announced was not begun.
func Read(name string) ([]Entry, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	var entries []Entry
	for len(text) > 0 {
		line, rest, whole := bytes.Cut(text, []byte("\n"))
		if !whole {
			break
		}
		var entry Entry
		if err := json.Unmarshal(line, &entry); err != nil {
			return entries, fmt.Errorf("the journal %s is damaged in line %d: %w", name, len(entries)+1, err)
		}
		entries = append(entries, entry)
		text = rest
	}
	return entries, nil
}
