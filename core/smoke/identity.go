package smoke

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"

	"wetland/core/files"
	"wetland/core/site/cms"
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
func (f *Fetcher) Identify(ctx context.Context, fsys files.FS, candidates []cms.PublicFile) Identity {
	var found Identity
	for _, candidate := range candidates {
		onDisk, err := readUpTo(ctx, fsys, candidate.Disk, largestAsset)
		if err != nil {
			found.Unasked = append(found.Unasked, fmt.Sprintf("%s: %v", candidate.Disk, err))
			continue
		}
		served, status, err := f.Fetch(ctx, candidate.Public)
		switch {
		case err != nil:
			found.Unasked = append(found.Unasked, fmt.Sprintf("%s: %v", candidate.Public, err))
		case status == http.StatusForbidden || status == http.StatusUnauthorized:
			found.Unasked = append(found.Unasked, fmt.Sprintf("%s: the server answers %d", candidate.Public, status))
		case status != http.StatusOK || !bytes.Equal(served, onDisk):
			found.Other = append(found.Other, candidate.Public)
		default:
			found.Same = append(found.Same, candidate.Public)
		}
	}
	return found
}

// Fetch returns the bytes and status of one file of the site, past caches.
func (f *Fetcher) Fetch(ctx context.Context, path string) ([]byte, int, error) {
	got, err := f.get(ctx, f.Resolve(path), largestAsset, manner{})
	return got.body, got.status, err
}

// Purge asks a cache to forget an address, and returns its answer.
func (f *Fetcher) Purge(ctx context.Context, address string) (int, error) {
	f.setUp()
	ctx, cancel := context.WithTimeout(ctx, f.Patience)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, "PURGE", address, nil)
	if err != nil {
		return 0, err
	}
	response, err := f.client.Do(request)
	if err != nil {
		return 0, f.explain(ctx, err)
	}
	return response.StatusCode, response.Body.Close()
}

func readUpTo(ctx context.Context, fsys files.FS, name string, limit int64) ([]byte, error) {
	file, err := fsys.Open(ctx, name, 0)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(io.LimitReader(file, limit))
}

// PHPVersion returns the version of PHP that the site's answers name, or "".
func (f *Fetcher) PHPVersion(ctx context.Context) string {
	got, err := f.get(ctx, f.Address, largestPage, manner{})
	if err != nil {
		return ""
	}
	for _, line := range got.header.Values("X-Powered-By") {
		if php, ok := strings.CutPrefix(line, "PHP/"); ok {
			return php
		}
	}
	return ""
}
