// Package own renders the templates of a project: a dictionary of the data, messages
// of another protocol, whatever a team wants of its schema in its own form.
//
// A template is a file of text/template with a head in YAML between two lines of
// dashes: what it is run for, the path of the file that it gives, and its settings.
// It is checked against the types of its data before it is run, so that a wrong name
// is found in a branch that no table takes. It can read no file and no variable of the
// environment, and is stopped where it gives too much or takes too long.
package own

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"go/format"
	"io"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"text/template"
	"time"

	"go.yaml.in/yaml/v3"

	"widegate/internal/fault"
	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/render/typecheck"
	"widegate/internal/rooted"
)

// Ending is that of the files of templates.
const Ending = ".tmpl"

// The units that a template is run for, one text each.
const (
	ForProject  = "project"
	ForSchema   = "schema"
	ForEntity   = "entity"
	ForRelation = "relation"
	ForEnum     = "enum"
	ForQuery    = "query"
	ForRoute    = "route"
)

var units = []string{ForProject, ForSchema, ForEntity, ForRelation, ForEnum, ForQuery, ForRoute}

// Head is what a template says of itself.
type Head struct {
	About    string             `yaml:"about"` // one line for people
	For      string             `yaml:"for"`   // the unit
	Path     string             `yaml:"path"`  // of the file, below the project; a template too
	When     string             `yaml:"when"`  // a condition, as behind if; always when left out
	Settings map[string]Setting `yaml:"settings"`
}

// Setting is a value that the project file may give to a template.
type Setting struct {
	Type    string `yaml:"type"` // text, number, boolean or list
	Default any    `yaml:"default"`
	Help    string `yaml:"help"`
}

// Template is a template that was read.
type Template struct {
	Name string // of its file below its folder, without its ending
	File string // as messages name it
	Head Head

	text     *template.Template // of the body, the path and the condition
	lines    int                // of the head
	declared map[string]Setting // those of the head and of its set
	settings map[string]any
	set      string // its name; empty without a manifest
}

// The names under which the parts of a template are parsed.
const (
	bodyPart = "body"
	pathPart = "path"
	whenPart = "when"
)

// Parse reads a template, and checks it against the types of its data. given are the
// values that the project file gives, by the names of templates and sets. All that is
// wrong is reported at once.
func Parse(file render.Template, given map[string]map[string]any) (*Template, error) {
	t := &Template{Name: file.Name, File: file.File, declared: map[string]Setting{}}
	body, err := t.cutHead(string(file.Text))
	if err != nil {
		return nil, err
	}
	values := map[string]any{}
	if file.Set != nil {
		m, err := ReadManifest(file.Set)
		if err != nil {
			return nil, err
		}
		t.set = m.Name
		if err := checkSettings(file.Set.File, m.Settings); err != nil {
			return nil, err
		}
		if err := checkValues(m.Name, m.Settings, given[m.Name]); err != nil {
			return nil, err
		}
		maps.Copy(t.declared, m.Settings)
		maps.Copy(values, given[m.Name])
	}
	if err := checkSettings(t.File, t.Head.Settings); err != nil {
		return nil, err
	}
	maps.Copy(t.declared, t.Head.Settings)
	if err := checkValues(t.Name, t.declared, given[t.Name]); err != nil {
		return nil, err
	}
	maps.Copy(values, given[t.Name])
	t.settings = settled(t.declared, values)
	t.text = template.New("").Funcs(functions)
	when := t.Head.When
	if when == "" {
		when = "true"
	}
	for _, part := range []struct{ name, text string }{{bodyPart, body}, {pathPart, t.Head.Path}, {whenPart, "{{if " + when + "}}yes{{end}}"}} {
		if _, err := t.text.New(part.name).Parse(part.text); err != nil {
			return nil, fault.New("see the actions of templates in docs/templates.md", "%s", t.placed(err.Error()))
		}
	}
	return t, errors.Join(t.check()...)
}

