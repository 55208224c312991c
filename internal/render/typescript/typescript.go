// Package typescript renders a model as a client in TypeScript: a package without
// dependencies, with the types of each resource and what can be done with it.
//
// How requests are sent is in runtime/client.ts, which is copied. The types of a
// resource are laid out by the templates beside this file.
package typescript

import (
	"bytes"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"text/template"
	"unicode"
	"unicode/utf16"

	"widegate/internal/fault"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/render/openapi"
	"widegate/internal/render/typecheck"
)

//go:embed templates/*.tmpl
var templates embed.FS

//go:embed runtime
var runtime embed.FS

// notice is the first line of what is written again.
const notice = "// Written by widegate from the schema, and written again when that changes. Edits are kept."

// Client is the client in TypeScript of a project that asks for it.
type Client struct{}

// Files are those of the package.
func (Client) Files(in render.Input) ([]render.File, error) {
	c := in.Clients.TypeScript
	if c == nil || in.Target.APIFolder == "" {
		return nil, nil
	}
	r, err := newRenderer(in, *c)
	if err != nil {
		return nil, err
	}
	return r.files()
}

// newRenderer has the templates, those of the project in the place of built-in ones.
func newRenderer(in render.Input, c project.TypeScript) (*renderer, error) {
	r := &renderer{model: modelOf(in.Model, c), client: c, command: in.Target.Command(), folder: path.Clean(c.Folder)}
	if r.document = in.Again(path.Join(in.Target.APIFolder, render.DocumentFile(c.Version))); r.document == nil {
		r.document = openapi.Render(r.model, strings.TrimSpace(r.command+" "+c.Version))
	}
	var err error
	if r.taken, _, err = render.TakenOf(in.Templates); err != nil {
		return nil, err
	}
	if r.templates, err = template.New("").Funcs(typecheck.FuncMap(functions)).ParseFS(templates, "templates/*.tmpl"); err != nil {
		return nil, fmt.Errorf("reading the templates: %w", err)
	}
	return r, render.Take(r.templates, parts, r.taken, func(name string) []error {
		return render.Check(r.templates, name, roots[name], functions, r.taken)
	})
}

// modelOf is the model of the version that a client is for, as its callers see it.
func modelOf(m *model.Model, c project.TypeScript) *model.Model {
	for _, v := range m.Versions {
		if v.Name == c.Version {
			return v.Model
		}
	}
	return m.Seen()
}

type renderer struct {
	model     *model.Model
	client    project.TypeScript
	command   string
	document  []byte // of the service
	folder    string // of the client
	templates *template.Template
	taken     map[string]render.Taken // texts of the project's in the place of built-in templates
}

func (r *renderer) files() ([]render.File, error) {
	client, err := r.copied("client.ts")
	if err != nil {
		return nil, err
	}
	if r.model.API.Names == project.Camel {
		client = strings.Replace(client, "`${F}_${C}`", "`${F}${Capitalize<C>}`", 1)
	}
	files := []render.File{
		{Path: path.Join(r.folder, "client.ts"), Text: []byte(client)},
		{Path: path.Join(r.folder, "package.json"), Text: r.manifest()},
		{Path: path.Join(r.folder, "tsconfig.json"), Text: []byte(compilerOptions)},
	}
	if r.client.Page {
		for from, to := range map[string]string{"page.html": "index.html", "page.ts": "page.ts"} {
			text, err := r.copied(from)
			if err != nil {
				return nil, err
			}
			files = append(files, render.File{Path: path.Join(r.folder, "page", to), Text: []byte(text)})
		}
	}
	for _, p := range parts {
		list, err := r.texts(p.Name, nil)
		if err != nil {
			return nil, err
		}
		files = append(files, list...)
	}
	return files, nil
}

