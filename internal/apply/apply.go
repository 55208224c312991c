// Package apply brings planned files to disk, all of them or none, and takes
// them back.
//
// New texts are staged in the state folder, then a journal that lists every
// step is written, and only then do files change: each new text is exchanged
// with the old one in one step of the file system, so that whatever was at a
// path at that instant is kept. A run that is killed before the journal stands
// has changed nothing; one that is killed after it is finished by the next run.
// A file that somebody else changed meanwhile turns the whole run back, and
// their text stays. What was displaced lies in the history and can be brought
// back by Undo.
package apply

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"widegate/internal/fault"
	"widegate/internal/parallel"
	"widegate/internal/rooted"
)

// Change is one file to write, or to remove where New is nil.
type Change struct {
	Path string // below the root, with slashes; not a link
	Old  []byte // what was read there; nil if there was nothing
	New  []byte
	Mode fs.FileMode // of a file that is there; 0 for a new one
}

const (
	lockName      = "lock"
	journalName   = "journal"
	historyFolder = "history"
	txPrefix      = "tx-"
	trashPrefix   = "trash-"
	abortedPrefix = "aborted-"
)

// Store is the state folder of a root, locked.
type Store struct {
	root   string
	state  string
	disk   disk
	sealer sealer
	wide   int // how many files are staged at once
	folder *rooted.Folder
	file   *os.File
	now    func() time.Time
}

// Recovery is what opening a state folder found and did.
type Recovery struct {
	Finished string // id of a run that was killed and is now finished
	Undone   string // id of one that was turned back …
	Changed  []string
	Foreign  []string // folders of runs that somebody else wrote, left as they are
}

// Open locks the state folder, a name below the root, keeps other runs out until
// Close, and finishes what a run that was killed left.
func Open(root, state string) (*Store, Recovery, error) {
	home, err := filepath.Abs(root)
	if err == nil {
		home, err = filepath.EvalSymlinks(home)
	}
	if err != nil {
		return nil, Recovery{}, fmt.Errorf("opening %s: %w", root, err)
	}
	folder, err := rooted.Open(home)
	if err != nil {
		return nil, Recovery{}, fmt.Errorf("opening %s: %w", root, err)
	}
	s := &Store{
		root: home, state: filepath.Join(home, state), disk: system{folder}, sealer: sealer{userKey(), home},
		wide: stagers, folder: folder, now: time.Now,
	}
	if s.file, err = lockIn(folder, state, root); err != nil {
		return nil, Recovery{}, errors.Join(err, folder.Close())
	}
	found, err := s.recover()
	if err != nil {
		return nil, found, errors.Join(err, s.file.Close(), folder.Close())
	}
	return s, found, nil
}

// lockIn makes the state folder where there is none, and locks it.
func lockIn(folder *rooted.Folder, state, root string) (*os.File, error) {
	if err := folder.Mkdir(state, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("making %s: %w", state, err)
	}
	name := state + "/" + lockName
	if info, err := folder.Lstat(name); err == nil && !info.Mode().IsRegular() {
		return nil, fault.New("delete it, and run again", "locking %s: %s is not a plain file", state, name)
	}
	f, err := folder.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, fmt.Errorf("locking %s: %w", state, err)
	}
	if err := exclusive(f); err != nil {
		pid, _ := folder.Read(name) // only for the message
		return nil, errors.Join(fault.New("wait for it to end", "another run%s is at work in %s", process(pid), root), f.Close())
	}
	if err := f.Truncate(0); err == nil {
		_, _ = f.WriteAt([]byte(strconv.Itoa(os.Getpid())), 0) // only for the message of others
	}
	return f, nil
}

func process(pid []byte) string {
	if _, err := strconv.Atoi(strings.TrimSpace(string(pid))); err != nil {
		return ""
	}
	return fmt.Sprintf(" (process %s)", strings.TrimSpace(string(pid)))
}

