//go:build !linux

package files

import (
	"context"
	"errors"
	"os"
)

func gains(*os.File) bool { return false }

func duplicate(context.Context, *os.File, *os.File) error { return errors.ErrUnsupported }