// texts are the files that a template gives: of all entities, or of one.
func (r *renderer) texts(name string, of *model.Entity) (files []render.File, err error) {
	add := func(to string, data any) {
		var b bytes.Buffer
		t, taken := r.taken[name]
		failed := r.templates.ExecuteTemplate(&b, name+".tmpl", data)
		switch at := path.Join(r.folder, to); {
		case failed != nil && taken:
			err = errors.Join(err, t.Wrong(fmt.Sprintf("%s: rendering %q: %s", t.File, at, render.PlacedIn(failed, r.taken))))
		case failed != nil:
			err = errors.Join(err, fmt.Errorf("rendering %s: %w", at, failed))
		case !project.Noticed(b.Bytes()):
			err = errors.Join(err, fault.New("put {{.Notice}} back at the beginning", "%s: what it gives for %s does not say where it comes from", t.File, at))
		default:
			files = append(files, render.File{Path: at, Text: b.Bytes(), By: t.File, Of: name})
		}
	}
	switch name {
	case "resource.ts":
		for _, e := range r.model.Entities {
			if of == nil || of == e {
				add("resources/"+e.File+".ts", r.resource(e))
			}
			if err != nil {
				return nil, err // the same would be said of each table
			}
		}
	case "calls.ts":
		if len(r.model.Exposed) > 0 {
			add(name, r.calls())
		}
	case "interface.ts":
		add(name, r.made())
	case "dates.ts":
		if r.client.Dates {
			add(name, r.dates())
		}
	case "index.ts":
		add(name, r.index())
	}
	return files, err
}

// madeView is what the template of the interface sees.
type madeView struct {
	Notice    string
	ETag      string // of the document, as the service gives it
	Document  string // its path; empty for openapi.json
	Base      string
	Resources []madeOf
}

// madeOf are the properties of a resource, as a list of texts.
type madeOf struct{ Path, Properties string }

// made is what the client was made from.
func (r *renderer) made() madeView {
	v := madeView{Notice: notice, ETag: openapi.Tag(r.document), Base: r.model.Base}
	if r.client.Version != "" {
		v.Document = strings.TrimPrefix(path.Join(r.model.Base, render.DocumentFile("")), "/")
	}
	for _, e := range r.model.Entities {
		var names []string
		for _, f := range e.Fields {
			if f.Hidden {
				continue
			}
			names = append(names, f.Column.Name)
			if f.Content != nil {
				names = append(names, f.Column.Name+"_url")
			}
		}
		for _, rel := range e.Relations {
			names = append(names, rel.JSON)
		}
		v.Resources = append(v.Resources, madeOf{e.Path, quotedList(names)})
	}
	return v
}

// copied is a file that is the same for all services, with a notice.
func (r *renderer) copied(name string) (string, error) {
	text, err := runtime.ReadFile("runtime/" + name)
	if err != nil {
		return "", fmt.Errorf("reading the client: %w", err)
	}
	if strings.HasSuffix(name, ".ts") {
		return notice + "\n//\n" + string(text), nil
	}
	return string(text), nil
}

// compilerOptions are those of the package. Its files name each other with their
// endings, which engines that run TypeScript as it is need.
const compilerOptions = `{
  "$comment": "Written by widegate from the schema, and written again when that changes. Edits are kept.",
  "compilerOptions": {
    "strict": true,
    "target": "ES2022",
    "module": "ESNext",
    "moduleResolution": "bundler",
    "lib": ["ES2023", "DOM", "DOM.Iterable", "DOM.AsyncIterable"],
    "types": [],
    "verbatimModuleSyntax": true,
    "erasableSyntaxOnly": true,
    "rewriteRelativeImportExtensions": true,
    "declaration": true,
    "outDir": "dist"
  },
  "include": ["*.ts", "resources/*.ts", "page/*.ts"]
}
`

// manifest is the package.json.
func (r *renderer) manifest() []byte {
	name, _ := json.Marshal(r.command + "-client")
	return []byte(`{
  "name": ` + string(name) + `,
  "description": "Written by widegate from the schema, and written again when that changes. Edits are kept.",
  "version": "0.0.0",
  "private": true,
  "type": "module",
  "sideEffects": false,
  "exports": {
    ".": { "types": "./dist/index.d.ts", "default": "./dist/index.js" },
    "./*": { "types": "./dist/resources/*.d.ts", "default": "./dist/resources/*.js" }
  },
  "files": ["dist"],
  "scripts": { "prepare": "tsc" },
  "devDependencies": { "typescript": "^5.8.0" }
}
`)
}

