// Package rooted reads and writes files below a folder, and nowhere else.
//
// What lies in a project may be somebody else's choice: a branch can hold links
// as well as files. Every path here is one below the folder, with slashes, and
// no part of it may be a link. A path that leaves the folder, or that not every
// file system can hold, is refused before anything is touched. The folder itself
// may be reached by links: it is what the developer named.
package rooted

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"widegate/internal/fault"
)

// Folder is an open folder.
type Folder struct {
	root *os.Root
	at   string
}

// Open opens a folder, which must exist.
func Open(folder string) (*Folder, error) {
	full, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(full)
	if err != nil {
		return nil, err
	}
	return &Folder{root: root, at: full}, nil
}

// Path is where the folder is.
func (f *Folder) Path() string { return f.at }

// Close closes the folder.
func (f *Folder) Close() error { return f.root.Close() }

// LinkError says that a part of a path is a link.
type LinkError struct {
	Path string // that was wanted
	Link string // the part that is a link
}

func (e *LinkError) Error() string {
	if e.Link == e.Path {
		return e.Path + " is a link, and links are not followed here"
	}
	return fmt.Sprintf("%s: %s is a link, and links are not followed here", e.Path, e.Link)
}

// Next is what to do about it.
func (e *LinkError) Next() string { return "put a plain file or folder in the place of " + e.Link }

// Check returns an error if a name can not be the path of a file below a folder
// on every file system: it must be relative and clean, without parent folders,
// control characters or names that a system keeps for itself.
func Check(name string) error {
	if name == "" || name == "." || path.Clean(name) != name || !filepath.IsLocal(filepath.FromSlash(name)) {
		return fault.New("name a file below the folder of the project", "%q is no path below the project", name)
	}
	for _, part := range strings.Split(name, "/") {
		if why := unfit(part); why != "" {
			return fault.New("choose another name", "%q cannot be the path of a file: %q %s", name, part, why)
		}
	}
	return nil
}

// unfit says why a name cannot be used on every system; empty if it can.
func unfit(part string) string {
	stem, _, _ := strings.Cut(part, ".")
	switch {
	case strings.ContainsFunc(part, func(r rune) bool { return r < ' ' || r == 0x7f || r == 0xfffd }):
		return "has a control character or is no UTF-8"
	case strings.ContainsAny(part, `\:*?"<>|`):
		return "has a character that not every file system takes"
	case strings.HasSuffix(part, ".") || strings.HasSuffix(part, " "):
		return "ends in a dot or a space"
	case len(part) > 255:
		return "is longer than 255 bytes"
	case devices[strings.ToLower(strings.TrimRight(stem, " "))]:
		return "is the name of a device on some systems"
	}
	return ""
}

// devices are the names that Windows keeps for devices, whatever their
// extension.
var devices = func() map[string]bool {
	list := map[string]bool{"con": true, "prn": true, "aux": true, "nul": true, "conin$": true, "conout$": true}
	for _, digit := range []string{"0", "1", "2", "3", "4", "5", "6", "7", "8", "9", "¹", "²", "³"} {
		list["com"+digit], list["lpt"+digit] = true, true
	}
	return list
}()

// plain refuses a path that leaves the folder or has a link in it. The last
// part may be a link where it is looked at, moved or removed as such.
func (f *Folder) plain(name string, last bool) error {
	if name == "." {
		return nil
	}
	if !filepath.IsLocal(filepath.FromSlash(name)) {
		return fmt.Errorf("%q leads out of %s", name, f.at)
	}
	for at := range len(name) + 1 {
		end := at == len(name)
		if !end && name[at] != '/' || end && !last {
			continue
		}
		info, err := f.root.Lstat(filepath.FromSlash(name[:at]))
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			return &LinkError{Path: name, Link: name[:at]}
		}
	}
	return nil
}

// Lstat describes what lies at a path, a link as itself.
func (f *Folder) Lstat(name string) (fs.FileInfo, error) {
	if err := f.plain(name, false); err != nil {
		return nil, err
	}
	return f.root.Lstat(filepath.FromSlash(name))
}

