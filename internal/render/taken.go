package render

import (
	"crypto/sha256"
	"encoding/hex"
	"strings"

	"go.yaml.in/yaml/v3"

	"widegate/internal/fault"
)

// BuiltIn is a template of an output, which a project may take and change.
type BuiltIn struct {
	Name  string // entity.go
	For   string // project, entity or query
	Gives string // the path of a file, as an example
	About string
	Text  string
}

// Version tells one text of a built-in template from another.
func (b BuiltIn) Version() string {
	sum := sha256.Sum256([]byte(b.Text))
	return hex.EncodeToString(sum[:6])
}

// Taken is the text of the file of a project that has taken the template.
func (b BuiltIn) Taken() string {
	return "---\ntakes: " + b.Name + "\nversion: " + b.Version() + "\n---\n" + b.Text
}

// Taken is a built-in template as a project has it.
type Taken struct {
	Takes   string   `yaml:"takes"`   // its name
	Version string   `yaml:"version"` // of the text that was taken
	Imports []string `yaml:"imports"` // packages that it may use besides those of the built-in one, as in Go
	File    string   `yaml:"-"`
	Text    string   `yaml:"-"`
	Lines   int      `yaml:"-"` // of the head
}

// TakenOf are the built-in templates that are among the templates of a project, by
// name, and the others.
func TakenOf(list []Template) (taken map[string]Taken, others []Template, err error) {
	taken = map[string]Taken{}
	for _, t := range list {
		rest, ok := strings.CutPrefix(strings.ReplaceAll(string(t.Text), "\r\n", "\n"), "---\n")
		head, body, closed := strings.Cut(rest, "\n---\n")
		if !ok || !closed || !strings.HasPrefix(head, "takes:") && !strings.Contains(head, "\ntakes:") {
			others = append(others, t)
			continue
		}
		own := Taken{File: t.File, Text: body, Lines: strings.Count(head, "\n") + 3}
		decoder := yaml.NewDecoder(strings.NewReader(head))
		decoder.KnownFields(true)
		if err := decoder.Decode(&own); err != nil {
			return nil, nil, fault.New("the head of a template that was taken has takes, version and imports", "%s: %s", t.File, strings.TrimPrefix(err.Error(), "yaml: "))
		}
		taken[own.Takes] = own
	}
	return taken, others, nil
}
