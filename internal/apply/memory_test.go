package apply

import (
	"errors"
	"io/fs"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
)

// memory is a disk in memory that can be killed at any step, changed by
// somebody else at any step, and robbed of what was not synced.
type memory struct {
	files   map[string]*inode
	folders map[string]bool

	steps     int
	killAt    int               // the step that is not done any more; 0 for none
	hook      func(step int)    // called before each step that changes something
	exchanges bool              // whether files can be exchanged
	log       []*change         // what names were changed, in order
	atStart   map[string]*inode // the names before the log
}

type inode struct {
	text []byte
	mode fs.FileMode
}

// change is an operation on names; it lasts when a folder it touches is synced.
type change struct {
	folders []string
	do      func(names map[string]*inode) bool
	synced  bool
}

var errKilled = errors.New("killed")

func newMemory(files map[string]string) *memory {
	m := &memory{files: map[string]*inode{}, folders: map[string]bool{"/": true}, exchanges: true}
	for name, text := range files {
		m.save(name, text)
	}
	m.settle()
	return m
}

// settle makes everything last.
func (m *memory) settle() {
	m.log, m.atStart = nil, maps.Clone(m.files)
}

// save is another program that writes a file in place.
func (m *memory) save(name, text string) {
	m.files[name] = &inode{[]byte(text), 0o644}
	for folder := filepath.Dir(name); folder != "/"; folder = filepath.Dir(folder) {
		m.folders[folder] = true
	}
	n := m.files[name]
	m.log = append(m.log, &change{synced: true, do: func(names map[string]*inode) bool { names[name] = n; return true }})
}

// crash loses names that were not synced, each by chance.
func (m *memory) crash(random *rand.Rand, chance float64) {
	names := maps.Clone(m.atStart)
	for _, c := range m.log {
		if c.synced || random.Float64() < chance {
			c.do(names)
		}
	}
	m.files = names
	m.settle()
	m.killAt, m.steps, m.hook = 0, 0, nil
}

// step counts a step that changes something; false means that the process is
// dead.
func (m *memory) step() bool {
	m.steps++
	if m.killAt > 0 && m.steps >= m.killAt {
		return false
	}
	if m.hook != nil {
		m.hook(m.steps)
	}
	return true
}

func (m *memory) apply(do func(names map[string]*inode) bool, paths ...string) bool {
	c := &change{do: do}
	for _, p := range paths {
		c.folders = append(c.folders, filepath.Dir(p))
	}
	m.log = append(m.log, c)
	return do(m.files)
}

func (m *memory) State(path string) (State, fs.FileMode, error) {
	n := m.files[path]
	if n == nil {
		return Absent, 0, nil
	}
	return StateOf(n.text), n.mode, nil
}

func (m *memory) Read(path string) ([]byte, error) {
	if n := m.files[path]; n != nil {
		return n.text, nil
	}
	return nil, fs.ErrNotExist
}

func (m *memory) Write(path string, text []byte, mode fs.FileMode) error {
	if !m.step() {
		torn := &inode{text[:len(text)/2], mode} // the kill comes in the middle
		m.apply(func(names map[string]*inode) bool { names[path] = torn; return true }, path)
		return errKilled
	}
	n := &inode{slices.Clone(text), mode}
	m.apply(func(names map[string]*inode) bool { names[path] = n; return true }, path)
	return nil
}

func (m *memory) Exchange(a, b string) error {
	if !m.step() {
		return errKilled
	}
	if !m.exchanges {
		return errNoExchange
	}
	if !m.apply(func(names map[string]*inode) bool {
		if names[a] == nil || names[b] == nil {
			return false
		}
		names[a], names[b] = names[b], names[a]
		return true
	}, a, b) {
		return fs.ErrNotExist
	}
	return nil
}

func (m *memory) MoveNew(from, to string) error {
	if !m.step() {
		return errKilled
	}
	if m.files[to] != nil {
		return fs.ErrExist
	}
	return m.rename(from, to)
}

func (m *memory) Move(from, to string) error {
	if !m.step() {
		return errKilled
	}
	return m.rename(from, to)
}

func (m *memory) rename(from, to string) error {
	below := func(name, folder string) bool { return name == folder || strings.HasPrefix(name, folder+"/") }
	if m.files[from] != nil {
		m.apply(func(names map[string]*inode) bool {
			n := names[from]
			if n != nil {
				delete(names, from)
				names[to] = n
			}
			return n != nil
		}, from, to)
		return nil
	}
	if !m.apply(func(names map[string]*inode) bool {
		found := false
		for name, n := range maps.Clone(names) {
			if below(name, from) {
				found = true
				delete(names, name)
				names[to+strings.TrimPrefix(name, from)] = n
			}
		}
		return found
	}, from, to) && !m.folders[from] {
		return fs.ErrNotExist
	}
	for folder := range maps.Clone(m.folders) {
		if below(folder, from) {
			delete(m.folders, folder)
			m.folders[to+strings.TrimPrefix(folder, from)] = true
		}
	}
	return nil
}

func (m *memory) Link(from, to string) error {
	if !m.step() {
		return errKilled
	}
	if !m.apply(func(names map[string]*inode) bool {
		if names[from] == nil || names[to] != nil {
			return false
		}
		names[to] = names[from]
		return true
	}, from, to) {
		return fs.ErrExist
	}
	return nil
}

func (m *memory) Remove(path string) error {
	if !m.step() {
		return errKilled
	}
	if !m.apply(func(names map[string]*inode) bool {
		_, there := names[path]
		delete(names, path)
		return there
	}, path) {
		return fs.ErrNotExist
	}
	return nil
}

func (m *memory) RemoveAll(path string) error {
	for _, name := range slices.Sorted(maps.Keys(m.files)) {
		if name == path || strings.HasPrefix(name, path+"/") {
			if err := m.Remove(name); err != nil {
				return err
			}
		}
	}
	for folder := range maps.Clone(m.folders) {
		if folder == path || strings.HasPrefix(folder, path+"/") {
			delete(m.folders, folder)
		}
	}
	return nil
}

func (m *memory) MakeFolder(path string) error {
	for folder := path; folder != "/"; folder = filepath.Dir(folder) {
		m.folders[folder] = true
	}
	return nil
}

func (m *memory) SyncFolder(path string) error {
	if !m.step() {
		return errKilled
	}
	for _, c := range m.log {
		c.synced = c.synced || slices.Contains(c.folders, path)
	}
	return nil
}

func (m *memory) List(folder string) ([]string, error) {
	seen := map[string]bool{}
	for _, names := range [][]string{slices.Collect(maps.Keys(m.files)), slices.Collect(maps.Keys(m.folders))} {
		for _, name := range names {
			if rest, ok := strings.CutPrefix(name, folder+"/"); ok {
				first, _, _ := strings.Cut(rest, "/")
				seen[first] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(seen)), nil
}

func (m *memory) SameDevice(a, _ string) bool { return !strings.Contains(a, "/mounted") }

// code is the tree without the state folder.
func (m *memory) code() map[string]string {
	list := map[string]string{}
	for name, n := range m.files {
		if !strings.HasPrefix(name, "/p/.widegate/") {
			list[name] = string(n.text)
		}
	}
	return list
}
