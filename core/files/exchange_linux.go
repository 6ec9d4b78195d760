package files

import (
	"errors"
	"fmt"

	"golang.org/x/sys/unix"
)

const canExchange = true

func exchange(a, b string) error {
	err := unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EXDEV) || errors.Is(err, unix.EOPNOTSUPP) {
		return fmt.Errorf("%w (%w)", ErrUnsupported, err)
	}
	if err != nil {
		return fmt.Errorf("exchange %s and %s: %w", a, b, err)
	}
	return nil
}
