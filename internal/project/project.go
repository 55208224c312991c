// Package project holds what a developer says about their project: the file
// widegate.yaml, in which everything has a default, and the ledger .widegate/,
// which remembers the names that were given and the texts that were written.
package project

import (
	"bytes"
	"errors"
	"fmt"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"widegate/internal/catalog"
	"widegate/internal/fault"
)

// FileName is that of the project file.
const FileName = "widegate.yaml"

// TemplatesFolder is that of a project's own templates.
const TemplatesFolder = "templates"

// Project is a project file, complete with defaults.
type Project struct {
	Root     string            `yaml:"-"` // the folder of the file
	File     string            `yaml:"-"` // the file
	Database Database          `yaml:"database"`
	Tables   Tables            `yaml:"tables"`
	Code     Code              `yaml:"code"`
	API      API               `yaml:"api"`
	Entities map[string]Entity `yaml:"entities"` // by table, qualified outside the connection's own schema

	Queries   string     `yaml:"queries"`  // the folder of named queries
	Routines  []string   `yaml:"routines"` // patterns of the functions and procedures to call; all when left out
	Relations []Relation `yaml:"relations"`

	Words Words `yaml:"words"`

	Clients Clients `yaml:"clients"` // code for those who call the service

	Templates []string                  `yaml:"templates"` // folders of templates, besides that of the project
	Settings  map[string]map[string]any `yaml:"settings"`  // of templates, by their names

	Renamed map[string]string `yaml:"renamed"` // what was renamed in the schema: hive.title: name; an empty name was dropped
}

// Words are those that names are made of, besides what English says.
type Words struct {
	Prefix      string            `yaml:"prefix"`      // that tables share and names leave off: app_
	Initialisms []string          `yaml:"initialisms"` // words as names have them: GPX, OAuth
	Plurals     map[string]string `yaml:"plurals"`     // by singulars; a word that has none is its own
}

// Database says where the schema comes from.
type Database struct {
	Engine  string   `yaml:"engine"`
	URL     string   `yaml:"url"`
	Written string   `yaml:"-" json:"-"` // the URL as the file has it, with its variables
	DDL     []string `yaml:"ddl"`
	Scratch string   `yaml:"scratch"` // a server that runs the scripts of DDL in a throw-away database
	Schemas []string `yaml:"schemas"`
}

// Relation declares a reference that the schema does not, or names the two
// sides of one that it does.
type Relation struct {
	Table   string   `yaml:"table"`
	Columns []string `yaml:"columns"`
	To      string   `yaml:"to"`
	Target  []string `yaml:"target"`  // columns of To; its key when left out
	Name    string   `yaml:"name"`    // what the row referred to is called, as in Hive
	Reverse string   `yaml:"reverse"` // what the referring rows are called, as in Inspections
}

// Tables chooses what is generated, by patterns in which * is any text.
type Tables struct {
	Take   []string `yaml:"take"`
	Leave  []string `yaml:"leave"`
	Follow *bool    `yaml:"follow"` // what the taken tables refer to comes along
}

// Code says where the store package goes.
type Code struct {
	Folder  string `yaml:"folder"`
	Package string `yaml:"package"`
	Tests   bool   `yaml:"tests"` // a test for each entity is written too
}

// API says where the api package goes and how it answers.
type API struct {
	None   bool   `yaml:"none"` // the store alone is written, without a service
	Folder string `yaml:"folder"`
	Base   string `yaml:"base"`
	Access string `yaml:"access"` // open: other addresses than the loopback one are allowed

	Tokens  *Tokens  `yaml:"tokens"`  // who sends a request is told by bearer tokens
	KeyFile string   `yaml:"keyfile"` // or by API keys, whose hashes are in this file
	Allow   *Allow   `yaml:"allow"`   // what roles may do with resources that say nothing themselves
	CORS    []string `yaml:"cors"`    // origins of pages that may call the service
	Repeats string   `yaml:"repeats"` // the table that keeps answers to requests with an Idempotency-Key
	Limits  *Limits  `yaml:"limits"`  // of what a request may cost
	IfMatch bool     `yaml:"ifmatch"` // changes must say by If-Match which version they mean
	Bulk    int      `yaml:"bulk"`    // the most rows that one PATCH or DELETE of a collection touches; none can when left out
	Desk    bool     `yaml:"desk"`    // pages for people are served too, at /desk/
	Brand   *Brand   `yaml:"brand"`   // how these look
	// Formatters is a script in the folder of the project: it adds functions to
	// desk.formatters, which show columns whose format is own NAME.
	Formatters string `yaml:"formatters"`
	Docs       *bool  `yaml:"docs"`   // a page tells of the interface, at /docs; it does unless this is false
	Gather     *bool  `yaml:"gather"` // requests for single rows are put together where many come at once; they are unless this is false
	// Document is who sees the OpenAPI document, its page and the metrics, in place
	// of those who may use what they tell of: anybody or nobody.
	Document string `yaml:"document"`

	Assist *Assist `yaml:"assist"` // functions for assistants are served too, at /mcp

	Names string `yaml:"names"` // camel: properties are called keeperId in place of keeper_id

	Expose   map[string][]string `yaml:"expose"`   // named queries and routines, by the names of their functions, and the roles that may call them
	Versions map[string]Version  `yaml:"versions"` // earlier versions of the interface that are answered still
}

