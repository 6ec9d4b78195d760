package files

import (
	"syscall"
	"time"
)

// changeTime is when anything of an entry changed last. Nobody can set it.
func changeTime(stat *syscall.Stat_t) time.Time { return time.Unix(stat.Ctim.Unix()) }
