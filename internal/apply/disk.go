package apply

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"widegate/internal/rooted"
)

// disk is the file system as the protocol uses it. Each call is one step that
// a kill can come before or after; paths are full.
type disk interface {
	// State is Absent, the hash of a plain file's bytes, or Other.
	State(path string) (State, fs.FileMode, error)
	Read(path string) ([]byte, error)
	// Write makes a file that is not there, or empties one, and syncs it.
	Write(path string, text []byte, mode fs.FileMode) error
	// Exchange swaps two files in one step, or returns errNoExchange.
	Exchange(a, b string) error
	// MoveNew renames to a name that is not taken.
	MoveNew(from, to string) error
	// Move renames, and replaces what is there.
	Move(from, to string) error
	Link(from, to string) error
	Remove(path string) error
	RemoveAll(path string) error
	MakeFolder(path string) error
	SyncFolder(path string) error
	List(folder string) ([]string, error)
	// SameDevice reports whether a rename between two folders can work.
	SameDevice(a, b string) bool
}

// State is what lies at a path.
type State string

// The states that are no hashes.
const (
	Absent State = "absent"
	Other  State = "other" // a link, a folder, a device
)

// StateOf is the state of a plain file with these bytes; nil stands for none.
func StateOf(text []byte) State {
	if text == nil {
		return Absent
	}
	sum := sha256.Sum256(text)
	return State(hex.EncodeToString(sum[:]))
}

var errNoExchange = errors.New("the file system cannot exchange files")

// system is the disk of the operating system, as far as it lies below the root.
// It follows no links.
type system struct{ folder *rooted.Folder }

// below is a full path as seen from the root.
func (d system) below(path string) string {
	rel, err := filepath.Rel(d.folder.Path(), path)
	if err != nil {
		return path // which the folder refuses
	}
	return filepath.ToSlash(rel)
}

func (d system) State(path string) (State, fs.FileMode, error) {
	info, err := d.folder.Lstat(d.below(path))
	if errors.Is(err, fs.ErrNotExist) {
		return Absent, 0, nil
	}
	if err != nil {
		return "", 0, err
	}
	if !info.Mode().IsRegular() {
		return Other, info.Mode(), nil
	}
	text, err := d.folder.Read(d.below(path))
	if errors.Is(err, fs.ErrNotExist) {
		return Absent, 0, nil
	}
	if err != nil {
		return "", 0, err
	}
	if text == nil {
		text = []byte{}
	}
	return StateOf(text), info.Mode().Perm(), nil
}

func (d system) Read(path string) ([]byte, error) { return d.folder.Read(d.below(path)) }

func (d system) Write(path string, text []byte, mode fs.FileMode) error {
	f, err := d.folder.OpenFile(d.below(path), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err == nil {
		err = f.Chmod(mode) // whatever the umask says: the file replaces one of this mode
	}
	return errors.Join(err, f.Sync(), f.Close())
}

func (d system) Move(from, to string) error  { return d.folder.Rename(d.below(from), d.below(to)) }
func (d system) Link(from, to string) error  { return d.folder.Link(d.below(from), d.below(to)) }
func (d system) Remove(path string) error    { return d.folder.Remove(d.below(path)) }
func (d system) RemoveAll(path string) error { return d.folder.RemoveAll(d.below(path)) }

// MakeFolder makes a folder and syncs the parent of each new one.
func (d system) MakeFolder(path string) error {
	if info, err := d.folder.Lstat(d.below(path)); err == nil {
		if !info.IsDir() {
			return fmt.Errorf("%s is not a folder", path)
		}
		return nil
	}
	parent := filepath.Dir(path)
	if parent != path && path != d.folder.Path() {
		if err := d.MakeFolder(parent); err != nil {
			return err
		}
	}
	if err := d.folder.Mkdir(d.below(path), 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return d.SyncFolder(parent)
}

func (d system) List(folder string) ([]string, error) {
	names, err := d.folder.List(d.below(folder))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return names, err
}

// moveByLink is MoveNew where the system has no such call.
func (d system) moveByLink(from, to string) error {
	if err := d.Link(from, to); err != nil {
		return err
	}
	return d.Remove(from)
}
