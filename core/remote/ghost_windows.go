package remote

import (
	"context"

	"wetland/core/files"
)

// No helper runs on Windows.
type heart struct{}

func newHeart() *heart { return &heart{} }

func (*heart) beat() {}
func (*heart) stop() {}

func lock(ctx context.Context, fsys files.FS, name string, counts func(user int) bool) (func() error, error) {
	return files.Lock(ctx, fsys, name, counts)
}
