package version_test

import (
	"fmt"

	"wetland/core/version"
)

func ExampleBetween() {
	for _, to := range []string{"2.4.2", "2.5.0", "3.0.0", "2.3.9", "2.4.1"} {
		fmt.Println("2.4.1 to", to+":", version.Between("2.4.1", to))
	}
	// Output:
	// 2.4.1 to 2.4.2: patch
	// 2.4.1 to 2.5.0: minor
	// 2.4.1 to 3.0.0: major
	// 2.4.1 to 2.3.9: backward
	// 2.4.1 to 2.4.1: same
}
