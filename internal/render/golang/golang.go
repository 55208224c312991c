// Package golang renders a model as Go: a package of entities and queries, a
// package of endpoints, a starter main and a copy of the runtime.
//
// The texts are laid out by the templates beside this file; what they say is
// decided in package model.
package golang

import (
	"bytes"
	"cmp"
	"embed"
	"errors"
	"fmt"
	"go/format"
	"go/scanner"
	"go/token"
	"maps"
	"path"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"text/template"
	"time"
	"unicode"
	"unicode/utf8"

	"widegate/gate"
	"widegate/internal/model"
	"widegate/internal/parallel"
	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/render/typecheck"
)

//go:embed templates/*.tmpl
var templates embed.FS

// Code is the Go code of a project.
type Code struct{}

// Files are the store and, where it is wanted, the service.
func (Code) Files(in render.Input) ([]render.File, error) {
	taken, _, err := render.TakenOf(in.Templates)
	if err != nil {
		return nil, err
	}
	return renderFrom(in, taken)
}

// Render renders everything but the runtime.
func Render(m *model.Model, t render.Target) ([]render.File, error) {
	return renderFrom(render.Input{Model: m, Target: t}, nil)
}

func renderFrom(in render.Input, taken map[string]render.Taken) ([]render.File, error) {
	r, err := newRenderer(in, taken)
	if err != nil {
		return nil, err
	}
	files, err := r.run()
	if t := in.Target; t.Script != nil && t.APIFolder != "" {
		text := "// Written from api.formatters of widegate.yaml, and written again when that changes.\n" + string(t.Script)
		files = append(files, render.File{Path: path.Join(t.APIFolder, formattersFile), Text: []byte(text)})
	}
	return files, err
}

// newRenderer has the templates, and knows what is to be rendered.
func newRenderer(in render.Input, taken map[string]render.Taken) (*renderer, error) {
	m, t := in.Model, in.Target
	if err := errors.Join(check(t), verify(m)); err != nil {
		return nil, err
	}
	r := &renderer{target: t, model: m, last: in.Last, taken: taken, again: in.Again, took: in.Took}
	root, err := template.New("").Funcs(typecheck.FuncMap(r.functions())).ParseFS(templates, "templates/*.tmpl")
	if err != nil {
		return nil, fmt.Errorf("reading the templates: %w", err)
	}
	if err := r.take(root); err != nil {
		return nil, err
	}
	r.templates = root
	r.plan()
	return r, nil
}

// plan notes what is to be rendered.
func (r *renderer) plan() {
	m, t := r.model, r.target
	r.add("store", false, path.Join(t.StoreFolder, "store.go"), r.store())
	for _, e := range m.Entities {
		r.add("entity", false, path.Join(t.StoreFolder, e.File+".go"), r.page(e, t.Package))
	}
	if t.Tests && slices.ContainsFunc(m.Entities, func(e *model.Entity) bool { return e.Verbs == model.Full }) {
		r.add("tests", false, path.Join(t.StoreFolder, "tables_test.go"), r.tests())
	}
	if t.APIFolder != "" {
		r.addService()
	}
	for _, f := range m.Queries {
		r.add("queries", false, path.Join(t.StoreFolder, f.File+".go"), r.queries(f))
	}
}

// addService adds what answers requests.
func (r *renderer) addService() {
	t := r.target
	r.add("service", false, path.Join(t.APIFolder, "service.go"), r.service())
	r.add("main", true, path.Join("cmd", t.Command(), "main.go"), r.main())
	for _, e := range r.model.Entities {
		r.add("resource", false, path.Join(t.APIFolder, e.File+".go"), r.page(e, path.Base(t.APIFolder)))
	}
	if len(r.model.Exposed) > 0 {
		r.add("calls", false, path.Join(t.APIFolder, "calls.go"), r.calls())
	}
	if t.Client != "" {
		r.add("client", false, path.Join(t.Client, "client.go"), r.client())
		if len(r.model.Exposed) > 0 {
			r.add("client_calls", false, path.Join(t.Client, "calls.go"), r.clientCalls())
		}
	}
	if r.model.API.Desk {
		r.add("desk", false, path.Join(t.APIFolder, "desk.go"), r.desk())
	}
}

type renderer struct {
	target    render.Target
	model     *model.Model
	templates *template.Template
	jobs      []job
	last      map[string][]byte       // texts of the last rendering, by path
	taken     map[string]render.Taken // texts of the project's in the place of built-in templates

	again func(path string) []byte // the text of last time, if it cannot be another one
	took  []string                 // the built-in templates that the project had taken then
}

// job is a file to render from a template.
type job struct {
	template string
	starter  bool
	path     string
	data     any
}

func (r *renderer) add(template string, starter bool, to string, data any) {
	r.jobs = append(r.jobs, job{template, starter, to, data})
}

