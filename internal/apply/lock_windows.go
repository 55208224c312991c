package apply

import (
	"os"

	"golang.org/x/sys/windows"
)

// exclusive locks an open file without waiting. The system gives the lock back
// when the process ends, however it ends.
func exclusive(f *os.File) error {
	const flags = windows.LOCKFILE_EXCLUSIVE_LOCK | windows.LOCKFILE_FAIL_IMMEDIATELY
	return windows.LockFileEx(windows.Handle(f.Fd()), flags, 0, 1, 0, new(windows.Overlapped))
}
