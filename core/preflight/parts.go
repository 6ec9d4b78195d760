package preflight

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/site/cms"
)

// forReaders are the endings of files that packages bring for people, and that nothing needs on the site.
var forReaders = []string{"", ".txt", ".md", ".pot", ".html"}

// takeParts lists the names that a package replaces where the installed component has no folder of its own; none where it
// has one. What stands against that is added to why.
func takeParts(installed cms.Component, p *packages.Package, why *runs.Reasons) []string {
	stand, known := installed.Stand()
	if !known {
		why.Add(fmt.Sprintf("%s is installed in several places, and the package is a folder", p.Folder), "Bring it in by the CMS's own dashboard.")
		return nil
	}
	if len(stand.Parts) == 0 {
		return nil
	}
	parts := slices.Clone(stand.Parts)
	if brings := stand.Only(p.Tree); !slices.ContainsFunc(brings, func(item files.Item) bool { return item.Path == installed.Folder }) && installed.Kind != cms.Language || len(brings) == 0 {
		why.Add(fmt.Sprintf("the package has no file that takes the place of %s", installed.Folder), "Check whether this is the right package.")
	}
	var further []string
	for _, item := range p.Tree {
		switch {
		case item.Path == "." || path.Dir(item.Path) != ".":
		case installed.Kind == cms.Language && item.Kind == files.Folder: // packs of their own
		case slices.Contains(parts, item.Path):
		case belongsBeside(installed, item):
			parts = append(parts, item.Path)
		case item.Kind != files.File || !slices.Contains(forReaders, strings.ToLower(path.Ext(item.Path))):
			further = append(further, item.Path)
		}
	}
	if len(further) > 0 {
		why.Add(fmt.Sprintf("%s is installed as %s, and the package has more that it needs: %s", installed.Folder, cmp.Or(string(installed.Form), "files of its own"), phrase.List(further, 4)),
			"It has become a plugin with a folder. Take the old one out, and bring in the new one, in the CMS's own dashboard.")
	}
	slices.Sort(parts)
	return parts
}

// belongsBeside tells of something in the root of a package that is installed beside what is there already.
func belongsBeside(installed cms.Component, item files.Item) bool {
	switch installed.Kind {
	case cms.Language:
		return item.Kind == files.File && !slices.Contains(forReaders, strings.ToLower(path.Ext(item.Path)))
	case cms.MustUse:
		return item.Kind == files.Folder && item.Path == strings.TrimSuffix(installed.Folder, ".php")
	}
	return false
}
