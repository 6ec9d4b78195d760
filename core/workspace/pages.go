package workspace

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"wetland/core/durable"
)

// ChangePages adds pages to wetland.toml and takes others out of it; all else in the file,
// comments too, stays as it was written. It returns an error, and changes nothing, where the file
// is written in a way that this cannot be done with.
func (w *Workspace) ChangePages(add []Page, leaveOut []string) error {
	file := filepath.Join(w.Dir, ConfigName)
	text, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("read %s: %w", file, err)
	}
	before, err := ReadConfig(text)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	wanted := slices.DeleteFunc(slices.Clone(before.Pages), func(p Page) bool { return slices.Contains(leaveOut, p.Path) })
	wanted = append(wanted, add...)
	changed := withoutPages(string(text), leaveOut) + pagesText(add)
	after, err := ReadConfig([]byte(changed))
	if err == nil {
		expected := *before
		expected.Pages = wanted
		if len(wanted) == 0 {
			expected.Pages = after.Pages
		}
		if !reflect.DeepEqual(expected, *after) {
			err = errors.New("its pages are not written one below the other as [[pages]]")
		}
	}
	if err != nil {
		return fmt.Errorf("%s cannot be changed by a program (%w). Nothing was changed: edit it by hand", file, err)
	}
	if err := durable.WriteFile(file, []byte(changed)); err != nil {
		return fmt.Errorf("write %s: %w", file, err)
	}
	w.Config = *after
	return nil
}

// Tests tells whether the page of a path is among those that are tested.
func (w *Workspace) Tests(path string) bool {
	return slices.ContainsFunc(w.Config.Pages, func(p Page) bool { return p.Path == path })
}

func pagesText(pages []Page) string {
	var b strings.Builder
	for _, page := range pages {
		fmt.Fprintf(&b, "\n[[pages]]\npath = %s\n", Quote(page.Path))
		if page.Status != 0 {
			fmt.Fprintf(&b, "status = %d\n", page.Status)
		}
	}
	return b.String()
}

var (
	tableLine = regexp.MustCompile(`^\s*\[`)
	pagesLine = regexp.MustCompile(`^\s*\[\[\s*pages\s*\]\]`)
	pathLine  = regexp.MustCompile(`^\s*path\s*=`)
)

// withoutPages takes the blocks of pages out of the text of a wetland.toml. Comments at a block's
// end belong to what follows.
func withoutPages(text string, leaveOut []string) string {
	lines := strings.SplitAfter(text, "\n")
	var kept []string
	for i := 0; i < len(lines); {
		if !pagesLine.MatchString(lines[i]) {
			kept = append(kept, lines[i])
			i++
			continue
		}
		end := i + 1
		for end < len(lines) && !tableLine.MatchString(lines[end]) {
			end++
		}
		for end > i+1 && (strings.TrimSpace(lines[end-1]) == "" || strings.HasPrefix(strings.TrimSpace(lines[end-1]), "#")) {
			end--
		}
		if !slices.Contains(leaveOut, pathIn(lines[i:end])) {
			kept = append(kept, lines[i:end]...)
		} else if len(kept) > 0 && strings.TrimSpace(kept[len(kept)-1]) == "" && end < len(lines) && strings.TrimSpace(lines[end]) == "" {
			end++ // one empty line is enough
		}
		i = end
	}
	text = strings.TrimRight(strings.Join(kept, ""), "\n")
	return text + "\n"
}

// pathIn returns the path of a block of lines; "" if it says none.
func pathIn(lines []string) string {
	for _, line := range lines {
		if !pathLine.MatchString(line) {
			continue
		}
		if read, err := ReadConfig([]byte("[[pages]]\n" + line)); err == nil || read != nil {
			for _, page := range read.Pages {
				return page.Path
			}
		}
	}
	return ""
}
