package followed

import "syscall"

// madeAt returns the time of the last change of content, owner or permissions (ctime), in nanoseconds since 1970. No
// program can set it.
func madeAt(st *syscall.Stat_t) int64 { return st.Ctim.Nano() }