// run renders the files, as many at a time as there are processors.
func (r *renderer) run() ([]render.File, error) {
	files := make([]render.File, len(r.jobs))
	faults := make([]error, len(r.jobs))
	parallel.Each(len(r.jobs), runtime.GOMAXPROCS(0), func(i int) { files[i], faults[i] = r.file(r.jobs[i]) })
	return files, errors.Join(r.first(faults)...)
}

// first are the errors, but of each template that the project has taken only one: the
// same would be said of each table.
func (r *renderer) first(faults []error) []error {
	said := map[string]bool{}
	for i, err := range faults {
		name := r.jobs[i].template
		if _, taken := r.taken[name+".go"]; err != nil && taken && said[name] {
			faults[i] = nil
		}
		said[name] = said[name] || err != nil
	}
	return faults
}

func (r *renderer) file(j job) (render.File, error) {
	name := j.template + ".go"
	if _, taken := r.taken[name]; !taken && !slices.Contains(r.took, name) {
		if text := r.again(j.path); text != nil {
			return render.File{Path: j.path, Text: text, Starter: j.starter, Of: name}, nil
		}
	}
	var text bytes.Buffer
	if err := r.templates.ExecuteTemplate(&text, j.template+".go.tmpl", j.data); err != nil {
		return render.File{}, r.failed(j, err)
	}
	clean, err := r.withImports(j.path, text.Bytes(), r.taken[name].Imports)
	if err != nil {
		return render.File{}, r.failed(j, err)
	}
	if err := r.marked(j, clean); err != nil {
		return render.File{}, err
	}
	return render.File{Path: j.path, Text: clean, Starter: j.starter, By: r.taken[name].File, Of: name}, nil
}

// importMark stands in the templates where the imports go.
const importMark = "\nimport ()\n"

// withImports puts the imports that a file uses where its template marks them,
// and lays it out as gofmt does. What was rendered last time is laid out already.
func (r *renderer) withImports(to string, text []byte, more []string) ([]byte, error) {
	used := qualifiers(text)
	used["embed"] = bytes.Contains(text, []byte("\n//go:embed "))
	var groups []string
	for _, group := range r.importable(more) {
		group = slices.DeleteFunc(group, func(in imported) bool { return !used[in.name] })
		slices.SortFunc(group, func(a, b imported) int { return strings.Compare(a.path(), b.path()) })
		lines := ""
		for _, in := range group {
			lines += "\t" + in.spec + "\n"
		}
		if lines != "" {
			groups = append(groups, lines)
		}
	}
	imports := "\nimport (\n" + strings.Join(groups, "\n") + ")\n"
	text = append(bytes.TrimSpace(bytes.Replace(text, []byte(importMark), []byte(imports), 1)), '\n')
	if last := r.last[to]; sameButLayout(text, last) {
		return last, nil
	}
	return format.Source(text)
}

// qualifiers are the names in a file that a dot follows and none precedes: those of
// packages, among others.
func qualifiers(text []byte) map[string]bool {
	var sc scanner.Scanner
	sc.Init(token.NewFileSet().AddFile("", -1, len(text)), text, nil, 0)
	names := map[string]bool{}
	name, before := "", token.ILLEGAL
	for {
		_, tok, literal := sc.Scan()
		switch {
		case tok == token.EOF:
			return names
		case tok == token.PERIOD && name != "":
			names[name] = true
		}
		name = ""
		if tok == token.IDENT && before != token.PERIOD {
			name = literal
		}
		before = tok
	}
}

// imported is a package that templates may use, with the spec that imports it.
type imported struct{ name, spec string }

func (in imported) path() string { return in.spec[strings.IndexByte(in.spec, '"'):] }

// importable are the standard library's packages, then the project's. more are those
// that a template of the project names.
func (r *renderer) importable(more []string) [][]imported {
	gate := r.target.GateImport()
	groups := [][]imported{
		{{"context", `"context"`}, {"embed", `_ "embed" // for openapi.json`}, {"json", `"encoding/json"`}, {"fmt", `"fmt"`}, {"http", `"net/http"`}, {"slog", `"log/slog"`}, {"os", `"os"`}, {"time", `"time"`}},
		{{"gate", strconv.Quote(gate)}, {"assist", strconv.Quote(gate + "/assist")}, {"remote", strconv.Quote(gate + "/remote")}, {"rest", strconv.Quote(gate + "/rest")}, {"tokens", strconv.Quote(gate + "/tokens")}, {"desk", strconv.Quote(gate + "/desk")}, {r.target.Package, r.target.StoreSpec()}},
	}
	for _, m := range more {
		name, at, named := strings.Cut(m, " ")
		spec := name + " " + strconv.Quote(at)
		if !named {
			name, at = path.Base(m), m
			spec = strconv.Quote(m)
		}
		in := 0
		if first, _, _ := strings.Cut(at, "/"); strings.Contains(first, ".") || strings.HasPrefix(at, r.target.Module+"/") {
			in = 1
		}
		if !slices.ContainsFunc(groups[in], func(known imported) bool { return known.name == name }) {
			groups[in] = append(groups[in], imported{name, spec})
		}
	}
	return groups
}

