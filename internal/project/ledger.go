package project

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/parallel"
)

// LedgerFolder is where the ledger lies, beside the project file. It belongs
// into version control.
const LedgerFolder = ".widegate"

// Ledger is what was given and written before.
type Ledger struct {
	Names  Names
	Base   map[string][]byte // the text last rendered for each file, by slash path below the root
	Told   map[string]Told   // what engines said of statements, by their sums
	Record []byte            // the schema that was written last, as JSON; nil before the first write
	Mixed  []string          // records that two branches both wrote, with the markers still in them
}

// Names are the names given to what the schema has, so that what comes later
// never renames what was there. Outer keys are qualified table names.
type Names struct {
	Tables map[string]TableNames `json:"tables"`
	Enums  map[string]string     `json:"enums,omitempty"` // Go type by enum; one without a type of its own is table.column
}

// Told is what an engine said of a statement.
type Told struct {
	Types   []catalog.Type   `json:"types,omitempty"` // of its arguments
	Columns []catalog.Column `json:"columns,omitempty"`
}

// NewNames has no names yet.
func NewNames() *Names { return &Names{Tables: map[string]TableNames{}, Enums: map[string]string{}} }

// TableNames are the names of one table's things.
type TableNames struct {
	Entity    string            `json:"entity"`
	Plural    string            `json:"plural"`
	File      string            `json:"file"`
	Path      string            `json:"path"`
	Columns   map[string]string `json:"columns,omitempty"`   // field by column
	Relations map[string]string `json:"relations,omitempty"` // name by what the relation rests on
}

const (
	catalogFile = "catalog.json"
	namesFile   = "names.json"
	toldFile    = "queries.json"
	baseFolder  = "base"
)

// LoadLedger reads the ledger of the project at root; one that is not there is
// empty. Records with the markers of an unfinished merge count as what this
// side had.
func LoadLedger(root string) (*Ledger, error) {
	l := &Ledger{Names: *NewNames(), Base: map[string][]byte{}}
	folder := filepath.Join(root, LedgerFolder)
	text, err := os.ReadFile(filepath.Join(folder, namesFile))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("reading the ledger: %w", err)
	}
	if err == nil {
		if err := l.readNames(text); err != nil {
			return nil, fault.New("restore it from version control", "%s/%s is damaged: %w", LedgerFolder, namesFile, err)
		}
	}
	if text, err := os.ReadFile(filepath.Join(folder, catalogFile)); err == nil {
		l.Record, _, _ = sides(text)
	}
	if err := l.loadTold(filepath.Join(folder, toldFile)); err != nil {
		return nil, err
	}
	return l, l.loadBase(filepath.Join(folder, baseFolder))
}

// Schema is the one that was written last; nil before the first write, or where it
// cannot be read: the next write makes it anew.
func (l *Ledger) Schema() *catalog.Catalog {
	if l.Record == nil {
		return nil
	}
	c, err := catalog.Decode(l.Record)
	if err != nil {
		return nil
	}
	return c
}

// loadTold reads what engines said. It can be found out again, so that a file
// that is damaged, or half merged, counts as none.
func (l *Ledger) loadTold(file string) error {
	text, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("reading the ledger: %w", err)
	}
	if json.Unmarshal(text, &l.Told) != nil {
		l.Told = nil
	}
	return nil
}

// readNames reads the names that were given; of two branches that both gave
// some, all.
func (l *Ledger) readNames(text []byte) error {
	ours, theirs, mixed := sides(text)
	if err := json.Unmarshal(ours, &l.Names); err != nil {
		return err
	}
	if !mixed {
		return nil
	}
	l.Mixed = append(l.Mixed, namesFile)
	other := NewNames()
	if err := json.Unmarshal(theirs, other); err != nil {
		return err
	}
	for table, names := range other.Tables {
		if _, given := l.Names.Tables[table]; !given {
			l.Names.Tables[table] = names
		}
	}
	for enum, name := range other.Enums {
		if _, given := l.Names.Enums[enum]; !given {
			if l.Names.Enums == nil {
				l.Names.Enums = map[string]string{}
			}
			l.Names.Enums[enum] = name
		}
	}
	return nil
}

