package project

import (
	"bytes"
	"cmp"
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
	"widegate/internal/printable"
	"widegate/internal/rooted"
	"widegate/internal/sqltext"
)

// ledgerFolder is where the ledger of widegate.yaml lies, beside it. Another project
// file has one of its own, with its name behind this. They belong into version
// control.
const ledgerFolder = ".widegate"

// DefaultFile is the name of the project file where none is given.
const DefaultFile = "widegate.yaml"

// Ledger is what was given and written before.
type Ledger struct {
	Folder string // where it lies, below the root
	Names  Names
	Base   map[string][]byte // the text last rendered for each file, by slash path below the root
	Told   map[string]Told   // what engines said of statements, by their sums
	Record []byte            // the schema that was written last, as JSON; nil before the first write
	Mixed  []string          // records that two branches both wrote, with the markers still in them

	engines []*sqltext.Dialect // that a schema may be of
}

// Names are the names given to what the schema has, so that what comes later
// never renames what was there. Outer keys are qualified table names.
type Names struct {
	Project string `json:"project,omitempty"` // the project file, where the folder does not tell

	Spelling int `json:"spelling,omitempty"` // of the names that are not here; see Spelling

	Tables map[string]TableNames `json:"tables"`
	Enums  map[string]string     `json:"enums,omitempty"` // Go type by enum; one without a type of its own is table.column
}

// Told is what an engine said of a statement.
type Told struct {
	Types   []catalog.Type   `json:"types,omitempty"` // of its arguments
	Columns []catalog.Column `json:"columns,omitempty"`
}

// NewNames has no names yet.
func NewNames() *Names {
	return &Names{Spelling: Spelling, Tables: map[string]TableNames{}, Enums: map[string]string{}}
}

// Spelling is the version of the words that this program makes names of. A project
// keeps the one that it began with for names that the ledger does not hold.
const Spelling = 1

// TableNames are the names of one table's things.
type TableNames struct {
	Entity    string            `json:"entity"`
	Plural    string            `json:"plural"`
	File      string            `json:"file"`
	Path      string            `json:"path"`
	Columns   map[string]string `json:"columns,omitempty"`   // field by column
	Relations map[string]string `json:"relations,omitempty"` // name by what the relation rests on
	Words     map[string]string `json:"words,omitempty"`     // joined by _, of the names that do not tell them by their capitals
}

// WordsOf are the words that a name is made of.
func (n TableNames) WordsOf(name string) []string {
	if joined, ok := n.Words[name]; ok {
		return strings.Split(joined, "_")
	}
	return catalog.Words(name)
}

// Remember keeps the words of a name where it does not tell them.
func (n *TableNames) Remember(name string, words []string) {
	if slices.Equal(catalog.Words(name), words) {
		return
	}
	if n.Words == nil {
		n.Words = map[string]string{}
	}
	n.Words[name] = strings.Join(words, "_")
}

const (
	catalogFile = "catalog.json"
	namesFile   = "names.json"
	toldFile    = "queries.json"
	baseFolder  = "base"
)

// LoadLedger reads the ledger of a project, whose schema is of one of the engines; one that is not there is
// empty. Records with the markers of an unfinished merge count as what this
// side had.
func LoadLedger(p *Project, engines []*sqltext.Dialect) (*Ledger, error) {
	l := &Ledger{Folder: p.Ledger(), Names: *NewNames(), Base: map[string][]byte{}, engines: engines}
	home, err := rooted.Open(cmp.Or(p.Root, "."))
	if err != nil {
		return nil, fmt.Errorf("reading the ledger: %w", err)
	}
	defer home.Close()
	text, err := home.Read(l.Folder + "/" + namesFile)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("reading the ledger: %w", err)
	}
	if err == nil {
		if err := l.readNames(text); err != nil {
			return nil, fault.New("restore it from version control", "%s/%s is damaged: %w", l.Folder, namesFile, err)
		}
	}
	if name := filepath.Base(p.File); p.File != "" && l.Folder == ledgerFolder {
		if owner := cmp.Or(l.Names.Project, DefaultFile); l.Names.Project != "" && owner != name {
			return nil, fault.New("rename the folder to "+ledgerOf(owner), "the records in %s are those of %s, not of %s", l.Folder, owner, name)
		}
		if name != DefaultFile {
			l.Names.Project = name
		}
	}
	text, err = home.Read(l.Folder + "/" + catalogFile)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("reading the ledger: %w", err)
	}
	if err == nil {
		l.Record, _, _ = sides(text)
	}
	if err := l.loadTold(home); err != nil {
		return nil, err
	}
	return l, l.loadBase(home)
}

