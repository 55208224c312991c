// Package apply brings planned files to disk, all of them or none.
//
// New texts are staged first, then a journal that lists every step is written,
// and only then do files change, each by a rename. A run that is killed before
// the journal stands has changed nothing; one that is killed after it is
// finished by the next run, which finds the journal. Every step looks at what
// is there, so it may be done again.
package apply

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"widegate/internal/fault"
)

// Change is one file to write, or to remove where Text is nil.
type Change struct {
	Path string // below the root, with slashes
	Text []byte
}

const (
	lockName    = "lock"
	stageName   = "staged"
	journalName = "journal.json"
)

// step is a change in the journal: the staged file N goes to Path, or Path is
// removed.
type step struct {
	Path   string `json:"path"`
	Staged string `json:"staged,omitempty"`
}

// Lock keeps other runs out of a state folder until the process ends or Unlock
// is called.
type Lock struct{ file *os.File }

// Acquire locks the state folder and finishes what a run that was killed left.
func Acquire(root, state string) (*Lock, error) {
	if err := os.MkdirAll(state, 0o755); err != nil {
		return nil, fmt.Errorf("making %s: %w", state, err)
	}
	f, err := os.OpenFile(filepath.Join(state, lockName), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, fmt.Errorf("locking %s: %w", state, err)
	}
	if err := exclusive(f); err != nil {
		f.Close()
		return nil, fault.New("wait for it to end", "another run is at work in %s", root)
	}
	if err := recoverRun(root, state); err != nil {
		f.Close()
		return nil, err
	}
	return &Lock{f}, nil
}

// Unlock lets other runs in.
func (l *Lock) Unlock() error { return l.file.Close() }

// recoverRun finishes a run whose journal stands, and clears away one that had
// not come so far.
func recoverRun(root, state string) error {
	text, err := os.ReadFile(filepath.Join(state, journalName))
	if errors.Is(err, fs.ErrNotExist) {
		return os.RemoveAll(filepath.Join(state, stageName))
	}
	if err != nil {
		return fmt.Errorf("reading the journal: %w", err)
	}
	var steps []step
	if err := json.Unmarshal(text, &steps); err != nil {
		return fault.New("restore the folder from version control", "the journal in %s is damaged: %w", state, err)
	}
	return finish(root, state, steps)
}

// Run makes the changes. The lock must be held.
func (l *Lock) Run(root, state string, changes []Change) error {
	if len(changes) == 0 {
		return nil
	}
	steps, err := stage(root, state, changes)
	if err != nil {
		return errors.Join(err, os.RemoveAll(filepath.Join(state, stageName)))
	}
	journal, err := json.Marshal(steps)
	if err != nil {
		return fmt.Errorf("writing the journal: %w", err)
	}
	temporary := filepath.Join(state, stageName, "journal")
	if err := writeSynced(temporary, journal, 0o644); err != nil {
		return errors.Join(err, os.RemoveAll(filepath.Join(state, stageName)))
	}
	if err := os.Rename(temporary, filepath.Join(state, journalName)); err != nil {
		return fmt.Errorf("writing the journal: %w", err)
	}
	if err := syncFolder(state); err != nil {
		return err
	}
	return finish(root, state, steps)
}

// stage writes the new texts aside, with the modes of the files they replace,
// and refuses files that may not be replaced.
func stage(root, state string, changes []Change) ([]step, error) {
	folder := filepath.Join(state, stageName)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, fmt.Errorf("staging: %w", err)
	}
	var steps []step
	for i, c := range changes {
		mode := fs.FileMode(0o644)
		info, err := os.Lstat(filepath.Join(root, filepath.FromSlash(c.Path)))
		switch {
		case err == nil && !info.Mode().IsRegular():
			return nil, fault.New("move it away, or leave the file out", "%s is not a plain file", c.Path)
		case err == nil && info.Mode().Perm()&0o200 == 0:
			return nil, fault.New("give yourself the right to write it, then run again", "%s is write-protected", c.Path)
		case err == nil:
			mode = info.Mode().Perm()
		case !errors.Is(err, fs.ErrNotExist):
			return nil, fmt.Errorf("looking at %s: %w", c.Path, err)
		}
		s := step{Path: c.Path}
		if c.Text != nil {
			s.Staged = strconv.Itoa(i)
			if err := writeSynced(filepath.Join(folder, s.Staged), c.Text, mode); err != nil {
				return nil, err
			}
		}
		steps = append(steps, s)
	}
	return steps, syncFolder(folder)
}

func writeSynced(path string, text []byte, mode fs.FileMode) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return fmt.Errorf("staging: %w", err)
	}
	_, err = f.Write(text)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("staging %s: %w", path, err)
	}
	return nil
}

func syncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("syncing %s: %w", path, err)
	}
	defer f.Close()
	if err := f.Sync(); err != nil {
		return fmt.Errorf("syncing %s: %w", path, err)
	}
	return nil
}

// finish does the steps of a journal, those that are done already too, and
// takes the journal away.
func finish(root, state string, steps []step) error {
	touched := map[string]bool{}
	for _, s := range steps {
		target := filepath.Join(root, filepath.FromSlash(s.Path))
		touched[filepath.Dir(target)] = true
		if s.Staged == "" {
			if err := os.Remove(target); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("removing %s: %w", s.Path, err)
			}
			removeEmpty(root, filepath.Dir(target))
			continue
		}
		if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
			return fmt.Errorf("writing %s: %w", s.Path, err)
		}
		err := os.Rename(filepath.Join(state, stageName, s.Staged), target)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("writing %s: %w", s.Path, err)
		}
	}
	for _, folder := range slices.Sorted(maps.Keys(touched)) {
		if err := syncFolder(folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if err := os.Remove(filepath.Join(state, journalName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("removing the journal: %w", err)
	}
	return errors.Join(os.RemoveAll(filepath.Join(state, stageName)), syncFolder(state))
}

// removeEmpty removes folders that a removal left empty, up to the root.
func removeEmpty(root, folder string) {
	for folder != root && os.Remove(folder) == nil {
		folder = filepath.Dir(folder)
	}
}

// Decision says what happens to a file, and why.
type Decision struct {
	Path   string `json:"path"`
	Action Action `json:"action"`
}

// Action is what happens to a file.
type Action string

// The actions.
const (
	New       Action = "new"
	Changed   Action = "changed"
	Same      Action = "same"
	Kept      Action = "kept"     // edited, and what is rendered did not change
	Removed   Action = "removed"  // no longer rendered, and not edited
	LeftOut   Action = "left out" // removed by the developer, and not made again
	Adopted   Action = "adopted"  // was there already, just as it is rendered
	EditClash Action = "edited"   // edited, and what is rendered changed too
	NotOurs   Action = "not ours" // was there already, with another text
)

// Clash reports whether a person must decide.
func (a Action) Clash() bool { return a == EditClash || a == NotOurs }

// Decide compares the text recorded at the last write, the one on disk and the
// one rendered now; nil stands for a file that is not there.
func Decide(base, mine, theirs []byte) Action {
	switch {
	case theirs == nil && (mine == nil || base == nil):
		return Same
	case theirs == nil && bytes.Equal(mine, base):
		return Removed
	case theirs == nil:
		return EditClash
	case base == nil && mine == nil:
		return New
	case base == nil && bytes.Equal(mine, theirs):
		return Adopted
	case base == nil:
		return NotOurs
	case mine == nil:
		return LeftOut
	case bytes.Equal(mine, theirs):
		return Same
	case bytes.Equal(mine, base):
		return Changed
	case bytes.Equal(base, theirs):
		return Kept
	}
	return EditClash
}
