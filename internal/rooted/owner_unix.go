//go:build !windows

package rooted

import (
	"os"
	"path/filepath"
	"syscall"
)

// Own gives what lies at a path to whom the folder belongs, where the superuser made
// it: their next run must be able to replace it.
func (f *Folder) Own(name string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	info, err := os.Stat(f.at)
	if err != nil {
		return err
	}
	owner, ok := info.Sys().(*syscall.Stat_t)
	if !ok || owner.Uid == 0 {
		return nil
	}
	at, err := f.root.Lstat(filepath.FromSlash(name))
	if err != nil {
		return err
	}
	if now, ok := at.Sys().(*syscall.Stat_t); ok && now.Uid != 0 {
		return nil
	}
	return f.root.Lchown(filepath.FromSlash(name), int(owner.Uid), int(owner.Gid))
}
