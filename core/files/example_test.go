package files_test

import (
	"fmt"

	"wetland/core/files"
)

func ExampleComparison_Compare() {
	before := files.Tree{{Path: "style.css", Kind: files.File, Hash: "a1"}, {Path: "old.css", Kind: files.File, Hash: "b2"}}
	now := files.Tree{{Path: "style.css", Kind: files.File, Hash: "c3"}, {Path: "new.css", Kind: files.File, Hash: "d4"}}
	for _, differ := range files.Content.Compare(before, now) {
		fmt.Println(differ.Path, "-", differ.What)
	}
	// Output:
	// new.css - only now
	// old.css - only before
	// style.css - other content
}
