//go:build unix

package apply

import (
	"os"
	"syscall"
)

// exclusive locks an open file without waiting. The system gives the lock back
// when the process ends, however it ends.
func exclusive(f *os.File) error {
	return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
}