// resourceView is what the template of a resource sees.
type resourceView struct {
	Notice   string
	Entity   *model.Entity
	Imports  []importView
	Enums    []enumView
	Fields   []fieldView // of a row
	Written  []fieldView // of a new row
	New      string      // the type of a new row
	Embeds   []fieldView // relations that a new row may hold
	Key      string      // the type of the key
	KeyList  string      // the columns of the key, as a list of texts
	Ends     []fieldView // relations, with the type of each
	More     string      // of relations, what does not follow from their names; empty for none
	Contents string      // the type of the paths of binary columns that are resources
	Decimal  string      // the type of the names of decimals that are texts
	Kind     string      // of the resource: Table, View and so on
	Const    string      // its name as a value
}

// importView is what a file takes from another.
type importView struct{ Names, From string }

// fieldView is a property.
type fieldView struct {
	Name     string // as it stands in code
	Type     string
	Doc      string // a comment with its line ends, or nothing
	Optional bool
}

// enumView is a type of labels.
type enumView struct{ Name, Doc, Labels string }

func (r *renderer) resource(e *model.Entity) resourceView {
	v := resourceView{Notice: notice, Entity: e, Kind: kindOf(e), Const: Constant(e), KeyList: quotedList(keyNames(e)), More: moreOf(e)}
	imports := map[*model.Entity][]string{}
	use := func(of *model.Entity, name string) string {
		if of != e && !slices.Contains(imports[of], name) {
			imports[of] = append(imports[of], name)
		}
		return name
	}
	for _, en := range r.model.Enums {
		if r.home(en) == e {
			v.Enums = append(v.Enums, enumView{Name: en.Name, Doc: doc("", en.Comment), Labels: labels(en)})
		}
	}
	typeOf := func(f *model.Field) string {
		return r.typeOf(f, func(en *model.Enum) string { return r.enumName(en, e, use) })
	}
	var decimals, contents []string
	for _, f := range e.Fields {
		if !f.Hidden {
			v.Fields = append(v.Fields, fieldView{Name: property(f.Column.Name), Type: orNull(typeOf(f), f.Nullable), Doc: doc("  ", f.Column.Comment), Optional: f.Content != nil})
		}
		if !f.Hidden && f.Content != nil {
			v.Fields = append(v.Fields, fieldView{Name: property(f.Column.Name + "_url"), Type: "string | null", Doc: doc("  ", "Where "+f.Column.Name+" is, in lists."), Optional: true})
			contents = append(contents, f.Content.Path)
		}
		if f.Quoted() {
			decimals = append(decimals, f.Column.Name)
		}
		if f.Written() {
			v.Written = append(v.Written, fieldView{Name: property(f.Column.Name), Type: orNull(typeOf(f), f.Nullable), Doc: doc("  ", f.Column.Comment), Optional: true})
		}
	}
	v.Contents = union(contents)
	v.Decimal, v.Key = union(decimals), keyType(e, typeOf)
	for _, rel := range e.Relations {
		v.Ends = append(v.Ends, fieldView{Name: property(rel.JSON), Type: endOf(rel, use(rel.To, rel.To.Name+"Shape")), Doc: doc("    ", rel.Comment)})
		if rel.Embeds() {
			v.Embeds = append(v.Embeds, fieldView{Name: property(rel.JSON), Type: embedded(rel, use(rel.To, "New"+rel.To.Name))})
		}
	}
	v.New = v.newType()
	for _, of := range r.model.Entities {
		if names := imports[of]; names != nil {
			slices.Sort(names)
			v.Imports = append(v.Imports, importView{Names: strings.Join(names, ", "), From: "./" + of.File + ".ts"})
		}
	}
	return v
}

// enumName is the name of a type of labels, which its own file declares.
func (r *renderer) enumName(en *model.Enum, in *model.Entity, use func(*model.Entity, string) string) string {
	home := r.home(en)
	switch {
	case home == nil:
		return labels(en)
	case home != in:
		return use(home, en.Name)
	}
	return en.Name
}

// home is the entity in whose file a type of labels is; an earlier version of the
// interface has entities of its own.
func (r *renderer) home(en *model.Enum) *model.Entity {
	for _, e := range r.model.Entities {
		if en.Home != nil && (e == en.Home || e.Table == en.Home.Table) {
			return e
		}
	}
	return nil
}

