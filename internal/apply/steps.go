package apply

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
)

// errTurn is returned by a step that found a text of somebody else's.
var errTurn = errors.New("changed meanwhile")

// finish does the steps of the journal that stands, from wherever they are, or
// turns them back. It returns the paths on whose account it turned back.
func (s *Store) finish(j *journal) (turned []string, err error) {
	if j.State == forward {
		for _, o := range j.Ops {
			err := s.step(j, o)
			if errors.Is(err, errTurn) {
				turned = append(turned, o.Path)
				j.State = rollback
				if err := s.writeJournal(j); err != nil {
					return nil, err
				}
				break
			}
			if err != nil {
				return nil, fmt.Errorf("writing %s: %w", o.Path, err)
			}
		}
	}
	kept := false
	if j.State == rollback {
		foreign, err := s.turnBack(j)
		if err != nil {
			return nil, err
		}
		kept = len(foreign) > 0
		for _, path := range foreign {
			if !slices.Contains(turned, path) {
				turned = append(turned, path)
			}
		}
	}
	return turned, s.close(j, kept)
}

// step brings one path from pre to post, by what is found there.
func (s *Store) step(j *journal, o op) error {
	target, staged, old := s.target(o.Path), s.staged(j, o), s.old(j, o)
	switch {
	case o.Post == Absent:
		return s.removal(target, staged, old, o)
	case o.Pre == Absent:
		return s.creation(target, staged, o)
	}
	return s.replacement(target, staged, old, o)
}

func (s *Store) replacement(target, staged, old string, o op) error {
	at, err := s.states(target, staged, old)
	if err != nil {
		return err
	}
	switch {
	case at[0] == o.Post && at[1] == Absent:
		return nil // done, and what was there is stowed
	case at[0] == o.Post && at[1] == o.Pre:
		return s.stow(staged, old, o)
	case at[0] == o.Post && at[1] != o.Post: // saved by somebody in that instant
		if err := s.disk.Exchange(staged, target); err != nil {
			return err
		}
		return errTurn
	case at[0] == o.Pre && at[1] == Absent && at[2] == o.Post: // the exchange was lost with the power, the stowing was not
		if err := s.disk.Move(old, staged); err != nil {
			return err
		}
	case at[0] != o.Pre || at[1] != o.Post:
		return errTurn
	}
	err = s.disk.Exchange(staged, target)
	if errors.Is(err, errNoExchange) {
		return s.replaceByLink(target, staged, old, o, at[2])
	}
	if err != nil {
		return err
	}
	if now, _, err := s.disk.State(staged); err != nil || now != o.Pre {
		if err != nil {
			return err
		}
		if err := s.disk.Exchange(staged, target); err != nil {
			return err
		}
		return errTurn
	}
	return s.stow(staged, old, o)
}

// replaceByLink is a replacement where files cannot be exchanged. A save
// between its two steps is not noticed.
func (s *Store) replaceByLink(target, staged, old string, o op, stowed State) error {
	if stowed != o.Pre {
		if stowed != Absent {
			if err := s.disk.Remove(old); err != nil {
				return err
			}
		}
		if err := s.disk.Link(target, old); err != nil {
			text, readErr := s.disk.Read(target)
			if readErr != nil {
				return errors.Join(err, readErr)
			}
			if err := s.disk.Write(old, text, o.Mode); err != nil {
				return err
			}
		}
		if now, _, err := s.disk.State(old); err != nil || now != o.Pre {
			if err != nil {
				return err
			}
			return errTurn
		}
	}
	return s.disk.Move(staged, target)
}

// stow puts what was displaced into the history.
func (s *Store) stow(from, to string, o op) error {
	if !o.Aside {
		return s.disk.Move(from, to)
	}
	text, err := s.disk.Read(from)
	if err != nil {
		return err
	}
	if err := s.disk.Write(to, text, o.Mode); err != nil {
		return err
	}
	if err := s.disk.SyncFolder(filepath.Dir(to)); err != nil { // before the only other copy goes
		return err
	}
	return s.disk.Remove(from)
}

func (s *Store) creation(target, staged string, o op) error {
	at, err := s.states(target, staged)
	if err != nil {
		return err
	}
	switch {
	case at[0] == o.Post && at[1] == Absent:
		return nil
	case at[0] != Absent || at[1] != o.Post:
		return errTurn
	}
	if err := s.disk.MakeFolder(filepath.Dir(target)); err != nil {
		return err
	}
	if err := s.disk.MoveNew(staged, target); errors.Is(err, fs.ErrExist) {
		return errTurn
	} else if err != nil {
		return err
	}
	return nil
}