// Close lets other runs in.
func (s *Store) Close() error {
	return errors.Join(s.file.Truncate(0), s.file.Close(), s.folder.Close())
}

// Unfinished reports whether a run that was killed left a journal; it takes no
// lock.
func Unfinished(state string) bool {
	_, err := os.Lstat(filepath.Join(state, journalName))
	return err == nil
}

// ChangedError says that somebody changed a file while it was to be written.
// Nothing else was changed.
type ChangedError struct{ Paths []string }

func (e *ChangedError) Error() string {
	return strings.Join(e.Paths, ", ") + " changed on disk meanwhile; nothing was written"
}

// Next is what to do about it.
func (e *ChangedError) Next() string { return "run again" }

// Run makes the changes in the order of the protocol: changed and new files as
// they come, then removals, then those whose path starts with one of last.
// Kind names the run in the history. Once the journal stands, the context
// stops nothing any more.
func (s *Store) Run(ctx context.Context, kind string, changes []Change, last ...string) error {
	if len(changes) == 0 {
		return nil
	}
	return s.run(ctx, &journal{Kind: kind}, sorted(changes, last))
}

func (s *Store) run(ctx context.Context, j *journal, changes []Change) error {
	j.ID = s.now().UTC().Format(idForm)
	j.State = forward
	for i, c := range changes {
		if err := rooted.Check(c.Path); err != nil {
			return err
		}
		j.Ops = append(j.Ops, s.op(j.ID, i, c))
	}
	err := s.stage(ctx, j, changes)
	if err == nil {
		err = s.verify(j)
	}
	if err == nil {
		err = ctx.Err()
	}
	if err == nil {
		err = s.writeJournal(j)
	}
	if err != nil {
		return errors.Join(err, s.dropStaged(j))
	}
	turned, err := s.finish(j)
	switch {
	case err != nil:
		return err
	case len(turned) > 0:
		return &ChangedError{turned}
	}
	return s.prune()
}

// sorted puts changes before removals, and what is last behind them.
func sorted(changes []Change, last []string) []Change {
	rank := func(c Change) int {
		for _, prefix := range last {
			if strings.HasPrefix(c.Path, prefix) {
				return 2
			}
		}
		if c.New == nil {
			return 1
		}
		return 0
	}
	list := make([]Change, 0, len(changes))
	for r := range 3 {
		for _, c := range changes {
			if rank(c) == r {
				list = append(list, c)
			}
		}
	}
	return list
}

func (s *Store) target(path string) string { return filepath.Join(s.root, filepath.FromSlash(path)) }
func (s *Store) tx(id string) string       { return filepath.Join(s.state, txPrefix+id) }

func (s *Store) op(id string, n int, c Change) op {
	o := op{Path: c.Path, Pre: StateOf(c.Old), Post: StateOf(c.New), Mode: c.Mode, N: n}
	if o.Mode == 0 {
		o.Mode = 0o644
	}
	if o.Aside = !s.disk.SameDevice(filepath.Dir(s.target(c.Path)), s.state); o.Aside {
		o.ID = id
	}
	return o
}

// staged is where the new text of an op lies, and after the exchange the old
// one: in the state folder, or beside the target where that is on another file
// system. The name never ends in .go.
func (s *Store) staged(j *journal, o op) string {
	if o.Aside {
		at := s.target(o.Path)
		return filepath.Join(filepath.Dir(at), "."+filepath.Base(at)+".widegate-"+o.ID)
	}
	return filepath.Join(s.tx(j.ID), "new", strconv.Itoa(o.N))
}

func (s *Store) old(j *journal, o op) string {
	return filepath.Join(s.tx(j.ID), "old", strconv.Itoa(o.N))
}

// stagers is how many files are written and synced at once.
const stagers = 16

