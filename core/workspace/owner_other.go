//go:build !unix

package workspace

// checkWhose has nothing to look at where files have no owner of this kind.
func checkWhose(string) error { return nil }