// cutHead reads the head, and returns what stands behind it.
func (t *Template) cutHead(text string) (body string, err error) {
	const next = "begin the file with a line ---, what it is for and its path, and another line ---"
	text = strings.ReplaceAll(strings.TrimPrefix(text, "\ufeff"), "\r\n", "\n")
	rest, ok := strings.CutPrefix(text, "---\n")
	head, body, closed := strings.Cut("\n"+rest, "\n---\n")
	if !ok || !closed {
		return "", fault.New(next, "%s:1: the template has no head", t.File)
	}
	t.lines = strings.Count(head, "\n") + 2
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(head), &doc); err != nil {
		return "", fault.New("mend the YAML of the head", "%s: %s", t.File, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	if len(doc.Content) == 0 {
		return "", fault.New(next, "%s:1: the head is empty", t.File)
	}
	if err := t.known(doc.Content[0], "about", "for", "path", "when", "settings"); err != nil {
		return "", err
	}
	if err := t.knownSettings(doc.Content[0]); err != nil {
		return "", err
	}
	if err := doc.Content[0].Decode(&t.Head); err != nil {
		return "", fault.New("give the key a value of that kind", "%s: %s", t.File, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	switch {
	case !slices.Contains(units, t.Head.For):
		return "", fault.New("write one of "+strings.Join(units, ", "), "%s: a template is for %s%s", t.File, orNothing(t.Head.For), typecheck.Near(t.Head.For, units))
	case strings.TrimSpace(t.Head.Path) == "":
		return "", fault.New("write the path of the file that it gives, such as path: docs/tables.md", "%s: the head has no path", t.File)
	}
	return body, nil
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return strconv.Quote(s) + ", which there is not"
}

// known refuses keys of a mapping that mean nothing.
func (t *Template) known(n *yaml.Node, keys ...string) error {
	if n.Kind != yaml.MappingNode {
		return fault.New("write keys with their values", "%s:%d: there must be keys here: %s", t.File, n.Line, strings.Join(keys, ", "))
	}
	for i := 0; i < len(n.Content); i += 2 {
		if key := n.Content[i]; !slices.Contains(keys, key.Value) {
			return fault.New("take one of "+strings.Join(keys, ", "), "%s:%d:%d: there is no key %s%s", t.File, key.Line, key.Column, key.Value, typecheck.Near(key.Value, keys))
		}
	}
	return nil
}

// knownSettings refuses keys of settings that mean nothing.
func (t *Template) knownSettings(root *yaml.Node) error {
	list := under(root, "settings")
	if list == nil {
		return nil
	}
	for i := 1; i < len(list.Content); i += 2 {
		if err := t.known(list.Content[i], "type", "default", "help"); err != nil {
			return err
		}
	}
	return nil
}

func under(n *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key && n.Content[i+1].Kind == yaml.MappingNode {
			return n.Content[i+1]
		}
	}
	return nil
}

// fits says for each type of a setting whether a value is of it, and its zero value.
var fits = map[string]struct {
	zero any
	is   func(v any) bool
}{
	"text":    {"", func(v any) bool { _, ok := v.(string); return ok }},
	"number":  {0, func(v any) bool { _, ok := v.(int); return ok }},
	"boolean": {false, func(v any) bool { _, ok := v.(bool); return ok }},
	"list": {[]any{}, func(v any) bool {
		list, ok := v.([]any)
		return ok && !slices.ContainsFunc(list, func(x any) bool { _, text := x.(string); return !text })
	}},
}

// checkSettings refuses settings of unknown types, and defaults of others.
func checkSettings(file string, settings map[string]Setting) error {
	types := sorted(fits)
	for _, name := range sorted(settings) {
		s := settings[name]
		fit, ok := fits[s.Type]
		switch {
		case !ok:
			return fault.New("write one of "+strings.Join(types, ", "), "%s: the setting %s has the type %s%s", file, name, orNothing(s.Type), typecheck.Near(s.Type, types))
		case s.Default != nil && !fit.is(s.Default):
			return fault.New("give it a default of its type", "%s: the default of %s is no %s", file, name, s.Type)
		}
	}
	return nil
}

// checkValues refuses values that the project file gives to no setting, or of another
// type. of is the name of the template or set.
func checkValues(of string, settings map[string]Setting, given map[string]any) error {
	for _, name := range sorted(given) {
		s, ok := settings[name]
		if !ok {
			return fault.New("see the settings by `widegate templates show`", "settings.%s: there is no setting %s%s", of, name, typecheck.Near(name, sorted(settings)))
		}
		if !fits[s.Type].is(given[name]) {
			return fault.New("give it a value of its type", "settings.%s.%s is no %s", of, name, s.Type)
		}
	}
	return nil
}

// settled are the values of settings: those that are given, and the defaults of the
// others.
func settled(settings map[string]Setting, given map[string]any) map[string]any {
	values := map[string]any{}
	for name, s := range settings {
		value := fits[s.Type].zero
		if s.Default != nil {
			value = s.Default
		}
		if v, there := given[name]; there {
			value = v
		}
		if list, ok := value.([]any); ok {
			texts := make([]string, len(list))
			for i, v := range list {
				texts[i] = fmt.Sprint(v)
			}
			value = texts
		}
		values[name] = value
	}
	return values
}

var place = regexp.MustCompile(`^template: (\w*):(\d+)(:\d+)?:`)

// placed is a message of text/template with the place in the file.
func (t *Template) placed(message string) string {
	m := place.FindStringSubmatch(message)
	if m == nil {
		return t.File + ": " + strings.TrimPrefix(message, "template: ")
	}
	rest := message[len(m[0]):]
	if _, after, ok := strings.Cut(rest, ">: "); ok { // executing "body" at <.X>: …
		rest = " " + after
	}
	return t.at(m[1], m[2], m[3]) + ":" + rest
}

// at is a place of a part in the file.
func (t *Template) at(part, line, column string) string {
	if part == pathPart || part == whenPart {
		return t.File + ": " + part
	}
	n, _ := strconv.Atoi(line)
	return fmt.Sprintf("%s:%d%s", t.File, n+t.lines, column)
}

// The bounds of a run.
const (
	mostText = 8 << 20 // bytes
	mostTime = 10 * time.Second
)

var (
	errLong = errors.New("it gives more than 8 MiB")
	errSlow = errors.New("it takes longer than 10 s")
)

// bounded takes a text up to its bounds.
type bounded struct {
	bytes.Buffer
	end time.Time
}

func (b *bounded) Write(p []byte) (int, error) {
	switch {
	case b.Len()+len(p) > mostText:
		return 0, errLong
	case time.Now().After(b.end):
		return 0, errSlow
	}
	return b.Buffer.Write(p)
}

// run runs a part. One that loops without giving anything is left behind.
func (t *Template) run(part string, data *Data) (string, error) {
	out := &bounded{end: time.Now().Add(mostTime)}
	done := make(chan error, 1)
	go func() { done <- t.text.ExecuteTemplate(out, part, data) }()
	late := time.NewTimer(mostTime + time.Second)
	defer late.Stop()
	select {
	case err := <-done:
		if err != nil {
			return "", fault.New("see what it is run on by `widegate templates data`", "%s", t.placed(err.Error()))
		}
		return out.String(), nil
	case <-late.C:
		return "", fault.New("look for a loop that does not end", "%s: %v", t.File, errSlow)
	}
}

// Text is the text that a template gives for one unit, and the path of its file, which
// is empty where its condition does not hold.
func (t *Template) Text(data *Data) (at, text string, err error) {
	data.Settings, data.Notice = t.settings, project.Notice(t.File)
	if when, err := t.run(whenPart, data); err != nil || when == "" {
		return "", "", err
	}
	if at, err = t.run(pathPart, data); err != nil {
		return "", "", err
	}
	at = strings.TrimSpace(at)
	if err := allowed(at); err != nil {
		return at, "", fault.New("give another path", "%s: the path %q of %s %w", t.File, at, data.name(), err)
	}
	if text, err = t.run(bodyPart, data); err != nil {
		return at, "", err
	}
	if !project.Noticed([]byte(text)) {
		return at, text, fault.New("put {{.Notice}} into a comment at the beginning of the text", "%s: what it gives for %s does not say where it comes from", t.File, data.name())
	}
	kind, known := languages[strings.ToLower(path.Ext(at))]
	if !known {
		return at, text, nil
	}
	laidOut, err := kind.layOut([]byte(text))
	if err != nil {
		return at, text, fault.New("see the text by `widegate templates try "+t.Name+"`", "%s: what it gives for %s is no %s: %w", t.File, data.name(), kind.name, err)
	}
	return at, string(laidOut), nil
}

// languages are those of files, by their endings, that are laid out or at least read.
var languages = map[string]struct {
	name   string
	layOut func(text []byte) ([]byte, error)
}{
	".go": {"Go", format.Source}, ".json": {"JSON", readJSON}, ".yaml": {"YAML", readYAML}, ".yml": {"YAML", readYAML},
}

func readJSON(text []byte) ([]byte, error) {
	var value any
	return text, json.Unmarshal(text, &value)
}

func readYAML(text []byte) ([]byte, error) {
	for decoder := yaml.NewDecoder(bytes.NewReader(text)); ; {
		var value yaml.Node
		if err := decoder.Decode(&value); errors.Is(err, io.EOF) {
			return text, nil
		} else if err != nil {
			return nil, err
		}
	}
}

// taken are files that a template may not give: they are the developer's, or tell what
// is generated.
var taken = []string{"go.mod", "go.sum", "widegate.yaml", "README.md", "Makefile"}

// allowed refuses paths that a template may not give.
func allowed(at string) error {
	switch {
	case at == "" || rooted.Check(at) != nil || path.Clean(at) != at || strings.ContainsAny(at, "\\\n\x00"):
		return errors.New("is no path below the project")
	case strings.HasPrefix(at, ".") || strings.Contains(at, "/."):
		return errors.New("leads to a hidden file")
	case slices.Contains(taken, at) || project.Starter(at):
		return errors.New("is that of a file of yours")
	case strings.HasPrefix(at, "templates/") || strings.HasSuffix(at, Ending):
		return errors.New("is that of a template")
	}
	return nil
}

// Templates is the output of a project's templates.
type Templates struct{}

// Files are those that the templates give. A template that gives two texts in two runs
// is refused: its files would change with each write.
func (Templates) Files(in render.Input) ([]render.File, error) {
	templates, err := ParseAll(in.Templates, in.Settings)
	if err != nil {
		return nil, err
	}
	if len(templates) == 0 {
		return nil, nil
	}
	var files []render.File
	owners := map[string]string{}
	first, second := newProject(in.Model, in.Target), newProject(in.Model, in.Target)
	for _, t := range templates {
		again := second.units(t.Head.For)
		for i, data := range first.units(t.Head.For) {
			at, text, err := t.Text(data)
			if err != nil {
				return nil, err
			}
			if at == "" {
				continue
			}
			if text == string(in.Last[at]) {
				// It was given before.
			} else if _, other, err := t.Text(again[i]); err != nil || other != text {
				return nil, fault.New("print the fields of a value, and not the value", "%s: what it gives for %s is not the same in two runs", t.File, data.name())
			}
			if owner, twice := owners[strings.ToLower(at)]; twice {
				return nil, fault.New("give one of them another path", "%s gives %s for %s, and so does %s", t.File, at, data.name(), owner)
			}
			owners[strings.ToLower(at)] = t.File
			files = append(files, render.File{Path: at, Text: []byte(text), By: t.File, Of: t.Name})
		}
	}
	return files, nil
}

// ParseAll reads templates. Where two have the same name, the later one is used. All
// that is wrong is reported at once.
func ParseAll(list []render.Template, settings map[string]map[string]any) ([]*Template, error) {
	var templates []*Template
	var faults []error
	names := map[string]bool{}
	_, list, err := render.TakenOf(list)
	if err != nil {
		return nil, err
	}
	for i, file := range list {
		names[file.Name] = true
		if slices.ContainsFunc(list[i+1:], func(later render.Template) bool { return later.Name == file.Name }) {
			continue
		}
		t, err := Parse(file, settings)
		if err != nil {
			faults = append(faults, err)
			continue
		}
		names[t.set] = true
		templates = append(templates, t)
	}
	for _, name := range sorted(settings) {
		if len(faults) == 0 && !names[name] {
			faults = append(faults, fault.New("see the templates by `widegate templates`", "settings.%s: there is no template %s%s", name, name, typecheck.Near(name, sorted(names))))
		}
	}
	if len(faults) > 0 {
		return nil, errors.Join(unique(faults)...)
	}
	return templates, nil
}

// unique leaves out what was said already: a manifest is read for each template.
func unique(faults []error) []error {
	said := map[string]bool{}
	return slices.DeleteFunc(faults, func(err error) bool {
		again := said[err.Error()]
		said[err.Error()] = true
		return again
	})
}

// Texts are the files that a template gives, of all units or of those whose name begins
// with one: the name of a table, an enum or a query. Nothing is compared with what other
// templates give.
func Texts(in render.Input, name, unit string) ([]render.File, error) {
	templates, err := ParseAll(in.Templates, in.Settings)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(templates, func(t *Template) bool { return t.Name == name })
	if i < 0 {
		return nil, unknown(name, templates)
	}
	t := templates[i]
	var files []render.File
	found := unit == ""
	for _, data := range newProject(in.Model, in.Target).units(t.Head.For) {
		if unit != "" && !slices.Contains(data.names(), unit) {
			continue
		}
		found = true
		at, text, err := t.Text(data)
		if err != nil {
			return nil, err
		}
		if at != "" {
			files = append(files, render.File{Path: at, Text: []byte(text), By: t.File, Of: t.Name})
		}
	}
	if !found {
		return nil, fault.New("name one that `widegate read` shows", "the template %s is for each %s, and there is no %s", t.Name, t.Head.For, unit)
	}
	return files, nil
}

func unknown(name string, templates []*Template) error {
	var names []string
	for _, t := range templates {
		names = append(names, t.Name)
	}
	return fault.New("see the templates by `widegate templates`", "there is no template %s%s", name, typecheck.Near(name, names))
}

// Find is the template of a name.
func Find(in render.Input, name string) (*Template, error) {
	templates, err := ParseAll(in.Templates, in.Settings)
	if err != nil {
		return nil, err
	}
	for _, t := range templates {
		if t.Name == name {
			return t, nil
		}
	}
	return nil, unknown(name, templates)
}

// Names are the template's settings.
func (t *Template) Names() []string { return sorted(t.declared) }

// Setting is what is said of a setting.
func (t *Template) Setting(name string) Setting { return t.declared[name] }

// Value is what a setting is.
func (t *Template) Value(setting string) string {
	if list, ok := t.settings[setting].([]string); ok {
		return strings.Join(list, ", ")
	}
	return fmt.Sprint(t.settings[setting])
}