// sides cuts a text with the markers of an unfinished merge into what each side
// had.
func sides(text []byte) (ours, theirs []byte, mixed bool) {
	if !bytes.Contains(text, []byte("<<<<<<< ")) {
		return text, text, false
	}
	in := ""
	for line := range bytes.Lines(text) {
		switch {
		case bytes.HasPrefix(line, []byte("<<<<<<< ")):
			in, mixed = "ours", true
		case in != "" && bytes.HasPrefix(line, []byte("||||||| ")):
			in = "base"
		case in != "" && bytes.HasPrefix(line, []byte("=======")):
			in = "theirs"
		case in != "" && bytes.HasPrefix(line, []byte(">>>>>>> ")):
			in = ""
		default:
			if in == "" || in == "ours" {
				ours = append(ours, line...)
			}
			if in == "" || in == "theirs" {
				theirs = append(theirs, line...)
			}
		}
	}
	return ours, theirs, mixed
}

// loadBase reads the recorded texts, several at a time.
func (l *Ledger) loadBase(folder string) error {
	var paths []string
	err := filepath.WalkDir(folder, func(at string, entry os.DirEntry, err error) error {
		if errors.Is(err, os.ErrNotExist) {
			return nil
		}
		if err == nil && !entry.IsDir() {
			paths = append(paths, at)
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("reading the ledger: %w", err)
	}
	texts, faults := make([][]byte, len(paths)), make([]error, len(paths))
	parallel.Each(len(paths), readers, func(i int) { texts[i], faults[i] = os.ReadFile(paths[i]) })
	for i, at := range paths {
		if faults[i] != nil {
			return fmt.Errorf("reading the ledger: %w", faults[i])
		}
		if err := l.addBase(folder, at, texts[i]); err != nil {
			return err
		}
	}
	return nil
}

// readers is how many files are read at once.
const readers = 8

func (l *Ledger) addBase(folder, at string, text []byte) error {
	below, err := filepath.Rel(folder, at)
	if err != nil {
		return err
	}
	name := strings.TrimSuffix(filepath.ToSlash(below), baseSuffix)
	if bytes.Contains(text, []byte("\r\n")) {
		text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	}
	ours, _, mixed := sides(text)
	if mixed {
		l.Mixed = append(l.Mixed, name)
	}
	if ours == nil {
		ours = []byte{}
	}
	l.Base[name] = ours
	return nil
}

// ignored is what does not belong into version control: what a run has in the
// folder while it is at work, and what was displaced on this machine.
const ignored = "lock\njournal\njournal.tmp\ntx-*/\nhistory/\nfresh\n"

// FreshFile is where the fingerprint of the last write lies, on this machine
// only.
const FreshFile = "fresh"

// baseSuffix keeps the recorded texts out of builds and editors' indexes.
const baseSuffix = ".base"

// Files are the ledger's own files, by slash path below the root.
func (l *Ledger) Files(catalog []byte) (map[string][]byte, error) {
	var names bytes.Buffer
	enc := json.NewEncoder(&names)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(l.Names); err != nil {
		return nil, fmt.Errorf("encoding the ledger: %w", err)
	}
	files := map[string][]byte{
		path.Join(LedgerFolder, ".gitignore"): []byte(ignored),
		path.Join(LedgerFolder, namesFile):    names.Bytes(),
		path.Join(LedgerFolder, catalogFile):  catalog,
	}
	told, err := l.encodeTold()
	if err != nil {
		return nil, err
	}
	files[path.Join(LedgerFolder, toldFile)] = told
	for name, text := range l.Base {
		files[BasePath(name)] = text
	}
	return files, nil
}

// encodeTold is nil where no engine was asked.
func (l *Ledger) encodeTold() ([]byte, error) {
	if len(l.Told) == 0 {
		return nil, nil
	}
	text, err := json.MarshalIndent(l.Told, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("encoding the ledger: %w", err)
	}
	return append(text, '\n'), nil
}

// BasePath is where the recorded text of a file lies.
func BasePath(name string) string {
	return path.Join(LedgerFolder, baseFolder, name+baseSuffix)
}

// Written are the files that were written before, sorted.
func (l *Ledger) Written() []string {
	list := make([]string, 0, len(l.Base))
	for name := range l.Base {
		list = append(list, name)
	}
	slices.Sort(list)
	return list
}
