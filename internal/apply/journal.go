package apply

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"widegate/internal/fault"
)

// The states of a journal.
const (
	staging  = "staging" // nothing has changed yet
	forward  = "apply"
	rollback = "rollback"
	finished = "done"
	aborted  = "aborted"
)

// journal lists the steps of a run. The one in the state folder binds whoever
// comes next; a copy in the run's own folder tells what it was.
type journal struct {
	ID    string `json:"id"`
	Kind  string `json:"kind"`
	Of    string `json:"of,omitempty"` // the run that an undo takes back
	State string `json:"state"`
	Ops   []op   `json:"ops"`
}

// op takes a path from one state to another.
type op struct {
	Path  string      `json:"path"`
	Pre   State       `json:"pre"`
	Post  State       `json:"post"`
	Mode  fs.FileMode `json:"mode"`
	N     int         `json:"n"`
	Aside bool        `json:"aside,omitempty"` // staged beside the target
	ID    string      `json:"id,omitempty"`
}

// writeJournal puts the journal into the state folder in one step.
func (s *Store) writeJournal(j *journal) error {
	text, err := s.sealer.encode(j)
	if err != nil {
		return fmt.Errorf("writing the journal: %w", err)
	}
	name := filepath.Join(s.state, journalName)
	if err := s.disk.Write(name+".tmp", text, 0o644); err != nil {
		return fmt.Errorf("writing the journal: %w", err)
	}
	if err := s.disk.Move(name+".tmp", name); err != nil {
		return fmt.Errorf("writing the journal: %w", err)
	}
	if err := s.disk.SyncFolder(s.state); err != nil {
		return fmt.Errorf("writing the journal: %w", err)
	}
	return nil
}

// readJournal reads a journal; nil means that there is none.
func (s *Store) readJournal(name string) (*journal, error) {
	text, err := s.disk.Read(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the journal: %w", err)
	}
	j, err := s.sealer.decode(text)
	if below, relErr := filepath.Rel(s.root, name); relErr == nil {
		name = below // for the messages
	}
	switch {
	case errors.Is(err, errForeign):
		return j, fault.New(
			"nothing was changed; if you do not know where the journal comes from, delete it and compare the files with version control",
			"the journal %s is not replayed: %w; it says: %s", name, err, j)
	case err != nil:
		return nil, fault.New("nothing was changed; compare the files with version control, then remove the journal", "the journal %s is damaged: %w", name, err)
	}
	return j, nil
}

// String tells the steps, the first ones of many.
func (j *journal) String() string {
	const shown = 10
	var list []string
	for _, o := range j.Ops[:min(len(j.Ops), shown)] {
		what := "change"
		switch {
		case o.Pre == Absent:
			what = "make"
		case o.Post == Absent:
			what = "remove"
		}
		list = append(list, fmt.Sprintf("%s %q", what, o.Path))
	}
	if more := len(j.Ops) - shown; more > 0 {
		list = append(list, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(list, ", ")
}

// idForm is the form of the ids of runs: the time, in UTC.
const idForm = "20060102T150405.000000000"

func timeOf(id string) (time.Time, error) { return time.Parse(idForm, id) }
