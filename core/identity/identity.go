// Package identity proves that a folder is what answers at an address, by the bytes of public files.
package identity

import (
	"bytes"
	"context"
	"fmt"
	"net/http"

	"wetland/core/files"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/smoke/fetching"
)

// Identity is what comparing files on disk with what the address serves says
// about whether both are one site.
type Identity struct {
	Same    []string // served with the bytes on disk
	Other   []string // served with other bytes, or not there
	Unasked []string // could not be asked, with the reason
}

// Proved tells whether the address serves this root: some files are the same, and
// none is another.
func (i Identity) Proved() bool { return len(i.Same) > 0 && len(i.Other) == 0 }

// String says it in words.
func (i Identity) String() string {
	return fmt.Sprintf("%d of %d files are served with the bytes on disk", len(i.Same), len(i.Same)+len(i.Other))
}

// Identify fetches files of the site and compares them with the disk.
func Identify(ctx context.Context, f *fetching.Fetcher, fsys files.FS, candidates []cms.PublicFile) Identity {
	var found Identity
	onDisk, failed := make([][]byte, len(candidates)), make([]error, len(candidates))
	_ = files.AtOnce(ctx, fsys, len(candidates), func(ctx context.Context, i int) error {
		onDisk[i], failed[i] = fetching.ReadUpTo(ctx, fsys, candidates[i].Disk, smoke.LargestAsset)
		return nil
	})
	for i, candidate := range candidates {
		if err := failed[i]; err != nil {
			found.Unasked = append(found.Unasked, fmt.Sprintf("%s: %v", candidate.Disk, err))
			continue
		}
		served, status, err := f.Fetch(ctx, candidate.Public)
		switch {
		case err != nil:
			found.Unasked = append(found.Unasked, fmt.Sprintf("%s: %v", candidate.Public, err))
		case status == http.StatusForbidden || status == http.StatusUnauthorized:
			found.Unasked = append(found.Unasked, fmt.Sprintf("%s: the server answers %d", candidate.Public, status))
		case status != http.StatusOK || !bytes.Equal(served, onDisk[i]):
			found.Other = append(found.Other, candidate.Public)
		default:
			found.Same = append(found.Same, candidate.Public)
		}
	}
	return found
}
