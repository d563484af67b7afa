package ring

import "golang.org/x/sys/unix"

// newPage is memory that is kept out of swap, where the system lets us, and out of
// core files. held tells whether it is kept out of swap.
func newPage(size int) (page []byte, locked bool, err error) {
	if page, err = unix.Mmap(-1, 0, size, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE); err != nil {
		return nil, false, err
	}
	unix.Madvise(page, unix.MADV_DONTDUMP)
	return page, unix.Mlock(page) == nil, nil
}

func freePage(page []byte) {
	unix.Munlock(page)
	unix.Munmap(page)
}