// Assist says which functions assistants are offered (Model Context Protocol).
type Assist struct {
	Write bool `yaml:"write"` // changes too; reading only when left out
	// Form is plain, with a function for each thing that can be done with each table, or
	// compact, with a handful that take the table as an argument; by the number of
	// functions when left out.
	Form string `yaml:"form"`
	// Offer has the plain functions that are offered, and the names that they get, which
	// may be empty; all are when left out.
	Offer   map[string]string `yaml:"offer"`
	Prompts string            `yaml:"prompts"` // a folder of prompts for frequent jobs, one for each *.md
	Unasked bool              `yaml:"unasked"` // deletes and changes of many rows are made without asking whoever uses the assistant
}

// Clients are the clients that are written for the service.
type Clients struct {
	TypeScript *TypeScript `yaml:"typescript"` // a package for browsers and servers
	Go         *GoClient   `yaml:"go"`         // a package that stands in the place of the database
}

// GoClient is the client in Go.
type GoClient struct {
	Folder string `yaml:"folder"` // below the project, such as client
}

// TypeScript is the client in TypeScript.
type TypeScript struct {
	Folder string `yaml:"folder"` // below the project, such as clients/typescript
	Exact  bool   `yaml:"exact"`  // integers beyond 2^53 are bigints; an error when left out
	Page   bool   `yaml:"page"`   // a page on all resources is written too, to start from
	Dates  bool   `yaml:"dates"`  // points in time are Dates, which keep milliseconds; texts when left out
	// Version is the version of api.versions that the client is for; the interface as it
	// is when left out.
	Version string `yaml:"version"`
}

// Brand is the name, icon and colour of the pages.
type Brand struct {
	Name   string `yaml:"name"`   // in place of the module's
	Icon   string `yaml:"icon"`   // a file in the folder of the project: .svg or .png, of 64 kB at most
	Colour string `yaml:"colour"` // of buttons and marks, as #8a4b08
}

// Entity overrides what would be chosen for a table.
type Entity struct {
	Name   string   `yaml:"name"`
	Plural string   `yaml:"plural"`
	Path   string   `yaml:"path"`
	Key    []string `yaml:"key"`
	As     string   `yaml:"as"`    // the table whose rows a view shows
	Write  bool     `yaml:"write"` // rows are changed through the view
	Allow  *Allow   `yaml:"allow"` // what roles may do with it
	Bulk   *int     `yaml:"bulk"`  // in place of api.bulk

	Label string   `yaml:"label"` // what the rows are called on pages
	Group string   `yaml:"group"` // the heading under which they are listed
	Help  string   `yaml:"help"`  // in place of the comment of the schema
	Tells string   `yaml:"tells"` // the column that tells a row
	Order []string `yaml:"order"` // columns, in the order in which they are shown

	Columns map[string]Column `yaml:"columns"`
}

// Column overrides what would be chosen for a column.
type Column struct {
	Name   string `yaml:"name"`
	Hidden *bool  `yaml:"hidden"`
	Role   string `yaml:"role"`  // created, updated, deleted, version or none
	Media  string `yaml:"media"` // of a binary column: a media type such as image/*, or the column that holds it
	Most   int    `yaml:"most"`  // of a binary column: bytes that are taken

	Label  string `yaml:"label"`  // what it is called on pages
	Help   string `yaml:"help"`   // in place of the comment of the schema
	Format string `yaml:"format"` // such as currency EUR, percent, relative, mail, link
	Input  string `yaml:"input"`  // long: a large field
	Aside  bool   `yaml:"aside"`  // is shown in tables on request only
}

