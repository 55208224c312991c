package apply

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"widegate/internal/fault"
)

// Entry is a run in the history.
type Entry struct {
	ID      string
	At      time.Time
	Kind    string
	Of      string // the run that it took back
	New     int
	Changed int
	Removed int
	Undone  bool
	Foreign bool // somebody else wrote it, or for another folder: it is not taken back
	journal *journal
}

// The kinds of runs.
const (
	KindWrite = "write"
	KindUndo  = "undo"
	KindRedo  = "redo"
)

// How much history is kept; the newest entry always is. What took writes back, and
// brought them back, is kept beside them.
const (
	keptWrites  = 20
	keptEntries = 200
	keptBytes   = 200 << 20
)

// History lists the runs that can be taken back, the newest first. Paths that
// count says no to are left out of the numbers.
func (s *Store) History(count func(path string) bool) ([]Entry, error) {
	names, err := s.disk.List(filepath.Join(s.state, historyFolder))
	if err != nil {
		return nil, fmt.Errorf("reading the history: %w", err)
	}
	slices.Sort(names)
	var list []Entry
	undone := map[string]bool{}
	for _, name := range slices.Backward(names) {
		if strings.HasPrefix(name, abortedPrefix) || strings.HasPrefix(name, trashPrefix) {
			continue
		}
		j, err := s.readJournal(filepath.Join(s.state, historyFolder, name, journalName))
		if errors.Is(err, errForeign) {
			e := entryOf(j, count)
			e.ID, e.Foreign = name, true
			list = append(list, e)
			continue
		}
		if err != nil || j == nil || j.ID != name {
			continue // without its journal it cannot be taken back
		}
		e := entryOf(j, count)
		if j.Of != "" && !undone[j.ID] {
			undone[j.Of] = true
		}
		e.Undone = undone[j.ID]
		list = append(list, e)
	}
	return list, nil
}

func entryOf(j *journal, count func(string) bool) Entry {
	e := Entry{ID: j.ID, Kind: j.Kind, Of: j.Of, journal: j}
	e.At, _ = timeOf(j.ID) // an id that is no time shows as none
	for _, o := range j.Ops {
		switch {
		case !count(o.Path):
		case o.Pre == Absent:
			e.New++
		case o.Post == Absent:
			e.Removed++
		default:
			e.Changed++
		}
	}
	return e
}

// Versions are those of a file that a run changed: what the run wrote (base), what is
// there (mine) and what was there before the run (theirs); nil stands for no file.
type Versions struct{ Base, Mine, Theirs []byte }

// Merger brings files that changed since a run together with what they were before.
// It gets all files of the run but those of the state folder, by their paths, and
// returns those that are to change, nil for one to remove.
type Merger func(files map[string]Versions) (map[string][]byte, error)

// Undo takes back the newest write that is not taken back yet, or with redo the
// newest undo. A file that changed since is refused, or merged where there is a
// merger; stop is asked before anything changes.
func (s *Store) Undo(ctx context.Context, redo bool, merge Merger, stop func() bool) (*Entry, error) {
	list, err := s.History(func(string) bool { return true })
	if err != nil {
		return nil, err
	}
	wanted, kind := KindWrite, KindUndo
	if redo {
		wanted, kind = KindUndo, KindRedo
	}
	foreign := 0
	for i := range list {
		e := &list[i]
		if e.Foreign {
			foreign++
			continue
		}
		if e.Kind == wanted && !e.Undone {
			return e, s.takeBack(ctx, e, kind, merge, stop)
		}
		if redo && e.Kind == KindWrite && !e.Undone {
			break // written after the undo
		}
	}
	except := ""
	if foreign > 0 {
		except = fmt.Sprintf(": %d in the history you did not make on this machine in this folder", foreign)
	}
	return nil, fault.New("see the history by `widegate undo --list`", "there is no %s to take back%s", wanted, except)
}

func (s *Store) takeBack(ctx context.Context, e *Entry, kind string, merge Merger, stop func() bool) error {
	var changes []Change
	var changed []string
	files, modes := map[string]Versions{}, map[string]fs.FileMode{}
	for _, o := range slices.Backward(e.journal.Ops) {
		v, mode, differs, err := s.versions(e, o)
		if err != nil {
			return err
		}
		switch {
		case differs && (merge == nil || s.ledger(o.Path)):
			changed = append(changed, o.Path)
		case merge != nil && !s.ledger(o.Path):
			if differs {
				if v.Base, err = s.wrote(e, o); err != nil {
					return err
				}
			}
			files[o.Path], modes[o.Path] = v, mode
		case StateOf(v.Mine) != o.Pre:
			changes = append(changes, Change{Path: o.Path, Old: v.Mine, New: v.Theirs, Mode: mode})
		}
	}
	if len(changed) > 0 {
		slices.Sort(changed)
		next := "keep those edits by `widegate undo --merge`, or put the files back yourself"
		if merge != nil {
			next = "bring them back from version control as the write left them"
		}
		return fault.New(next, "changed since the write: %s; nothing was taken back", strings.Join(changed, ", "))
	}
	if merge != nil {
		merged, err := merge(files)
		if err != nil {
			return err
		}
		var code []Change
		for _, path := range slices.Sorted(maps.Keys(merged)) {
			code = append(code, Change{Path: path, Old: files[path].Mine, New: merged[path], Mode: modes[path]})
		}
		changes = append(code, changes...)
	}
	if len(changes) == 0 || stop != nil && stop() {
		return nil
	}
	return s.run(ctx, &journal{Kind: kind, Of: e.ID}, sorted(changes, nil))
}