func (r *renderer) page(e *model.Entity, packageName string) page {
	p := page{
		Package: packageName, Store: r.target.Package, Base: r.model.Base, Entity: e, Title: upperFirst(e.Local),
		Source: fmt.Sprintf("%s %s", e.Table.Kind, comment(e.Table.FullName())),
	}
	for _, en := range r.model.Enums {
		if en.Home == e {
			p.Enums = append(p.Enums, en)
		}
	}
	for _, d := range r.model.Domains {
		if d.Home == e {
			p.Domains = append(p.Domains, d)
		}
	}
	for _, c := range r.model.Composites {
		if c.Home == e {
			p.Composites = append(p.Composites, c)
		}
	}
	return p
}

func (r *renderer) store() storeView {
	kinds := map[string]bool{}
	for _, e := range r.model.Entities {
		kinds[tableKind(e)] = true
	}
	return storeView{
		Package: r.target.Package, GateImport: r.target.GateImport(), Engine: r.target.Database.Packages[0],
		OpenDoc: r.target.Database.URLForm, Kinds: kinds,
	}
}

func (r *renderer) service() serviceView {
	return serviceView{
		Package: path.Base(r.target.APIFolder), GateImport: r.target.GateImport(), StoreSpec: r.target.StoreSpec(),
		Store: r.target.Package, Base: r.model.Base, Open: r.model.Open, Entities: r.model.Entities,
		API: r.model.API, Camel: r.model.API.Names == project.Camel, Allow: r.allow(), Limits: r.limits(), Versions: r.versions(), Exposed: r.model.Exposed,
	}
}

// desk is what the template of the pages for people sees.
func (r *renderer) desk() deskView {
	var looks []lookAt
	for _, e := range r.model.Entities {
		looks = append(looks, lookAt{e.Path, r.model.Look(e)})
	}
	return deskView{
		Package: path.Base(r.target.APIFolder), Title: cmp.Or(r.brand().Name, upperFirst(r.target.Command())), Looks: looks,
		Colour: r.brand().Colour, Icon: r.target.Icon, Script: r.target.Script != nil,
	}
}

// formattersFile holds the project's script of formatters in the api package.
const formattersFile = "formatters.js"

func (r *renderer) brand() project.Brand {
	if b := r.model.API.Brand; b != nil {
		return *b
	}
	return project.Brand{}
}

// columnLook is how a column looks, as fields of desk.ColumnLook.
func columnLook(c model.ColumnLook) string {
	var parts []string
	for _, field := range []struct{ name, value string }{{"Label", c.Label}, {"Help", c.Help}, {"Format", c.Format}, {"Input", c.Input}} {
		if field.value != "" {
			parts = append(parts, field.name+": "+strconv.Quote(field.value))
		}
	}
	if c.Aside {
		parts = append(parts, "Aside: true")
	}
	return strings.Join(parts, ", ")
}

// allow is who may do what, by the paths of resources.
func (r *renderer) allow() []allowed {
	if !r.model.API.Guarded() {
		return nil
	}
	list := []allowed{{"", rolesOf(r.model.API.Allow)}}
	for _, e := range r.model.Entities {
		if e.Allow != nil {
			list = append(list, allowed{e.Path, rolesOf(e.Allow)})
		}
	}
	return list
}

// limits are those that the project file gives, as fields of rest.Limits.
func (r *renderer) limits() string {
	l := r.model.API.Limits
	if l == nil {
		return ""
	}
	var parts []string
	if l.Body > 0 {
		parts = append(parts, fmt.Sprintf("Body: %d", l.Body))
	}
	if l.Requests > 0 {
		parts = append(parts, fmt.Sprintf("Requests: %d", l.Requests))
	}
	if l.Page > 0 {
		parts = append(parts, fmt.Sprintf("Page: %d", l.Page))
	}
	if l.Rows > 0 {
		parts = append(parts, fmt.Sprintf("Rows: %d", l.Rows))
	}
	if d := l.Timeout(); d > 0 {
		parts = append(parts, fmt.Sprintf("Statement: %d * time.Millisecond", max(1, d.Milliseconds())))
	}
	return strings.Join(parts, ", ")
}

