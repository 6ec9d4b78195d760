package files

import (
	"time"

	"golang.org/x/sys/unix"
)

func modifiedTime(stat *unix.Stat_t) time.Time { return time.Unix(stat.Mtim.Unix()) }