// versions are those of the file of an op. Differs means that it is neither as the run
// left it nor as it was before; its base is then not looked for.
func (s *Store) versions(e *Entry, o op) (v Versions, mode fs.FileMode, differs bool, err error) {
	if v.Mine, mode, err = s.read(s.target(o.Path)); err != nil {
		return v, mode, false, fmt.Errorf("reading %s: %w", o.Path, err)
	}
	if v.Theirs, err = s.was(e, o); err != nil {
		return v, mode, false, err
	}
	v.Base = v.Mine
	state := StateOf(v.Mine)
	return v, mode, state != o.Post && state != o.Pre, nil
}

// wrote is the text that a run wrote: kept beside what it displaced, or standing where
// the same run wrote it too.
func (s *Store) wrote(e *Entry, o op) ([]byte, error) {
	if o.Post == Absent {
		return nil, nil
	}
	places := []string{filepath.Join(s.state, historyFolder, e.ID, "new", strconv.Itoa(o.N)+".text")}
	for _, other := range e.journal.Ops {
		if other.Post == o.Post && other.N != o.N {
			places = append(places, s.target(other.Path))
		}
	}
	for _, place := range places {
		text, _, err := s.read(place)
		if err != nil {
			return nil, fmt.Errorf("reading the history: %w", err)
		}
		if StateOf(text) == o.Post {
			return text, nil
		}
	}
	return nil, fault.New("bring the file back from version control", "the history no longer holds what was written to %s", o.Path)
}

// was is the text that a run displaced.
func (s *Store) was(e *Entry, o op) ([]byte, error) {
	if o.Pre == Absent {
		return nil, nil
	}
	text, _, err := s.read(filepath.Join(s.state, historyFolder, e.ID, "old", strconv.Itoa(o.N)))
	if err != nil {
		return nil, fmt.Errorf("reading the history: %w", err)
	}
	if StateOf(text) != o.Pre {
		return nil, fault.New("bring the file back from version control", "the history no longer holds %s as it was", o.Path)
	}
	return text, nil
}

// read reads a plain file; nil stands for none.
func (s *Store) read(path string) ([]byte, fs.FileMode, error) {
	state, mode, err := s.disk.State(path)
	if err != nil || state == Absent {
		return nil, 0, err
	}
	if state == Other {
		return nil, 0, fmt.Errorf("%s is not a plain file", path)
	}
	text, err := s.disk.Read(path)
	if text == nil && err == nil {
		text = []byte{}
	}
	return text, mode, err
}

// prune removes the oldest runs from the history.
func (s *Store) prune() error {
	folder := filepath.Join(s.state, historyFolder)
	names, err := s.disk.List(folder)
	if err != nil {
		return fmt.Errorf("pruning the history: %w", err)
	}
	names = slices.DeleteFunc(names, func(name string) bool { return !s.own(name) })
	slices.SortFunc(names, func(a, b string) int {
		return strings.Compare(strings.TrimPrefix(a, abortedPrefix), strings.TrimPrefix(b, abortedPrefix))
	})
	var total int64
	writes := 0
	for i, name := range slices.Backward(names) {
		total += sizeOf(filepath.Join(folder, name))
		if s.kind(name) == KindWrite {
			writes++
		}
		newest := i == len(names)-1
		if newest || writes <= keptWrites && len(names)-i <= keptEntries && total <= keptBytes {
			continue
		}
		writes = keptWrites + 1 // what is older goes too
		if err := s.disk.Move(filepath.Join(folder, name), filepath.Join(folder, trashPrefix+name)); err != nil {
			return fmt.Errorf("pruning the history: %w", err)
		}
	}
	return s.sweepTrash()
}

// kind is that of an entry of the history.
func (s *Store) kind(name string) string {
	j, err := s.readJournal(filepath.Join(s.state, historyFolder, name, journalName))
	if err != nil || j == nil {
		return ""
	}
	return j.Kind
}

// own reports whether an entry of the history is one of ours: what others put
// there neither counts nor goes.
func (s *Store) own(name string) bool {
	j, err := s.readJournal(filepath.Join(s.state, historyFolder, name, journalName))
	return err == nil && j != nil && j.ID == strings.TrimPrefix(name, abortedPrefix)
}

func (s *Store) sweepTrash() error {
	folder := filepath.Join(s.state, historyFolder)
	names, err := s.disk.List(folder)
	if err != nil {
		return fmt.Errorf("pruning the history: %w", err)
	}
	for _, name := range names {
		if strings.HasPrefix(name, trashPrefix) {
			if err := s.disk.RemoveAll(filepath.Join(folder, name)); err != nil {
				return fmt.Errorf("pruning the history: %w", err)
			}
		}
	}
	return nil
}

// sizeOf is the size of the files below a folder, in bytes.
func sizeOf(folder string) int64 {
	var total int64
	_ = filepath.WalkDir(folder, func(_ string, entry fs.DirEntry, err error) error { // what cannot be read counts as nothing
		if err != nil || entry.IsDir() {
			return nil
		}
		if info, err := entry.Info(); err == nil {
			total += info.Size()
		}
		return nil
	})
	return total
}