func rolesOf(a *project.Allow) string {
	var parts []string
	for _, verb := range []struct {
		name  string
		roles []string
	}{{"Read", a.Read}, {"Create", a.Create}, {"Change", a.Change}, {"Delete", a.Delete}} {
		if len(verb.roles) > 0 {
			parts = append(parts, fmt.Sprintf("%s: []string{%s}", verb.name, quoteList(verb.roles)))
		}
	}
	if len(a.Rows) > 0 {
		parts = append(parts, "Rows: map[string]string{"+eachOf(a.Rows, strconv.Quote)+"}")
	}
	if len(a.Columns) > 0 {
		parts = append(parts, "Columns: map[string]rest.AllowColumn{"+eachOf(a.Columns, columnRoles)+"}")
	}
	return strings.Join(parts, ", ")
}

// eachOf writes the entries of a map in order.
func eachOf[V any](entries map[string]V, value func(V) string) string {
	var list []string
	for _, key := range slices.Sorted(maps.Keys(entries)) {
		list = append(list, strconv.Quote(key)+": "+value(entries[key]))
	}
	return strings.Join(list, ", ")
}

func columnRoles(c project.AllowColumn) string {
	var parts []string
	if c.Read != nil {
		parts = append(parts, "Read: []string{"+quoteList(c.Read)+"}")
	}
	if c.Change != nil {
		parts = append(parts, "Change: []string{"+quoteList(c.Change)+"}")
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

func (r *renderer) versions() []version {
	var list []version
	for _, v := range r.model.Versions {
		list = append(list, version{v, "openAPI" + upperFirst(v.Name), render.DocumentFile(v.Name)})
	}
	return list
}

// formerOf is how a resource was, as fields of rest.Former.
func formerOf(f model.FormerResource) string {
	var parts []string
	if f.Path != "" {
		parts = append(parts, "Path: "+strconv.Quote(f.Path))
	}
	if f.Hidden {
		parts = append(parts, "Hidden: true")
	}
	for _, group := range []struct {
		name string
		list []model.Renamed
	}{{"Columns", f.Columns}, {"Relations", f.Relations}, {"Values", f.Values}} {
		if len(group.list) == 0 {
			continue
		}
		entries := make([]string, len(group.list))
		for i, n := range group.list {
			entries[i] = strconv.Quote(n.Name) + ": " + strconv.Quote(n.Former)
		}
		parts = append(parts, group.name+": map[string]string{"+strings.Join(entries, ", ")+"}")
	}
	return strings.Join(parts, ", ")
}

// goDay is a date as Go code.
func goDay(t time.Time) string {
	return fmt.Sprintf("time.Date(%d, time.%s, %d, 0, 0, 0, 0, time.UTC)", t.Year(), t.Month(), t.Day())
}

// tests is what the template of the tables' tests sees.
func (r *renderer) tests() testsView {
	var tables []*model.Entity
	for _, e := range r.model.Entities {
		if e.Verbs == model.Full {
			tables = append(tables, e)
		}
	}
	view := testsView{
		Store: r.target.Package, StoreSpec: r.target.StoreSpec(), GateImport: r.target.GateImport(), URL: r.target.Database.URL,
		Up: strings.TrimSuffix(strings.Repeat("../", strings.Count(r.target.StoreFolder, "/")+1), "/"), Entities: tables,
	}
	if len(tables) > 0 {
		view.First = tables[0]
	}
	return view
}

func (r *renderer) main() mainView {
	return mainView{
		Command: r.target.Command(), GateImport: r.target.GateImport(), APIImport: path.Join(r.target.Module, r.target.APIFolder),
		StoreSpec: r.target.StoreSpec(), Store: r.target.Package, API: path.Base(r.target.APIFolder),
		URL: r.target.Database.URL, Example: r.target.Database.Example, Relative: r.target.Database.Relative,
	}
}

// functions are those of the built-in templates.
func (r *renderer) functions() map[string]typecheck.Func {
	return map[string]typecheck.Func{
		"quote":         {Call: strconv.Quote, Does: "a text as a Go string"},
		"quoteList":     {Call: quoteList, Does: "texts as Go strings, with commas"},
		"doc":           {Call: doc, Does: "a text as a comment of some lines"},
		"oneLine":       {Call: comment, Does: "a text that fits into one line of comment"},
		"title":         {Call: upperFirst, Does: "hive → Hive"},
		"jsonTag":       {Call: r.jsonTag, Does: "the name of a field in JSON"},
		"outward":       {Call: r.model.Outward, Does: "a name as callers see it"},
		"entityDoc":     {Call: entityDoc, Does: "the comment of an entity"},
		"enumDoc":       {Call: enumDoc, Does: "the comment of an enum"},
		"domainDoc":     {Call: domainDoc, Does: "the comment of a domain"},
		"compositeDoc":  {Call: compositeDoc, Does: "the comment of a composite type"},
		"partPointer":   {Call: func(f *model.Field) string { return pointerTo(f, "c."+f.Name) }, Does: "the pointer to a part of c"},
		"slotType":      {Call: slotType, Does: "the type of the field that holds related rows"},
		"floatFields":   {Call: floatFields, Does: "the fields that may be NaN or infinite"},
		"floatType":     {Call: floatType, Does: "the type by which such a field is written as JSON"},
		"uniqueKeys":    {Call: uniqueKeys, Does: "the unique keys of an entity, for upserts"},
		"columnNames":   {Call: columnNames, Does: "the names of the columns of fields"},
		"compositeKey":  {Call: func(e *model.Entity) bool { return len(e.Key) > 1 }, Does: "whether the key has several columns"},
		"tableType":     {Call: tableType, Does: "the type that a table embeds"},
		"tableValue":    {Call: tableValue, Does: "its value"},
		"columnType":    {Call: columnType, Does: "the type of a column of a table"},
		"finderArgs":    {Call: finderArgs, Does: "the parameters of a finder"},
		"finderConds":   {Call: finderConds, Does: "the conditions of a finder"},
		"finderKey":     {Call: finderKey, Does: "what a finder finds by, in words"},
		"fieldType":     {Call: FieldType, Does: "the Go type of a field"},
		"valueType":     {Call: valueType, Does: "the Go type of the values of a field"},
		"baseType":      {Call: baseType, Does: "the same without the name of a domain"},
		"keyType":       {Call: KeyType, Does: "the Go type of the key of an entity"},
		"signature":     {Call: signature, Does: "the parameters of a query, behind db"},
		"queryDoc":      {Call: queryDoc, Does: "the comment of a query"},
		"queryResult":   {Call: queryResult, Does: "the results of a query"},
		"querySteps":    {Call: querySteps, Does: "the statements that make a query"},
		"queryReader":   {Call: queryReader, Does: "the expression that runs a query and reads its rows"},
		"rowFields":     {Call: rowFields, Does: "the statements that give the fields of a row"},
		"columnValue":   {Call: columnValue, Does: "the value of a column of a table"},
		"relationValue": {Call: relationValue, Does: "the value of a relation of a table"},
		"columnFacts":   {Call: r.columnFacts, Does: "the facts of a column, as fields of gate.Column"},
		"fieldPointer":  {Call: fieldPointer, Does: "the pointer to a field of e"},
		"shapeKey":      {Call: shapeKey, Does: "the type of the key of a shape"},
		"canInsert":     {Call: func(e *model.Entity) bool { return e.Verbs != model.ReadOnly }, Does: "whether rows can be added"},
		"routes":        {Call: routes, Does: "the routes of a resource, as Go code"},
		"formerOf":      {Call: formerOf, Does: "how a resource was, as fields of rest.Former"},
		"columnLook":    {Call: columnLook, Does: "how a column looks, as fields of desk.ColumnLook"},
		"callSteps":     {Call: r.callSteps, Does: "the statements that answer a call"},
		"clientSteps":   {Call: r.clientSteps, Does: "the statements that make a call of a service"},
		"clientParams":  {Call: clientParams, Does: "the parameters of a call of a service, behind db"},
		"clientResult":  {Call: clientResult, Does: "the results of a call of a service"},
		"join":          {Call: strings.Join, Does: `join LIST ", "`},
		"goDay":         {Call: goDay, Does: "a date as Go code"},
	}
}

func upperFirst(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(r)) + s[n:]
}

func lowerFirst(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToLower(r)) + s[n:]
}

