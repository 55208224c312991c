// Package render is what the outputs share: what each is made from, and the files
// that it makes. An output is a package below this one; the package outputs lists
// them.
package render

import (
	"io/fs"
	"path"
	"strconv"

	"widegate/internal/model"
	"widegate/internal/project"
)

// File is a rendered file in memory.
type File struct {
	Path    string // below the project's root, with slashes
	Text    []byte
	Starter bool   // written once, then the developer's
	Runtime bool   // what all others need
	By      string // the file of the project's own template that gives it
	Of      string // the name of the template that gives it, if one does
}

// Output is one kind of output.
type Output interface {
	// Files are what a project gets of it; none where it wants none.
	Files(in Input) ([]File, error)
}

// Input is what outputs are made from.
type Input struct {
	Model   *model.Model
	Target  Target
	Sources fs.FS // of the runtime, below gate

	Clients project.Clients // that are asked for

	Templates []Template                // of the project
	Settings  map[string]map[string]any // of these, by their names

	// Last are the texts of the last rendering, by path. What is the same but for its
	// layout is taken from there; may be nil.
	Last map[string][]byte

	// Same says that since then nothing but templates of the project, and their
	// settings, may have changed; Took are the built-in ones that it had taken then.
	Same bool
	Took []string
}

// Again is the text that a path had in the last rendering, if it cannot be another one
// now; else nil.
func (in Input) Again(path string) []byte {
	if !in.Same {
		return nil
	}
	return in.Last[path]
}

// Template is a template of the project, as it was read from the disk.
type Template struct {
	Name string // of its file below its folder, with slashes and without its ending
	File string // as messages name it
	Text []byte
	Set  *Set // that it belongs to; may be nil
}

// Set is the manifest of a folder or archive of templates.
type Set struct {
	File string // as messages name it
	Text []byte
}

// Target says where the files go, and how the project uses them.
type Target struct {
	Module      string // path of the module, or of the project's folder in it
	StoreFolder string // below the project's root, with slashes
	APIFolder   string // empty: no service is written
	Client      string // the folder of the client in Go; empty: none is written
	Package     string // of the store
	Tests       bool   // a test for each table is written too
	Guarded     bool   // the service asks for credentials
	Desk        bool   // it has pages for people
	Assist      bool   // it offers functions to assistants
	Icon        string // of these, as a data URL
	Script      []byte // of these: the project's formatters; may be nil
	Starters    bool   // files by which somebody takes the project over are written too
	Scripts     string // the folder or file of scripts that the database is made from
	Language    string // version of the language

	Database Database
}

// Database is what the outputs know of the database of a project.
type Database struct {
	Title    string   // of the engine
	Packages []string // of the runtime that only the engine needs, below gate; its own is the first
	URLForm  string   // how its URLs look, behind a sentence
	Example  string   // a URL
	Embedded bool     // the database is a file
	URL      string   // that the service uses where the environment names none; without a password
	Relative bool     // it is a file that is named as seen from the project
}

// StoreImport is the import path of the store.
func (t Target) StoreImport() string { return path.Join(t.Module, t.StoreFolder) }

// StoreSpec imports the store, by a name where its folder has another.
func (t Target) StoreSpec() string {
	if path.Base(t.StoreFolder) == t.Package {
		return strconv.Quote(t.StoreImport())
	}
	return t.Package + " " + strconv.Quote(t.StoreImport())
}

// GateImport is the import path of the runtime.
func (t Target) GateImport() string { return t.StoreImport() + "/gate" }

// Command is the name of the service.
func (t Target) Command() string { return path.Base(t.Module) }

// DocumentFile is the file with the OpenAPI document of an earlier version of the
// interface, or of the interface as it is.
func DocumentFile(version string) string {
	if version == "" {
		return "openapi.json"
	}
	return "openapi-" + version + ".json"
}
