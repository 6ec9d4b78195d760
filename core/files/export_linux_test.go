package files

// WithoutOpenat2 makes calls go part by part, as where a sandbox forbids openat2.
func WithoutOpenat2(do func()) {
	before := noOpenat2.Swap(true)
	defer noOpenat2.Store(before)
	do()
}