// newType is the type of a new row: its fields, those that it must have, and the
// references that are given by columns or by the row itself. It is written out, since
// TypeScript finds no end of mapped types that lead back to themselves.
func (v *resourceView) newType() string {
	types := map[string]string{}
	for _, f := range append(slices.Clone(v.Written), v.Embeds...) {
		types[f.Name] = f.Type
	}
	must := func(names ...string) string {
		parts := make([]string, len(names))
		for i, name := range names {
			parts[i] = property(name) + ": " + types[property(name)]
		}
		return "{ " + strings.Join(parts, "; ") + " }"
	}
	text := v.Entity.Name + "Fields"
	if required := v.Entity.RequiredNew(nil); len(required) > 0 {
		text += " & " + must(required...)
	}
	for _, r := range v.Entity.Relations {
		if !r.References() {
			continue
		}
		if needed := v.Entity.NeededFor(r, nil); needed != nil {
			text += " & (" + must(needed...) + " | " + must(r.JSON) + ")"
		}
	}
	return text
}

func embedded(r *model.Relation, draft string) string {
	if brought := r.Brought(); len(brought) > 0 {
		draft = "$.Without<" + draft + ", " + union(brought) + ">"
	}
	if r.Kind == model.ToOne {
		return draft
	}
	return "readonly (" + draft + ")[]"
}

func endOf(r *model.Relation, shape string) string {
	switch {
	case r.Kind == model.ToOne:
		return "$.One<" + shape + ">"
	case r.Reverse() && r.To.Verbs != model.ReadOnly:
		return "$.Children<" + shape + ", " + union(r.Given()) + ">"
	case r.Linkable():
		return "$.Linked<" + shape + ">"
	}
	return "$.Many<" + shape + ">"
}

func kindOf(e *model.Entity) string {
	switch {
	case e.Verbs == model.Full && e.Bulk > 0:
		return "BulkTable"
	case e.Verbs == model.Full:
		return "Table"
	case e.Verbs == model.Append:
		return "Keyless"
	case len(e.Key) > 0:
		return "KeyedView"
	}
	return "View"
}

func keyNames(e *model.Entity) (names []string) {
	for _, f := range e.Key {
		names = append(names, f.Column.Name)
	}
	return names
}

func keyType(e *model.Entity, typeOf func(*model.Field) string) string {
	switch len(e.Key) {
	case 0:
		return "never"
	case 1:
		return typeOf(e.Key[0])
	}
	var parts []string
	for _, f := range e.Key {
		parts = append(parts, property(f.Column.Name)+": "+typeOf(f))
	}
	return "{ " + strings.Join(parts, "; ") + " }"
}