// stage writes the new texts aside, with the modes of the files they replace.
func (s *Store) stage(ctx context.Context, j *journal, changes []Change) error {
	tx := s.tx(j.ID)
	for _, folder := range []string{tx, filepath.Join(tx, "new"), filepath.Join(tx, "old")} {
		if err := s.disk.MakeFolder(folder); err != nil {
			return fmt.Errorf("staging: %w", err)
		}
	}
	if err := s.announce(j); err != nil {
		return fmt.Errorf("staging: %w", err)
	}
	recorded := s.recorded(j)
	faults := make([]error, len(changes))
	parallel.Each(len(changes), s.wide, func(i int) {
		if faults[i] = ctx.Err(); faults[i] == nil {
			faults[i] = s.stageOne(j, j.Ops[i], changes[i], recorded)
		}
	})
	for _, err := range faults {
		if errors.Is(err, syscall.ENOSPC) {
			return fault.New("make room, then run again", "the disk is full, nothing was changed: %w", err)
		}
		if err != nil {
			return fmt.Errorf("staging: %w", err)
		}
	}
	for _, folder := range []string{filepath.Join(tx, "new"), tx, s.state} {
		if err := s.disk.SyncFolder(folder); err != nil {
			return fmt.Errorf("staging: %w", err)
		}
	}
	return nil
}

// announce notes what is going to lie beside targets, so that it can be cleared
// away after a kill.
func (s *Store) announce(j *journal) error {
	if !slices.ContainsFunc(j.Ops, func(o op) bool { return o.Aside }) {
		return nil
	}
	note := *j
	note.State = staging
	text, err := s.sealer.encode(&note)
	if err != nil {
		return err
	}
	return errors.Join(s.disk.Write(filepath.Join(s.tx(j.ID), journalName), text, 0o644),
		s.disk.SyncFolder(s.tx(j.ID)), s.disk.SyncFolder(s.state))
}

func (s *Store) stageOne(j *journal, o op, c Change, recorded map[State]bool) error {
	if c.New == nil {
		return nil
	}
	if o.Aside {
		if err := s.disk.MakeFolder(filepath.Dir(s.target(o.Path))); err != nil {
			return err
		}
	}
	if err := s.disk.Write(s.staged(j, o), c.New, o.Mode); err != nil {
		return err
	}
	if s.ledger(c.Path) || c.Old == nil && recorded[o.Post] {
		return nil
	}
	// What is written is kept once more, for an undo that merges.
	return s.disk.Write(filepath.Join(s.tx(j.ID), "new", strconv.Itoa(o.N)+".text"), c.New, 0o644)
}

// recorded are the texts that a run writes into the state folder.
func (s *Store) recorded(j *journal) map[State]bool {
	states := map[State]bool{}
	for _, o := range j.Ops {
		if s.ledger(o.Path) {
			states[o.Post] = true
		}
	}
	return states
}

// ledger reports whether a path is in the state folder.
func (s *Store) ledger(path string) bool {
	return strings.HasPrefix(path, filepath.Base(s.state)+"/")
}

// verify looks once more whether the files are as they were planned for.
func (s *Store) verify(j *journal) error {
	var changed []string
	for _, o := range j.Ops {
		state, _, err := s.disk.State(s.target(o.Path))
		if err != nil {
			return fmt.Errorf("looking at %s: %w", o.Path, err)
		}
		if state != o.Pre {
			changed = append(changed, o.Path)
		}
	}
	if len(changed) > 0 {
		return &ChangedError{changed}
	}
	return nil
}

// dropStaged clears away a run that has not changed anything.
func (s *Store) dropStaged(j *journal) error {
	return errors.Join(s.dropAside(j), s.disk.RemoveAll(s.tx(j.ID)))
}

// dropAside removes the new texts that lie beside their targets.
func (s *Store) dropAside(j *journal) error {
	for _, o := range j.Ops {
		if !o.Aside {
			continue
		}
		if err := s.disk.Remove(s.staged(j, o)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