// comment makes a text of the database fit for one line of comment.
func comment(s string) string {
	words := strings.FieldsFunc(strings.ToValidUTF8(s, "?"), unsafeInComment)
	for i, word := range words {
		if strings.HasPrefix(word, "+build") { // gofmt takes it for a constraint, and moves it
			words[i] = strconv.Quote("+build") + strings.TrimPrefix(word, "+build")
		}
	}
	return strings.Join(words, " ")
}

// unsafeInComment holds for what separates words, and for what would end the
// comment or hide what follows it.
func unsafeInComment(r rune) bool {
	return unicode.IsSpace(r) || unicode.IsControl(r) || unicode.Is(unicode.Cf, r)
}

// docWidth is where comments are broken.
const docWidth = 96

// doc lays a text out as a comment.
func doc(text string) string {
	var lines []string
	line := "//"
	for _, word := range strings.Fields(comment(text)) {
		if len(line)+1+len(word) > docWidth && line != "//" {
			lines = append(lines, line)
			line = "//"
		}
		line += " " + word
	}
	return strings.Join(append(lines, line), "\n")
}

func entityDoc(e *model.Entity) string {
	text := comment(e.Table.Comment)
	if text == "" {
		return fmt.Sprintf("%s is a row of the %s %s.", e.Name, e.Table.Kind, comment(e.Table.FullName()))
	}
	for _, article := range []string{"A ", "An ", "The ", "One "} {
		if strings.HasPrefix(text, article) {
			return e.Name + " is " + lowerFirst(sentence(text))
		}
	}
	return fmt.Sprintf("%s is a row of the %s %s. %s", e.Name, e.Table.Kind, comment(e.Table.FullName()), sentence(text))
}

