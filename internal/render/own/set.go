package own

import (
	"errors"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
	"golang.org/x/mod/semver"

	"widegate/internal/fault"
	"widegate/internal/render"
	"widegate/internal/render/typecheck"
)

// ManifestFile is the name of the file in which a set of templates tells of itself.
const ManifestFile = "manifest.yaml"

// Manifest is what a set of templates says of itself.
type Manifest struct {
	Name     string             `yaml:"name"`     // under which the project file gives its settings
	Version  string             `yaml:"version"`  // as in 1.2.0
	About    string             `yaml:"about"`    // one line for people
	Needs    Needs              `yaml:"needs"`    // without which it does not work
	Settings map[string]Setting `yaml:"settings"` // that all its templates have
}

// Needs are what a set of templates does not work without.
type Needs struct {
	Widegate string   `yaml:"widegate"` // the oldest version of the tool
	Engines  []string `yaml:"engines"`  // one of these databases; any for none
}

// ReadManifest reads the manifest of a set.
func ReadManifest(s *render.Set) (m Manifest, err error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(s.Text, &doc); err != nil {
		return m, fault.New("correct the YAML", "%s: %s", s.File, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	if len(doc.Content) == 0 {
		return m, fault.New("write at least a name and a version", "%s: the manifest is empty", s.File)
	}
	root := doc.Content[0]
	at := &Template{File: s.File}
	if err := at.known(root, "name", "version", "about", "needs", "settings"); err != nil {
		return m, err
	}
	if needs := under(root, "needs"); needs != nil {
		if err := at.known(needs, "widegate", "engines"); err != nil {
			return m, err
		}
	}
	if err := at.knownSettings(root); err != nil {
		return m, err
	}
	if err := root.Decode(&m); err != nil {
		return m, fault.New("give the key a value of that kind", "%s: %s", s.File, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	switch {
	case m.Name == "":
		return m, fault.New("write name: NAME", "%s: the set has no name", s.File)
	case !semver.IsValid("v" + m.Version):
		return m, fault.New("write a version such as 1.2.0", "%s: %q is no version", s.File, m.Version)
	case m.Needs.Widegate != "" && !semver.IsValid("v"+m.Needs.Widegate):
		return m, fault.New("write a version such as 1.2.0", "%s: needs.widegate: %q is no version", s.File, m.Needs.Widegate)
	}
	return m, nil
}

// CheckNeeds refuses sets of templates that need another tool or another database.
// The version of a tool that was built from a work tree is not known, and is taken for
// new enough.
func CheckNeeds(list []render.Template, engine string, engines []string, version string) error {
	var faults []error
	seen := map[*render.Set]bool{}
	for _, t := range list {
		if t.Set == nil || seen[t.Set] {
			continue
		}
		seen[t.Set] = true
		m, err := ReadManifest(t.Set)
		if err != nil {
			faults = append(faults, err)
			continue
		}
		for _, e := range m.Needs.Engines {
			if !slices.Contains(engines, e) {
				faults = append(faults, fault.New("use one of "+strings.Join(engines, ", "), "%s: needs.engines: there is no engine %s%s", t.Set.File, e, typecheck.Near(e, engines)))
			}
		}
		if len(m.Needs.Engines) > 0 && !slices.Contains(m.Needs.Engines, engine) {
			faults = append(faults, fault.New("leave the set out of templates: in the project file", "%s: the templates are for %s, and the database is %s", t.Set.File, strings.Join(m.Needs.Engines, ", "), engine))
		}
		if now, _, _ := strings.Cut(version, " "); m.Needs.Widegate != "" && semver.IsValid(now) && semver.Compare(now, "v"+m.Needs.Widegate) < 0 {
			faults = append(faults, fault.New("install a newer widegate", "%s: the templates need widegate %s, and this is %s", t.Set.File, m.Needs.Widegate, now))
		}
	}
	return errors.Join(faults...)
}

// Declared are the settings that the templates have, by the names under which the
// project file gives them.
func Declared(list []render.Template) (map[string]map[string]Setting, error) {
	declared := map[string]map[string]Setting{}
	_, others, err := render.TakenOf(list)
	if err != nil {
		return nil, err
	}
	for _, file := range others {
		t := &Template{Name: file.Name, File: file.File}
		if _, err := t.cutHead(string(file.Text)); err != nil {
			return nil, err
		}
		if len(t.Head.Settings) > 0 {
			declared[file.Name] = t.Head.Settings
		}
		if file.Set == nil {
			continue
		}
		m, err := ReadManifest(file.Set)
		if err != nil {
			return nil, err
		}
		if len(m.Settings) > 0 {
			declared[m.Name] = m.Settings
		}
	}
	return declared, nil
}

// JSONSchema is the JSON Schema of some settings, as a value of encoding/json.
func JSONSchema(settings map[string]Setting) map[string]any {
	types := map[string]map[string]any{
		"text": {"type": "string"}, "number": {"type": "integer"}, "boolean": {"type": "boolean"}, "list": {"type": "array", "items": map[string]any{"type": "string"}},
	}
	properties := map[string]any{}
	for name, s := range settings {
		of := map[string]any{}
		for key, value := range types[s.Type] {
			of[key] = value
		}
		if s.Help != "" {
			of["description"] = s.Help
		}
		if s.Default != nil {
			of["default"] = s.Default
		}
		properties[name] = of
	}
	return map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
}