// Camel is the value of API.Names that spells names of properties like this: keeperId.
const Camel = "camel"

// Open is the value of API.Access that lets anybody in.
const Open = "open"

// Default is a project of which nothing is said.
func Default() *Project {
	p := &Project{}
	p.setDefaults()
	return p
}

// Load reads the project file at path and expands ${VAR} in it.
func Load(path string) (*Project, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fault.New(elsewhere(path), "there is no project file %s", path)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the project file: %w", err)
	}
	return Parse(path, text)
}

// elsewhere says what to do where there is no project file: to take one that is
// nearby, or to make one.
func elsewhere(path string) string {
	folder := filepath.Dir(path)
	if list, err := filepath.Glob(filepath.Join(folder, "*.yaml")); err == nil && filepath.Base(path) != FileName {
		var names []string
		for _, at := range list {
			names = append(names, filepath.Base(at))
		}
		if near := catalog.Nearest(filepath.Base(path), names); near != "" {
			return fmt.Sprintf("did you mean --config %s?", filepath.Join(folder, near))
		}
	}
	full, err := filepath.Abs(folder)
	for up := filepath.Dir(full); err == nil && up != filepath.Dir(up); up = filepath.Dir(up) {
		if _, missing := os.Stat(filepath.Join(up, FileName)); missing == nil {
			return "there is one in " + up + ": go there, or name it with --config; or make one here with `widegate new`"
		}
	}
	return "make one with `widegate new --url …`, or name it with --config"
}