func enumDoc(e *model.Enum) string {
	text := comment(e.Comment)
	if text == "" && e.Several {
		return e.Name + " is any number of some labels, between commas and in their order."
	}
	if text == "" {
		return e.Name + " is one of a fixed set of labels."
	}
	for _, question := range []string{"How ", "What ", "Which ", "Who ", "Where ", "When ", "Whether "} {
		if strings.HasPrefix(text, question) {
			return e.Name + " says " + lowerFirst(sentence(text))
		}
	}
	return e.Name + ": " + lowerFirst(sentence(text))
}

func domainDoc(d *model.Domain) string {
	return strings.TrimSpace(fmt.Sprintf("%s is the %s. %s", d.Name, comment(d.SQL), comment(d.Comment)))
}

func compositeDoc(c *model.Composite) string {
	return strings.TrimSpace(fmt.Sprintf("%s is a value of the %s. %s", c.Name, comment(c.SQL), comment(c.Comment)))
}

func sentence(s string) string {
	if strings.HasSuffix(s, ".") || strings.HasSuffix(s, "!") || strings.HasSuffix(s, "?") {
		return s
	}
	return s + "."
}

// jsonTag is the name of a field in JSON. A name that cannot stand in a tag is
// left to the service, which writes rows without them.
func (r *renderer) jsonTag(f *model.Field) string {
	name := r.model.Outward(f.Column.Name)
	if f.Hidden || strings.ContainsFunc(name, func(r rune) bool { return strings.ContainsRune("\"`,\\", r) || r != ' ' && unsafeInComment(r) }) {
		return "-"
	}
	return name
}

func quoteList(list []string) string {
	quoted := make([]string, len(list))
	for i, s := range list {
		quoted[i] = strconv.Quote(s)
	}
	return strings.Join(quoted, ", ")
}

func slotType(r *model.Relation) string {
	if r.Kind == model.ToOne {
		return "*" + r.To.Type
	}
	return "[]*" + r.To.Type
}

// tableKinds are the runtime's types for what can be done with a table.
func tableKind(e *model.Entity) string {
	switch {
	case e.Verbs == model.Full:
		return "Table"
	case e.Verbs == model.Append:
		return "Keyless"
	case len(e.Key) > 0:
		return "KeyedView"
	}
	return "View"
}

// tableType is what a table's variable embeds: an alias, whose name is not
// exported, so that completion in an editor shows what it offers and not it.
func tableType(e *model.Entity) string {
	kind := lowerFirst(tableKind(e))
	if len(e.Key) == 0 {
		return fmt.Sprintf("%s[*%s]", kind, e.Type)
	}
	return fmt.Sprintf("%s[*%s, %s]", kind, e.Type, KeyType(e))
}

func tableValue(e *model.Entity) string {
	kind := tableKind(e)
	if len(e.Key) == 0 {
		return fmt.Sprintf("%s: gate.New%s(%sDef)", lowerFirst(kind), kind, e.Local)
	}
	parts := "k"
	if len(e.Key) > 1 {
		var fields []string
		for _, f := range e.Key {
			fields = append(fields, pointerTo(f, "k."+f.Name))
		}
		parts = strings.Join(fields, ", ")
	} else if e.Key[0].Enum != nil {
		parts = "gate.Label(k)"
	}
	return fmt.Sprintf("%s: gate.New%s(%sDef, func(k *%s) []any { return []any{%s} })", lowerFirst(kind), kind, e.Local, KeyType(e), parts)
}

func columnType(e *model.Entity, f *model.Field) string {
	switch class := columnClass(f); {
	case strings.HasSuffix(class, "Text"), strings.HasSuffix(class, "Document"):
		return fmt.Sprintf("*gate.%s[*%s]", class, e.Type)
	default:
		return fmt.Sprintf("*gate.%s[*%s, %s]", class, e.Type, columnOperand(f))
	}
}

func columnValue(e *model.Entity, f *model.Field) string {
	switch class := columnClass(f); {
	case strings.HasSuffix(class, "Text"), strings.HasSuffix(class, "Document"):
		return fmt.Sprintf("gate.New%s(%sDef, %q)", class, e.Local, f.Column.Name)
	default:
		return fmt.Sprintf("gate.New%s[%s](%sDef, %q)", class, columnOperand(f), e.Local, f.Column.Name)
	}
}