// OpenFile opens a file as os.OpenFile does.
func (f *Folder) OpenFile(name string, flag int, mode fs.FileMode) (*os.File, error) {
	if err := f.plain(name, true); err != nil {
		return nil, err
	}
	file, err := f.root.OpenFile(filepath.FromSlash(name), flag, mode)
	if err == nil && flag&os.O_CREATE != 0 {
		if err = f.Own(name); err != nil {
			file.Close()
			return nil, err
		}
	}
	return file, err
}

// Read reads a plain file.
func (f *Folder) Read(name string) ([]byte, error) {
	if err := f.plain(name, true); err != nil {
		return nil, err
	}
	info, err := f.root.Lstat(filepath.FromSlash(name))
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() { // a pipe would never end
		return nil, fault.New("put a plain file in its place", "%s is not a plain file", name)
	}
	if info.Size() > largest {
		return nil, fault.New("look at where it comes from", "%s is larger than %d MB", name, largest>>20)
	}
	return f.root.ReadFile(filepath.FromSlash(name))
}

// largest is how large a file may be that is read as a whole, in bytes.
const largest = 1 << 30

// Write makes a file, or replaces what one holds.
func (f *Folder) Write(name string, text []byte, mode fs.FileMode) error {
	if err := f.plain(name, true); err != nil {
		return err
	}
	if err := f.root.WriteFile(filepath.FromSlash(name), text, mode); err != nil {
		return err
	}
	return f.Own(name)
}

// Remove removes a file, a link or an empty folder.
func (f *Folder) Remove(name string) error {
	if err := f.plain(name, false); err != nil {
		return err
	}
	return f.root.Remove(filepath.FromSlash(name))
}

// RemoveAll removes what lies at a path, and below it.
func (f *Folder) RemoveAll(name string) error {
	if err := f.plain(name, false); err != nil {
		return err
	}
	return f.root.RemoveAll(filepath.FromSlash(name))
}

// Mkdir makes a folder.
func (f *Folder) Mkdir(name string, mode fs.FileMode) error {
	if err := f.plain(name, true); err != nil {
		return err
	}
	if err := f.root.Mkdir(filepath.FromSlash(name), mode); err != nil {
		return err
	}
	return f.Own(name)
}

// MkdirAll makes a folder and those that it lies in; those that exist are left.
func (f *Folder) MkdirAll(name string) error {
	if name == "." {
		return nil
	}
	if err := f.MkdirAll(path.Dir(name)); err != nil {
		return err
	}
	if err := f.Mkdir(name, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return f.plain(name, true)
}

// Rename moves a file, and replaces what lies there.
func (f *Folder) Rename(from, to string) error {
	if err := errors.Join(f.plain(from, false), f.plain(to, false)); err != nil {
		return err
	}
	return f.root.Rename(filepath.FromSlash(from), filepath.FromSlash(to))
}

// Link gives a file a second name.
func (f *Folder) Link(from, to string) error {
	if err := errors.Join(f.plain(from, true), f.plain(to, false)); err != nil {
		return err
	}
	return f.root.Link(filepath.FromSlash(from), filepath.FromSlash(to))
}

// List returns the names in a folder, sorted.
func (f *Folder) List(name string) ([]string, error) {
	if err := f.plain(name, true); err != nil {
		return nil, err
	}
	entries, err := fs.ReadDir(f.root.FS(), name)
	if err != nil {
		return nil, err
	}
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names, nil
}

// Files returns the paths of all that lies below a folder and is no folder,
// sorted; none if it does not exist.
func (f *Folder) Files(name string) ([]string, error) {
	if err := f.plain(name, true); err != nil {
		return nil, err
	}
	var list []string
	err := fs.WalkDir(f.root.FS(), name, func(at string, entry fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil && !entry.IsDir() {
			list = append(list, at)
		}
		return err
	})
	return list, err
}
