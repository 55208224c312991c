package apply

import (
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strings"

	"widegate/internal/rooted"
)

// The state folder lies among files that come from others: a branch can bring a
// journal along. What a run is to replay is therefore sealed with a secret of
// this user on this machine, and with the folder it was made for. A journal that
// somebody else wrote, or that was carried here from another folder, is shown
// and never replayed.

// sealer seals journals for one folder.
type sealer struct {
	key  []byte
	root string // links followed
}

// sealed is a journal with its seal.
type sealed struct {
	Journal json.RawMessage `json:"journal"`
	Seal    string          `json:"seal"`
}

// Reasons why a journal is not replayed.
var (
	errDamaged = errors.New("it cannot be read")
	errForeign = errors.New("it was not written by you on this machine for this folder")
)

func (s sealer) seal(journal []byte) string {
	mac := hmac.New(sha256.New, s.key)
	fmt.Fprintf(mac, "widegate journal\n%d %s\n", len(s.root), s.root)
	mac.Write(journal)
	return hex.EncodeToString(mac.Sum(nil))
}

func (s sealer) encode(j *journal) ([]byte, error) {
	text, err := json.Marshal(j)
	if err != nil {
		return nil, err
	}
	return json.Marshal(sealed{text, s.seal(text)})
}

// decode reads a journal. Beside errForeign it returns what the journal says, to
// be shown.
func (s sealer) decode(text []byte) (*journal, error) {
	var whole sealed
	if err := json.Unmarshal(text, &whole); err != nil {
		return nil, errDamaged
	}
	j := &journal{}
	if err := json.Unmarshal(whole.Journal, j); err != nil {
		return nil, errDamaged
	}
	var plain bytes.Buffer
	if err := json.Compact(&plain, whole.Journal); err != nil {
		return nil, errDamaged
	}
	if !hmac.Equal([]byte(s.seal(plain.Bytes())), []byte(whole.Seal)) {
		return j, errForeign
	}
	return j, j.check()
}

// check holds a journal to what a run can have written, seal or no seal.
func (j *journal) check() error {
	if _, err := timeOf(j.ID); err != nil {
		return errDamaged
	}
	for _, o := range j.Ops {
		if rooted.Check(o.Path) != nil || o.N < 0 || o.Aside && o.ID != j.ID || o.Mode&^fs.ModePerm != 0 {
			return errDamaged
		}
	}
	return nil
}

const keyFile = "seal.key"

// userKey returns the secret that seals journals. It is made when it is first
// needed, and lies with the user's settings, outside every project. Where no
// place can hold it, the key is good for this run only.
func userKey() []byte {
	for _, folder := range keyFolders() {
		if key, err := keyIn(folder); err == nil {
			return key
		}
	}
	return newKey()
}

// keyFolders are where a key may lie: with the user's settings or, where the
// environment names no folder that can be made, in the user's own.
func keyFolders() []string {
	var list []string
	if folder, err := os.UserConfigDir(); err == nil {
		list = append(list, filepath.Join(folder, "widegate"))
	}
	if me, err := user.Current(); err == nil && me.HomeDir != "" {
		list = append(list, filepath.Join(me.HomeDir, ".config", "widegate"))
	}
	return list
}

func keyIn(folder string) ([]byte, error) {
	name := filepath.Join(folder, keyFile)
	if key, err := readKey(name); err == nil || !errors.Is(err, fs.ErrNotExist) {
		return key, err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	draft, err := os.CreateTemp(folder, keyFile+".*")
	if err != nil {
		return nil, err
	}
	defer os.Remove(draft.Name())
	_, err = draft.WriteString(hex.EncodeToString(newKey()) + "\n")
	if err := errors.Join(err, draft.Sync(), draft.Close()); err != nil {
		return nil, err
	}
	// Of two runs that make one at once, the first has made it.
	if err := os.Link(draft.Name(), name); err != nil && !errors.Is(err, fs.ErrExist) {
		if err := os.Rename(draft.Name(), name); err != nil {
			return nil, err
		}
	}
	return readKey(name)
}

func readKey(name string) ([]byte, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	key, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != sha256.Size {
		return nil, fmt.Errorf("%s is no key", name)
	}
	return key, nil
}

func newKey() []byte {
	key := make([]byte, sha256.Size)
	rand.Read(key) // which never fails
	return key
}
