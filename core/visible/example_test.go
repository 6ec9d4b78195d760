package visible_test

import (
	"fmt"

	"wetland/core/visible"
)

func ExampleLine() {
	fmt.Println(visible.Line("fares.pdf\x1b[2J\n  ok  all is well"))
	// Output: fares.pdf\u001b[2J\u000a  ok  all is well
}

func ExampleMarkdown() {
	fmt.Println(visible.Markdown("# <img src=x> *Fares*"))
	// Output: \# \<img src=x\> \*Fares\*
}
