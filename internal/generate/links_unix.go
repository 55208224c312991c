//go:build unix

package generate

import (
	"os"
	"syscall"
)

// hardLinked reports whether a file has several names.
func hardLinked(file string) bool {
	info, err := os.Lstat(file)
	if err != nil {
		return false
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && stat.Nlink > 1
}