// Parse reads the text of a project file that lies at path.
func Parse(path string, text []byte) (*Project, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, fault.New("mend the YAML at that line", "%s: %s", path, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	p := &Project{Root: filepath.Dir(path), File: path}
	if len(doc.Content) > 0 {
		if err := checkKeys(path, doc.Content[0], reflect.TypeFor[Project]()); err != nil {
			return nil, err
		}
		if url := at(doc.Content[0], "database", "url"); url != nil {
			p.Database.Written = url.Value
		}
		if err := expandSecrets(path, doc.Content[0]); err != nil {
			return nil, err
		}
		if err := doc.Content[0].Decode(p); err != nil {
			return nil, fault.New("give the key a value of that kind", "%s: %s", path, decodeText(err))
		}
	}
	p.setDefaults()
	return p, p.check(path)
}

func decodeText(err error) string {
	var wrong *yaml.TypeError
	if errors.As(err, &wrong) {
		return strings.Join(wrong.Errors, "; ")
	}
	return err.Error()
}

// kindWords say what a value of the file must be.
var kindWords = map[reflect.Kind]struct {
	node  yaml.Kind
	words string
}{
	reflect.Struct: {yaml.MappingNode, "keys below it"},
	reflect.Map:    {yaml.MappingNode, "keys below it"},
	reflect.Slice:  {yaml.SequenceNode, "a list, such as [hive, queen]"},
	reflect.String: {yaml.ScalarNode, "one text"},
	reflect.Bool:   {yaml.ScalarNode, "true or false"},
	reflect.Int:    {yaml.ScalarNode, "a whole number"},
}

// checkKeys refuses values that are not of the kind of t, and keys that t has
// no field for.
func checkKeys(path string, n *yaml.Node, t reflect.Type) error {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if n.Tag == "!!null" || n.Kind == yaml.AliasNode || t.Kind() == reflect.Interface {
		return nil
	}
	if want := kindWords[t.Kind()]; n.Kind != want.node {
		return fault.New("see the comments that `widegate new` writes", "%s:%d:%d: here should be %s", path, n.Line, n.Column, want.words)
	}
	if n.Kind != yaml.MappingNode {
		return nil
	}
	known := map[string]reflect.Type{}
	if t.Kind() == reflect.Struct {
		for i := range t.NumField() {
			if key := t.Field(i).Tag.Get("yaml"); key != "-" {
				known[key] = t.Field(i).Type
			}
		}
	}
	for i := 0; i < len(n.Content); i += 2 {
		key := n.Content[i]
		inner := known[key.Value]
		if t.Kind() == reflect.Map {
			inner = t.Elem()
		}
		if inner == nil {
			return unknownKey(path, key, known)
		}
		if err := checkKeys(path, n.Content[i+1], inner); err != nil {
			return err
		}
	}
	return nil
}

func unknownKey(path string, key *yaml.Node, known map[string]reflect.Type) error {
	names := make([]string, 0, len(known))
	for name := range known {
		names = append(names, name)
	}
	slices.Sort(names)
	next := "the keys here are " + strings.Join(names, ", ")
	if near := catalog.Nearest(key.Value, names); near != "" {
		next = fmt.Sprintf("did you mean %q? %s", near, next)
	}
	return fault.New(next, "%s:%d:%d: unknown key %q", path, key.Line, key.Column, key.Value)
}

var variable = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)\}`)

// Expand replaces ${VAR} in a text by the environment's.
func Expand(text string) (string, error) {
	n := yaml.Node{Kind: yaml.ScalarNode, Value: text, Line: 1, Column: 1}
	err := expand("URL", &n)
	return n.Value, err
}

// secrets are the keys whose values may hold secrets. In them alone stand
// variables of the environment: what is in other keys is written into code.
var secrets = [][]string{{"database", "url"}, {"database", "scratch"}}

// expandSecrets replaces ${VAR} in the keys that may hold secrets, and refuses it
// in other settings. Names of the schema are taken as they are.
func expandSecrets(path string, root *yaml.Node) error {
	for _, key := range secrets {
		if n := at(root, key...); n != nil {
			if err := expand(path, n); err != nil {
				return err
			}
		}
	}
	for _, key := range []string{"code", "api", "queries"} {
		if err := refuseVariables(path, at(root, key)); err != nil {
			return err
		}
	}
	return nil
}

func refuseVariables(path string, n *yaml.Node) error {
	if n == nil {
		return nil
	}
	if n.Kind == yaml.ScalarNode && variable.MatchString(n.Value) {
		return fault.New("write the value itself; a secret of the service goes into its own environment", "%s:%d:%d: ${NAME} stands for a variable in database.url and database.scratch only, since other values are written into code", path, n.Line, n.Column)
	}
	for _, c := range n.Content {
		if err := refuseVariables(path, c); err != nil {
			return err
		}
	}
	return nil
}

// expand replaces ${VAR} in a value by the environment's.
func expand(path string, n *yaml.Node) error {
	var missing error
	if n.Kind == yaml.ScalarNode {
		n.Value = variable.ReplaceAllStringFunc(n.Value, func(m string) string {
			name := variable.FindStringSubmatch(m)[1]
			value, ok := os.LookupEnv(name)
			if !ok {
				missing = fault.New("set it, as in "+name+"=… widegate …", "%s:%d:%d: the environment has no variable %s", path, n.Line, n.Column, name)
			}
			return value
		})
	}
	for _, c := range n.Content {
		if err := expand(path, c); err != nil {
			return err
		}
	}
	return missing
}

func (p *Project) setDefaults() {
	orElse := func(s *string, other string) {
		if *s == "" {
			*s = other
		}
	}
	orElse(&p.Code.Folder, "store")
	orElse(&p.Code.Package, filepath.Base(p.Code.Folder))
	orElse(&p.API.Folder, "api")
	orElse(&p.API.Base, "/api")
	orElse(&p.Queries, "queries")
	p.API.Base = "/" + strings.Trim(p.API.Base, "/")
	if p.Tables.Follow == nil {
		yes := true
		p.Tables.Follow = &yes
	}
}

var packageName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

func (p *Project) check(path string) error {
	if p.Database.URL == "" && len(p.Database.DDL) == 0 {
		return fault.New("say where the schema is: `database: {url: …}`", "%s names no database", path)
	}
	if err := CheckPackage(path+": code.package", p.Code.Package); err != nil {
		return err
	}
	if err := CheckPackage(path+": api.folder", filepath.Base(p.API.Folder)); err != nil {
		return err
	}
	if filepath.Clean(p.Code.Folder) == filepath.Clean(p.API.Folder) {
		return fault.New("give code.folder and api.folder different names", "%s: both packages would go to %q", path, p.Code.Folder)
	}
	if err := p.checkEntities(path); err != nil {
		return err
	}
	if err := p.checkRelations(path); err != nil {
		return err
	}
	if err := p.checkAccess(path); err != nil {
		return err
	}
	if err := p.Words.check(path); err != nil {
		return err
	}
	if err := p.API.checkBrand(path); err != nil {
		return err
	}
	return p.checkPlaces(path)
}

// CheckPackage refuses a name that cannot be that of a Go package; where says what
// gives it.
func CheckPackage(where, name string) error {
	switch {
	case packageWord(name):
		return nil
	case token.IsKeyword(name):
		return fault.New("take another, such as store", "%s: %q is a word of the Go language, and cannot be the name of a package", where, name)
	}
	return fault.New("use small letters and digits, as in store; not main or init", "%s: %q cannot be the name of a Go package", where, name)
}

func (p *Project) checkEntities(path string) error {
	for _, table := range slices.Sorted(maps.Keys(p.Entities)) {
		e := p.Entities[table]
		names := []string{e.Name, e.Plural}
		for _, column := range slices.Sorted(maps.Keys(e.Columns)) {
			names = append(names, e.Columns[column].Name)
		}
		for _, name := range names {
			if name != "" && !goName(name) {
				return fault.New("begin it with a capital letter and use letters and digits, as in `name: Hive`", "%s: entities.%s: %q cannot be a name in Go", path, table, name)
			}
		}
		if e.Path != "" && !pathWord.MatchString(e.Path) {
			return fault.New("use one word of letters, digits and dashes, as in `path: hives`", "%s: entities.%s: %q cannot be a word of a path", path, table, e.Path)
		}
	}
	return nil
}

func (p *Project) checkRelations(path string) error {
	for i, r := range p.Relations {
		if r.Table == "" || len(r.Columns) == 0 || r.To == "" {
			return fault.New("write it as `- {table: inspection, columns: [hive_id], to: hive}`", "%s: relation %d says not which columns of which table refer to what", path, i+1)
		}
		if len(r.Target) > 0 && len(r.Target) != len(r.Columns) {
			return fault.New("name as many columns in target as in columns", "%s: relation %d of %s has %d columns and %d in target", path, i+1, r.Table, len(r.Columns), len(r.Target))
		}
		for _, name := range []string{r.Name, r.Reverse} {
			if name != "" && !goName(name) {
				return fault.New("begin it with a capital letter and use letters and digits, as in `name: Hive`", "%s: relation %d of %s: %q cannot be a name in Go", path, i+1, r.Table, name)
			}
		}
	}
	return nil
}

// Resolve makes a path of the project file absolute, or relative to the
// current folder, as the file itself is.
func (p *Project) Resolve(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(p.Root, path)
}

// Draft is what a new project file says.
type Draft struct {
	Engine  string
	URL     string
	DDL     []string
	Schemas []string
	Take    []string
	Package string
}

// Text is the draft as a small commented file.
func (d Draft) Text() []byte {
	var b bytes.Buffer
	b.WriteString(SchemaLine + "\n# What Wide Gate reads and writes here. All that is left out has a default.\n\ndatabase:\n")
	fmt.Fprintf(&b, "  engine: %s\n", d.Engine)
	if d.URL != "" {
		comment := "${NAME} stands for a variable of the environment"
		if len(d.DDL) > 0 {
			comment = "`widegate apply` makes it from the scripts"
		}
		fmt.Fprintf(&b, "  url: %s # %s\n", Quoted(d.URL), comment)
	}
	writeList(&b, "ddl", d.DDL)
	writeList(&b, "schemas", d.Schemas)
	b.WriteString("\ntables:\n")
	if len(d.Take) == 0 {
		b.WriteString("  take: [\"*\"] # names or patterns; what they refer to comes along\n")
	} else {
		fmt.Fprintf(&b, "  take: %s # what they refer to comes along\n", QuotedList(d.Take))
	}
	fmt.Fprintf(&b, "\ncode:\n  folder: %s # the package of entities and queries\n", Quoted(d.Package))
	b.WriteString("\napi:\n  folder: api # the package of endpoints\n  base: /api\n")
	return b.Bytes()
}

func writeList(b *bytes.Buffer, key string, values []string) {
	if len(values) > 0 {
		fmt.Fprintf(b, "  %s: %s\n", key, QuotedList(values))
	}
}

func mapped(list []string, f func(string) string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = f(s)
	}
	return out
}

// QuotedList writes a YAML list of such scalars on one line.
func QuotedList(list []string) string { return "[" + strings.Join(mapped(list, Quoted), ", ") + "]" }

var plainScalar = regexp.MustCompile(`^[A-Za-z_./][A-Za-z0-9_./-]*$`)

// Quoted writes a YAML scalar that is surely read back as the text s.
func Quoted(s string) string {
	if plainScalar.MatchString(s) && !slices.Contains([]string{"true", "false", "null", "yes", "no", "on", "off", "y", "n"}, strings.ToLower(s)) {
		return s
	}
	return fmt.Sprintf("%q", s)
}