// columnOperand is the type of the values that a column is compared with.
func columnOperand(f *model.Field) string {
	if f.Element != nil && !f.Computed && (f.Kind == model.KindList || f.Kind == model.KindRange) {
		return valueType(f.Element)
	}
	return valueType(f)
}

// columnClass says which conditions a column offers, and how it can be set.
func columnClass(f *model.Field) string {
	class := goKinds[f.Kind].class
	switch {
	case f.Computed && (class == "Text" || class == "Ordered"):
		return "Computed" + class
	case f.Computed:
		return "ComputedValue"
	case f.Nullable:
		return "Nullable" + class
	}
	return class
}

// floatFields are the fields whose type encoding/json cannot write every value
// of.
func floatFields(e *model.Entity) []*model.Field {
	var list []*model.Field
	for _, f := range e.Fields {
		if !f.Nullable && (f.Kind == model.KindFloat64 || f.Kind == model.KindFloat32) {
			list = append(list, f)
		}
	}
	return list
}

// floatType is the runtime's type that can.
func floatType(f *model.Field) string {
	if f.Kind == model.KindFloat32 {
		return "gate.Float32"
	}
	return "gate.Float"
}

// uniqueKeys are the keys besides the primary one by which rows can be stored.
func uniqueKeys(e *model.Entity) []model.Finder {
	if e.Verbs != model.Full {
		return nil
	}
	return e.Finders
}

func columnNames(fields []*model.Field) []string {
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.Column.Name
	}
	return names
}

func finderArgs(f model.Finder) string {
	args := make([]string, len(f.Args))
	for i, name := range f.Args {
		args[i] = name + " " + valueType(f.Fields[i])
	}
	return strings.Join(args, ", ")
}

func finderConds(f model.Finder) string {
	conds := make([]string, len(f.Args))
	for i, name := range f.Args {
		conds[i] = fmt.Sprintf("t.%s.Is(%s)", f.Fields[i].Var, name)
	}
	return strings.Join(conds, ", ")
}

// finderKey names the columns of a unique key in prose.
func finderKey(f model.Finder) string {
	names := make([]string, len(f.Fields))
	for i, field := range f.Fields {
		names[i] = comment(field.Column.Name)
	}
	if last := len(names) - 1; last > 0 {
		return strings.Join(names[:last], ", ") + " and " + names[last]
	}
	return names[0]
}

func relationValue(e *model.Entity, r *model.Relation) string {
	slot := fmt.Sprintf("func(e *%s) *%s { return &e.%s }", e.Type, slotType(r), r.Name)
	on := "gate.On" + pairList(r.Pairs)
	if r.Join != nil {
		schema := ""
		if r.Join.Table.Schema != "" {
			schema = fmt.Sprintf("Schema: %q, ", r.Join.Table.Schema)
		}
		on = fmt.Sprintf("gate.Join{%sName: %q, Parent: gate.On%s, Child: gate.On%s}",
			schema, r.Join.Table.Name, pairList(r.Join.Parent), pairList(r.Join.Child))
	}
	kind := string(r.Kind)
	if r.Kind == model.ToOne && !r.Owned {
		kind = "OneToOne"
	}
	return fmt.Sprintf("gate.New%s(%sDef, %sDef, %s, %s)", kind, e.Local, r.To.Local, on, slot)
}

func pairList(pairs [][2]string) string {
	texts := make([]string, len(pairs))
	for i, p := range pairs {
		texts[i] = fmt.Sprintf("{%q, %q}", p[0], p[1])
	}
	return "{" + strings.Join(texts, ", ") + "}"
}

// columnFacts lists what the runtime is told of a column, but for its field.
func (r *renderer) columnFacts(f *model.Field) string {
	c := r.model.Facts(f)
	var b strings.Builder
	fmt.Fprintf(&b, "Name: %q, Type: gate.Type%s, ", c.Name, f.Kind)
	if flags := flagNames(c.Flags); len(flags) > 0 {
		fmt.Fprintf(&b, "Flags: %s, ", strings.Join(flags, " | "))
	}
	number := func(name string, n int) {
		if n > 0 {
			fmt.Fprintf(&b, "%s: %d, ", name, n)
		}
	}
	text := func(name, s string) {
		if s != "" {
			fmt.Fprintf(&b, "%s: %q, ", name, s)
		}
	}
	number("Max", c.Max)
	number("Precision", c.Precision)
	number("Scale", c.Scale)
	if c.Labels != nil {
		fmt.Fprintf(&b, "Labels: []string{%s}, ", quoteList(c.Labels))
	}
	text("Least", c.Least)
	text("Most", c.Most)
	text("Above", c.Above)
	text("Below", c.Below)
	text("Default", c.Default)
	text("Cast", c.Cast)
	return b.String()
}

