package apply

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
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

// How much history is kept; the newest entry always is.
const (
	keptEntries = 20
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

// Merger brings a file that changed since a run together with what it was
// before: base is what the run wrote, mine what is there, theirs what was there
// before the run; nil stands for no file.
type Merger func(path string, base, mine, theirs []byte) ([]byte, error)

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
	for _, o := range slices.Backward(e.journal.Ops) {
		c, differs, err := s.reversed(e, o, merge)
		if err != nil {
			return err
		}
		if differs {
			changed = append(changed, o.Path)
		}
		if c != nil {
			changes = append(changes, *c)
		}
	}
	if len(changed) > 0 {
		slices.Sort(changed)
		return fault.New("keep those edits by `widegate undo --merge`, or put the files back yourself", "changed since the write: %s; nothing was taken back", strings.Join(changed, ", "))
	}
	if len(changes) == 0 || stop != nil && stop() {
		return nil
	}
	return s.run(ctx, &journal{Kind: kind, Of: e.ID}, sorted(changes, nil))
}

// reversed is the change that takes an op back. Differs means that the file is
// not as the run left it, and there is no merger.
func (s *Store) reversed(e *Entry, o op, merge Merger) (c *Change, differs bool, err error) {
	mine, mode, err := s.read(s.target(o.Path))
	if err != nil {
		return nil, false, fmt.Errorf("reading %s: %w", o.Path, err)
	}
	was, err := s.was(e, o)
	if err != nil {
		return nil, false, err
	}
	switch {
	case StateOf(mine) == o.Post:
		return &Change{Path: o.Path, Old: mine, New: was, Mode: mode}, false, nil
	case StateOf(mine) == o.Pre:
		return nil, false, nil
	case merge == nil:
		return nil, true, nil
	}
	base, _, err := s.read(filepath.Join(s.state, historyFolder, e.ID, "new", strconv.Itoa(o.N)+".text"))
	if err != nil {
		return nil, false, fmt.Errorf("reading the history: %w", err)
	}
	if base != nil && StateOf(base) != o.Post {
		return nil, false, fault.New("bring the file back from version control", "the history no longer holds what was written to %s", o.Path)
	}
	merged, err := merge(o.Path, base, mine, was)
	if err != nil {
		return nil, false, err
	}
	return &Change{Path: o.Path, Old: mine, New: merged, Mode: mode}, false, nil
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
	for i, name := range slices.Backward(names) {
		total += sizeOf(filepath.Join(folder, name))
		if age := len(names) - 1 - i; age == 0 || age < keptEntries && total <= keptBytes {
			continue
		}
		if err := s.disk.Move(filepath.Join(folder, name), filepath.Join(folder, trashPrefix+name)); err != nil {
			return fmt.Errorf("pruning the history: %w", err)
		}
	}
	return s.sweepTrash()
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
