//go:build unix

package apply

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
)

// SyncFolder makes the names in a folder last.
func (system) SyncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

func (system) SameDevice(a, b string) bool {
	infoA, errA := os.Stat(a)
	for errA != nil && a != filepath.Dir(a) { // it is made when it is needed
		a = filepath.Dir(a)
		infoA, errA = os.Stat(a)
	}
	infoB, errB := os.Stat(b)
	if errA != nil || errB != nil {
		return true
	}
	statA, okA := infoA.Sys().(*syscall.Stat_t)
	statB, okB := infoB.Sys().(*syscall.Stat_t)
	return !okA || !okB || statA.Dev == statB.Dev
}