// Schema is the one that was written last; nil before the first write, or where it
// cannot be read: the next write makes it anew.
func (l *Ledger) Schema() *catalog.Catalog {
	if l.Record == nil {
		return nil
	}
	c, err := catalog.Decode(l.Record, l.engines)
	if err != nil {
		return nil
	}
	return c
}

// loadTold reads what engines said. It can be found out again, so that a file
// that is damaged, or half merged, counts as none.
func (l *Ledger) loadTold(home *rooted.Folder) error {
	text, err := home.Read(l.Folder + "/" + toldFile)
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
	l.Names.Spelling = 0
	if err := json.Unmarshal(ours, &l.Names); err != nil {
		return err
	}
	if l.Names.Tables == nil {
		l.Names.Tables = map[string]TableNames{}
	}
	if !mixed {
		return l.Names.check()
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
	return l.Names.check()
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
func (l *Ledger) loadBase(home *rooted.Folder) error {
	folder := l.Folder + "/" + baseFolder
	paths, err := home.Files(folder)
	if err != nil {
		return fmt.Errorf("reading the ledger: %w", err)
	}
	texts, faults := make([][]byte, len(paths)), make([]error, len(paths))
	parallel.Each(len(paths), readers, func(i int) { texts[i], faults[i] = home.Read(paths[i]) })
	for i, at := range paths {
		if faults[i] != nil {
			return fmt.Errorf("reading the ledger: %w", faults[i])
		}
		if err := l.addBase(strings.TrimPrefix(at, folder+"/"), texts[i]); err != nil {
			return err
		}
	}
	return nil
}

// readers is how many files are read at once.
const readers = 8

func (l *Ledger) addBase(below string, text []byte) error {
	name, isBase := strings.CutSuffix(below, baseSuffix)
	if !isBase {
		return fault.New("delete it", "%s is no record: its name does not end in %s", path.Join(l.Folder, baseFolder, below), baseSuffix)
	}
	if err := written(name, text); err != nil {
		return fault.New("delete it, or restore the records from version control", "the record %s/%s/%s is of a file that is never written here: %w", l.Folder, baseFolder, below, err)
	}
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

// Starters are the files at a project's root that are written once.
var Starters = []string{"README.md", "Makefile", "Dockerfile", ".dockerignore", ".gitignore", ".env.example", "ci.example.yaml"}

// Starter reports whether a file is one that is written once.
func Starter(name string) bool {
	return strings.HasPrefix(name, "cmd/") || slices.Contains(Starters, name)
}

// written returns an error for a record that is not of a file that was written
// here: records come with a branch, and decide which files are replaced and
// removed.
func written(name string, text []byte) error {
	if err := rooted.Check(name); err != nil {
		return err
	}
	if slices.Contains(Starters, name) { // which are neither replaced nor removed
		return nil
	}
	for _, part := range strings.Split(name, "/") {
		if strings.HasPrefix(part, ".") {
			return fmt.Errorf("%q is hidden", part)
		}
	}
	_, runtime, ofRuntime := strings.Cut("/"+name, "/gate/")
	switch ext := path.Ext(name); {
	case len(text) == 0: // of a file without a record, it says nothing
		return nil
	case ofRuntime && runtime != "" && slices.Contains([]string{".go", ".html", ".css", ".js", ".svg"}, ext):
		return nil
	case ext == ".json" && strings.HasPrefix(path.Base(name), "openapi"):
		return nil
	case (ext == ".go" || path.Base(name) == "formatters.js") && Marked(text):
		return nil
	case Noticed(text):
		return nil
	case ext == ".tmpl" && strings.HasPrefix(name, TemplatesFolder+"/") && bytes.HasPrefix(text, []byte("---\ntakes: ")):
		return nil
	}
	return errors.New("its text does not begin as files do that are written")
}

// Marked reports whether a text says near its beginning that it is written again.
func Marked(text []byte) bool { return begins(text, "written again") }

// begins reports whether some words stand near the beginning of a text.
func begins(text []byte, words string) bool {
	return bytes.Contains(text[:min(len(text), headBytes)], []byte(words))
}

// Notice says in a file that a template of the project gives where it comes from.
func Notice(template string) string {
	return notice + template + ", and written again when that or the schema changes. Edits are kept."
}

const notice = "Written by widegate from "

// Noticed reports whether a text says so near its beginning: without that a file is
// not taken for one that was written here.
func Noticed(text []byte) bool { return begins(text, notice) }

// headBytes is how far the line that says so is from the start of a file.
const headBytes = 4 << 10

// ignored is what does not belong into version control: what a run has in the
// folder while it is at work, and what was displaced on this machine.
const ignored = "lock\njournal\njournal.tmp\ntx-*/\nhistory/\nfresh\nsettled\n"

// FreshFile is where the fingerprint of the last write lies, on this machine
// only.
const FreshFile = "fresh"

// SettledFile is where it is noted which edits of other branches are left out, on this
// machine only.
const SettledFile = "settled"

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
		path.Join(l.Folder, ".gitignore"): []byte(ignored),
		path.Join(l.Folder, namesFile):    []byte(printable.Text(names.String())),
		path.Join(l.Folder, catalogFile):  catalog,
	}
	told, err := l.encodeTold()
	if err != nil {
		return nil, err
	}
	files[path.Join(l.Folder, toldFile)] = told
	for name, text := range l.Base {
		files[l.BasePath(name)] = text
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
	return []byte(printable.Text(string(text)) + "\n"), nil
}

// BasePath is where the recorded text of a file lies.
func (l *Ledger) BasePath(name string) string {
	return path.Join(l.Folder, baseFolder, name+baseSuffix)
}

// Ledger is the folder of the ledger, by slash path below the root.
func (p *Project) Ledger() string {
	name := filepath.Base(p.File)
	own := ledgerOf(name)
	if p.File == "" {
		return ledgerFolder
	}
	if own == ledgerFolder || isDirectory(filepath.Join(p.Root, own)) {
		return own
	}
	text, err := os.ReadFile(filepath.Join(p.Root, ledgerFolder, namesFile))
	if err != nil {
		return own
	}
	var given Names
	if json.Unmarshal(text, &given) == nil && given.Project == name {
		return ledgerFolder
	}
	if _, err := os.Lstat(filepath.Join(p.Root, DefaultFile)); err != nil && given.Project == "" {
		return ledgerFolder // from when there was one for a folder
	}
	return own
}

func ledgerOf(file string) string {
	if file == DefaultFile {
		return ledgerFolder
	}
	return ledgerFolder + "-" + strings.TrimSuffix(file, ".yaml")
}

func isDirectory(at string) bool {
	info, err := os.Lstat(at)
	return err == nil && info.IsDir()
}

// Others tells which files are those of other project files in the folder: the name
// of the ledger that has them by their paths.
func (l *Ledger) Others(root string) map[string]string {
	entries, err := os.ReadDir(cmp.Or(root, "."))
	if err != nil {
		return nil // where nothing can be read nothing is there
	}
	owners := map[string]string{}
	for _, e := range entries {
		if e.Name() == l.Folder || !e.IsDir() || e.Name() != ledgerFolder && !strings.HasPrefix(e.Name(), ledgerFolder+"-") {
			continue
		}
		other := &Ledger{Folder: e.Name(), Base: map[string][]byte{}}
		home, err := rooted.Open(cmp.Or(root, "."))
		if err != nil {
			continue
		}
		if other.loadBase(home) == nil {
			for name := range other.Base {
				owners[name] = e.Name()
			}
		}
		home.Close()
	}
	return owners
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