func (s *Store) removal(target, staged, old string, o op) error {
	at, err := s.states(target, old)
	if err != nil {
		return err
	}
	if at[0] == o.Pre || o.Aside {
		if err := s.take(at[0] == o.Pre, target, staged, old, o); err != nil {
			return err
		}
		if at, err = s.states(target, old); err != nil {
			return err
		}
	}
	switch {
	case at[0] == Absent && (at[1] == o.Pre || at[1] == Absent):
		return nil
	case at[0] == Absent: // saved by somebody in that instant
		if err := s.put(old, target, o); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return errTurn
}

// take moves a target into the history, if it is there still; one on another
// file system first aside in one step, where a run that was killed may have
// left it.
func (s *Store) take(there bool, target, staged, old string, o op) error {
	if !o.Aside {
		return s.disk.Move(target, old)
	}
	if there {
		if err := s.disk.Move(target, staged); err != nil {
			return err
		}
	}
	if aside, _, err := s.disk.State(staged); err != nil || aside == Absent {
		return err
	}
	return s.stow(staged, old, o)
}

// put moves a text from the history to where nothing is.
func (s *Store) put(old, target string, o op) error {
	if !o.Aside {
		return s.disk.MoveNew(old, target)
	}
	text, err := s.disk.Read(old)
	if err != nil {
		return err
	}
	aside := filepath.Join(filepath.Dir(target), "."+filepath.Base(target)+".widegate-back-"+o.ID)
	if err := s.disk.Write(aside, text, o.Mode); err != nil {
		return err
	}
	if err := s.disk.MoveNew(aside, target); err != nil {
		return errors.Join(err, s.disk.Remove(aside))
	}
	if err := s.disk.SyncFolder(filepath.Dir(target)); err != nil {
		return err
	}
	return s.disk.Remove(old)
}

func (s *Store) states(paths ...string) ([]State, error) {
	list := make([]State, len(paths))
	for i, path := range paths {
		state, _, err := s.disk.State(path)
		if err != nil {
			return nil, err
		}
		list[i] = state
	}
	return list, nil
}

// turnBack puts back what a run changed, the last first, where it is still as
// the run left it. It returns the paths that hold a text of somebody else's.
func (s *Store) turnBack(j *journal) (foreign []string, err error) {
	for _, o := range slices.Backward(j.Ops) {
		ok, err := s.back(j, o)
		if err != nil {
			return nil, fmt.Errorf("putting %s back: %w", o.Path, err)
		}
		if !ok {
			foreign = append(foreign, o.Path)
		}
	}
	slices.Reverse(foreign)
	return foreign, nil
}

func (s *Store) back(j *journal, o op) (ok bool, err error) {
	target, staged, old := s.target(o.Path), s.staged(j, o), s.old(j, o)
	at, err := s.states(target, staged, old)
	if err != nil {
		return false, err
	}
	switch {
	case at[0] == o.Pre:
		return true, nil
	case at[0] != o.Post:
		return false, nil
	case o.Pre == Absent:
		return true, s.disk.Move(target, staged)
	case at[1] == o.Pre && o.Post == Absent: // moved aside, and not stowed yet
		return true, s.disk.MoveNew(staged, target)
	case at[1] == o.Pre: // exchanged, and not stowed yet
		return true, s.disk.Exchange(staged, target)
	case at[2] != o.Pre:
		return false, nil
	case o.Post == Absent:
		return true, s.put(old, target, o)
	}
	err = s.restore(target, staged, old, o)
	if errors.Is(err, errTurn) {
		return false, nil
	}
	return err == nil, err
}

// restore exchanges the new text at a target with the old one.
func (s *Store) restore(target, staged, old string, o op) error {
	from := old
	if o.Aside {
		text, err := s.disk.Read(old)
		if err != nil {
			return err
		}
		if err := s.disk.Write(staged, text, o.Mode); err != nil {
			return err
		}
		from = staged
	}
	err := s.disk.Exchange(from, target)
	if errors.Is(err, errNoExchange) {
		return s.disk.Move(from, target)
	}
	if err != nil {
		return err
	}
	if now, _, err := s.disk.State(from); err != nil || now != o.Post {
		if err != nil {
			return err
		}
		if err := s.disk.Exchange(from, target); err != nil { // saved in that instant
			return err
		}
		return errTurn
	}
	if from != staged {
		return s.disk.Move(from, staged)
	}
	return nil
}

// close makes what was done last and puts the run into the history. A run that
// was turned back goes there only where a text of somebody else's stands in
// the way of the one it had.
func (s *Store) close(j *journal, foreign bool) error {
	folders := map[string]bool{s.tx(j.ID): true, filepath.Join(s.tx(j.ID), "old"): true, filepath.Join(s.tx(j.ID), "new"): true}
	for _, o := range j.Ops {
		folders[filepath.Dir(s.target(o.Path))] = true
	}
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		if err := s.disk.SyncFolder(folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("syncing %s: %w", folder, err)
		}
	}
	last := *j
	last.State = finished
	if j.State == rollback {
		last.State = aborted
	}
	text, err := s.sealer.encode(&last)
	if err != nil {
		return err
	}
	if j.State == forward || foreign {
		if err := s.disk.Write(filepath.Join(s.tx(j.ID), journalName), text, 0o644); err != nil {
			return fmt.Errorf("closing the run: %w", err)
		}
		if err := s.disk.SyncFolder(s.tx(j.ID)); err != nil {
			return fmt.Errorf("closing the run: %w", err)
		}
	}
	if err := s.disk.Remove(filepath.Join(s.state, journalName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("closing the run: %w", err)
	}
	if err := s.disk.SyncFolder(s.state); err != nil {
		return fmt.Errorf("closing the run: %w", err)
	}
	if j.State == rollback {
		if err := s.dropAside(j); err != nil || !foreign {
			return errors.Join(err, s.disk.RemoveAll(s.tx(j.ID)))
		}
	}
	return s.archive(&last)
}

// archive moves a run that is over into the history.
func (s *Store) archive(j *journal) error {
	folder := filepath.Join(s.state, historyFolder)
	if err := s.disk.MakeFolder(folder); err != nil {
		return fmt.Errorf("keeping the history: %w", err)
	}
	name := j.ID
	if j.State == aborted {
		name = abortedPrefix + name
	}
	if err := s.disk.Move(s.tx(j.ID), filepath.Join(folder, name)); err != nil {
		return fmt.Errorf("keeping the history: %w", err)
	}
	return nil
}

// recover finishes, turns back or clears away what a killed run left.
func (s *Store) recover() (Recovery, error) {
	var found Recovery
	j, err := s.readJournal(filepath.Join(s.state, journalName))
	if err != nil {
		return found, err
	}
	if j != nil {
		found.Changed, err = s.finish(j)
		if err != nil {
			return found, fmt.Errorf("finishing a run that was killed: %w", err)
		}
		if j.State == forward {
			found.Finished = j.ID
		} else {
			found.Undone = j.ID
		}
	}
	found.Foreign, err = s.sweep()
	return found, err
}

// sweep clears away what lies in the state folder without a journal. What has
// one that somebody else wrote stays, and is told of.
func (s *Store) sweep() (foreign []string, err error) {
	names, err := s.disk.List(s.state)
	if err != nil {
		return nil, fmt.Errorf("looking at the state folder: %w", err)
	}
	for _, name := range names {
		at := filepath.Join(s.state, name)
		switch id, isRun := strings.CutPrefix(name, txPrefix); {
		case name == journalName+".tmp":
			if err := s.disk.Remove(at); err != nil {
				return nil, fmt.Errorf("clearing up: %w", err)
			}
		case isRun:
			err := s.sweepRun(at, id)
			if errors.Is(err, errForeign) {
				foreign = append(foreign, at)
			} else if err != nil {
				return nil, fmt.Errorf("clearing up: %w", err)
			}
		}
	}
	return foreign, s.sweepTrash()
}

func (s *Store) sweepRun(at, id string) error {
	state, _, err := s.disk.State(filepath.Join(at, journalName))
	if err != nil || state == Other {
		return errors.Join(errForeign, err)
	}
	if state == Absent {
		return s.disk.RemoveAll(at)
	}
	text, err := s.disk.Read(filepath.Join(at, journalName))
	if err != nil {
		return err
	}
	j, err := s.sealer.decode(text)
	switch {
	case errors.Is(err, errForeign), err == nil && j.ID != id:
		return errForeign
	case err != nil: // cut off while it was written
		return s.disk.RemoveAll(at)
	case j.State == staging:
		return s.dropStaged(j)
	}
	return s.archive(j)
}
