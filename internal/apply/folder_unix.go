//go:build unix

package apply

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
)

// SyncFolder makes the names in a folder last.
func (d system) SyncFolder(path string) error {
	f, err := d.folder.OpenFile(d.below(path), os.O_RDONLY, 0)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

func (d system) SameDevice(a, b string) bool {
	infoA, errA := d.folder.Lstat(d.below(a))
	for errA != nil && a != filepath.Dir(a) && a != d.folder.Path() { // it is made when it is needed
		a = filepath.Dir(a)
		infoA, errA = d.folder.Lstat(d.below(a))
	}
	infoB, errB := d.folder.Lstat(d.below(b))
	if errA != nil || errB != nil {
		return true
	}
	statA, okA := infoA.Sys().(*syscall.Stat_t)
	statB, okB := infoB.Sys().(*syscall.Stat_t)
	return !okA || !okB || statA.Dev == statB.Dev
}