// moreOf are the facts of relations that do not follow from their names: their paths,
// and keys of several columns of rows that can be linked.
func moreOf(e *model.Entity) string {
	var paths, ends []string
	for _, r := range e.Relations {
		if strings.ReplaceAll(r.JSON, "_", "-") != r.Path {
			paths = append(paths, property(r.JSON)+": "+quote(r.Path))
		}
		if r.Linkable() && len(r.To.Key) > 1 {
			ends = append(ends, property(r.JSON)+": "+quotedList(keyNames(r.To)))
		}
	}
	var parts []string
	for _, of := range []struct {
		name string
		list []string
	}{{"paths", paths}, {"ends", ends}} {
		if of.list != nil {
			parts = append(parts, of.name+": { "+strings.Join(of.list, ", ")+" }")
		}
	}
	if parts == nil {
		return ""
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// datesView is what the template of the points in time sees.
type datesView struct {
	Notice    string
	Resources []datesOf
}

// datesOf are the points in time of a resource, and where its relations lead, as code.
type datesOf struct{ Path, Own, To string }

func (r *renderer) dates() datesView {
	v := datesView{Notice: notice}
	for _, e := range r.model.Entities {
		var own, to []string
		for _, f := range e.Fields {
			if f.Kind == model.KindTimestampTZ && !f.Hidden {
				own = append(own, f.Column.Name)
			}
		}
		for _, rel := range e.Relations {
			to = append(to, property(rel.JSON)+": "+quote(rel.To.Path))
		}
		v.Resources = append(v.Resources, datesOf{e.Path, quotedList(own), "{ " + strings.Join(to, ", ") + " }"})
	}
	return v
}

// callView is a named query or routine.
type callView struct {
	Name    string
	Doc     string
	Args    []fieldView
	Result  string // its type
	Method  string
	Path    string
	Returns string // how the result is taken out of the answer
	Dates   string // where points in time are in a row, as code; empty for texts
	AllOpen bool   // no argument is required
}

// callsView is what the template of the calls sees.
type callsView struct {
	Notice  string
	Imports []importView
	Calls   []callView
}

// indexView is what the template of the index sees.
type indexView struct {
	Notice      string
	Entities    []entryView
	Calls       bool
	Idempotency bool
	Exact       bool
	Dates       bool
	Base        string
}

// entryView is a resource of the index.
type entryView struct{ Const, File string }

func (r *renderer) index() indexView {
	v := indexView{Notice: notice, Calls: len(r.model.Exposed) > 0, Idempotency: r.model.API.Repeats != "", Exact: r.client.Exact, Dates: r.client.Dates, Base: r.model.Base}
	for _, e := range r.model.Entities {
		v.Entities = append(v.Entities, entryView{Constant(e), e.File})
	}
	return v
}

// reserved are words that cannot name a value, and those of the index itself.
var reserved = strings.Fields("await break case catch class const continue debugger default delete do else enum export extends false finally for function if import in instanceof new null return super switch this throw true try typeof var void while with yield let static implements interface package private protected public arguments eval client call connect batch options")

// Constant is the name of a resource as a value.
func Constant(e *model.Entity) string { return constant(e.Plural) }

func constant(plural string) string {
	name := []rune(plural)
	for i := range name {
		if i > 0 && (i+1 == len(name) || !unicode.IsUpper(name[i+1])) {
			break
		}
		name[i] = unicode.ToLower(name[i])
	}
	if slices.Contains(reserved, string(name)) {
		return string(name) + "Table"
	}
	return string(name)
}

// functions are those of the templates.
var functions = map[string]typecheck.Func{
	"quote": {Call: quote, Does: "a text as one of TypeScript"},
	"doc":   {Call: doc, Does: `doc "  " TEXT: a text as a comment, indented, with its line end`},
}

// quote writes a text as a string. What is not seen in an editor, or turns the
// direction of reading, is written by its number.
func quote(s string) string {
	text, _ := json.Marshal(strings.ToValidUTF8(s, "\ufffd"))
	var b strings.Builder
	for _, r := range string(text) {
		if unicode.Is(unicode.Cf, r) {
			for _, unit := range utf16.Encode([]rune{r}) {
				fmt.Fprintf(&b, "\\u%04x", unit)
			}
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

func quotedList(list []string) string {
	quoted := make([]string, len(list))
	for i, s := range list {
		quoted[i] = quote(s)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}

// union is the type of some texts.
func union(list []string) string {
	if len(list) == 0 {
		return "never"
	}
	quoted := make([]string, len(list))
	for i, s := range list {
		quoted[i] = quote(s)
	}
	return strings.Join(quoted, " | ")
}

func labels(en *model.Enum) string {
	var list []string
	for _, l := range en.Labels {
		list = append(list, l.Text)
	}
	return union(list)
}

// property is a name as it stands in an object.
func property(name string) string {
	plain := name != ""
	for i, r := range name {
		plain = plain && (r == '_' || r < unicode.MaxASCII && (unicode.IsLetter(r) || i > 0 && unicode.IsDigit(r)))
	}
	if plain && name != "__proto__" {
		return name
	}
	return quote(name)
}

// doc is a text as a comment above something, or nothing.
func doc(indent, text string) string {
	text = strings.Join(strings.FieldsFunc(strings.ToValidUTF8(text, "?"), func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) || unicode.Is(unicode.Cf, r) }), " ")
	if text == "" {
		return ""
	}
	return indent + "/** " + strings.ReplaceAll(text, "*/", "* /") + " */\n"
}

func orNull(typ string, nullable bool) string {
	if nullable {
		return typ + " | null"
	}
	return typ
}
