package apply

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

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

// sealed is a journal with its checksum.
type sealed struct {
	Journal json.RawMessage `json:"journal"`
	Sum     string          `json:"sum"`
}

func (j *journal) encode() ([]byte, error) {
	text, err := json.Marshal(j)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(text)
	return json.Marshal(sealed{text, hex.EncodeToString(sum[:])})
}

// errDamaged is a journal whose checksum fails.
var errDamaged = errors.New("its checksum fails")

func decode(text []byte) (*journal, error) {
	var s sealed
	if err := json.Unmarshal(text, &s); err != nil {
		return nil, errDamaged
	}
	sum := sha256.Sum256(s.Journal)
	if hex.EncodeToString(sum[:]) != s.Sum {
		return nil, errDamaged
	}
	j := &journal{}
	if err := json.Unmarshal(s.Journal, j); err != nil {
		return nil, errDamaged
	}
	return j, nil
}

// writeJournal puts the journal into the state folder in one step.
func (s *Store) writeJournal(j *journal) error {
	text, err := j.encode()
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
	j, err := decode(text)
	if err != nil {
		return nil, fault.New("nothing was changed; compare the files with version control, then remove the journal", "the journal %s is damaged: %w", name, err)
	}
	return j, nil
}