// flagNames are the runtime's names of flags.
func flagNames(flags gate.Flag) []string {
	var names []string
	for _, flag := range []struct {
		flag gate.Flag
		name string
	}{
		{gate.Key, "Key"}, {gate.Auto, "Auto"}, {gate.HasDefault, "HasDefault"}, {gate.Generated, "Generated"}, {gate.Nullable, "Nullable"}, {gate.Hidden, "Hidden"},
		{gate.Opaque, "Opaque"}, {gate.CreatedAt, "CreatedAt"}, {gate.UpdatedAt, "UpdatedAt"}, {gate.DeletedAt, "DeletedAt"}, {gate.Version, "Version"}, {gate.WholeSeconds, "WholeSeconds"},
	} {
		if flags&flag.flag != 0 {
			names = append(names, "gate."+flag.name)
		}
	}
	return names
}

func fieldPointer(f *model.Field) string { return pointerTo(f, "e."+f.Name) }

// pointerTo points the runtime at a value. An enum has a type that the runtime
// does not know, so it is wrapped.
func pointerTo(f *model.Field, value string) string {
	switch {
	case f.Enum != nil && f.Nullable:
		return "gate.MaybeLabel(&" + value + ")"
	case f.Enum != nil:
		return "gate.Label(&" + value + ")"
	}
	return "&" + value
}

// shapeKey is the type of the key as the api package names it.
func shapeKey(store string, e *model.Entity) string {
	switch {
	case len(e.Key) == 0:
		return "rest.NoKey"
	case len(e.Key) > 1, e.Key[0].Enum != nil:
		return store + "." + KeyType(e)
	}
	return KeyType(e)
}

// routes are those of an entity as code, one a line.
func routes(store string, e *model.Entity) []string {
	var lines []string
	for _, r := range e.Routes() {
		lines = append(lines, fmt.Sprintf("rest.On(%q, %s)", r.Pattern, handler(store, e, r)))
	}
	return lines
}

// handler is what answers a route.
func handler(store string, e *model.Entity, r model.Route) string {
	table := store + "." + e.Plural
	own := "s." + e.Local
	switch r.Does {
	case model.DoesList:
		return "s.list" + e.Plural
	case model.DoesSummarize:
		return fmt.Sprintf("rest.Summarize(%s)", own)
	case model.DoesGet:
		return "s.get" + e.Name
	case model.DoesCreate:
		return fmt.Sprintf("rest.Create(%s)", own)
	case model.DoesReplace:
		return fmt.Sprintf("rest.Replace(%s)", own)
	case model.DoesChange:
		return fmt.Sprintf("rest.Change(%s)", own)
	case model.DoesRemove:
		return fmt.Sprintf("rest.Remove(%s)", own)
	case model.DoesChangeMany:
		return fmt.Sprintf("rest.ChangeMany(%s, %d)", own, e.Bulk)
	case model.DoesRemoveMany:
		return fmt.Sprintf("rest.RemoveMany(%s, %d)", own, e.Bulk)
	case model.DoesSendContent:
		return fmt.Sprintf("rest.SendContent(%s, %s)", own, content(r.Content))
	case model.DoesStoreContent:
		return fmt.Sprintf("rest.StoreContent(%s, %s)", own, content(r.Content))
	case model.DoesRemoveContent:
		return fmt.Sprintf("rest.RemoveContent(%s, %s)", own, content(r.Content))
	}
	relation, to := table+"."+r.Relation.Var, "s."+r.Relation.To.Local
	switch r.Does {
	case model.DoesGetUnder:
		return fmt.Sprintf("rest.GetUnder(%s, %s.Of, %s)", own, relation, to)
	case model.DoesListUnder:
		return fmt.Sprintf("rest.ListUnder(%s, %s.Of, %s)", own, relation, to)
	case model.DoesCreateUnder:
		return fmt.Sprintf("rest.CreateUnder(%s, %s, %s)", own, relation, to)
	case model.DoesLink:
		return fmt.Sprintf("rest.Link(%s, %s, %s)", own, relation, to)
	}
	return fmt.Sprintf("rest.Unlink(%s, %s, %s)", own, relation, to)
}

// content is a binary column as the runtime is told of it.
func content(f *model.Field) string {
	c := f.Content
	what := fmt.Sprintf("Column: %q", f.Column.Name)
	if c.Media != "" {
		what += fmt.Sprintf(", Media: %q", c.Media)
	}
	if c.MediaColumn != nil {
		what += fmt.Sprintf(", MediaColumn: %q", c.MediaColumn.Column.Name)
	}
	if c.Most > 0 {
		what += fmt.Sprintf(", Most: %d", c.Most)
	}
	return "rest.Content{" + what + "}"
}
