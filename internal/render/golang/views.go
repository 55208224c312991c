package golang

import (
	_ "embed" // for the comments of the views
	"reflect"
	"strings"

	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/render/typecheck"
)

// storeView is what store.go sees.
type storeView struct {
	Package    string          // of the store
	GateImport string          // import path of the runtime
	Engine     string          // the runtime's package of the engine
	OpenDoc    string          // how a URL looks, behind a sentence
	Kinds      map[string]bool // which kinds of tables there are: Table, Keyless, KeyedView, View
}

// page is what the templates of one entity see: entity.go and resource.go.
type page struct {
	Package    string // of the file
	Store      string // the package of the store
	Base       string // of the paths of the service
	Source     string // what the file is made from, for a comment
	Title      string // the beginning of names that are not exported, with a capital
	Entity     *model.Entity
	Enums      []*model.Enum      // that are declared in this file
	Domains    []*model.Domain    // that are declared in this file
	Composites []*model.Composite // that are declared in this file
}

// queriesView is what queries.go sees.
type queriesView struct {
	Package string // of the store
	Source  string // the SQL file
	Queries []*model.NamedQuery
}

// testsView is what tests.go sees.
type testsView struct {
	Store      string // the package of the store
	StoreSpec  string // imports it
	GateImport string // import path of the runtime
	URL        string // of the database; empty where the project file names none
	Up         string // the way from the folder of the store to that of the project
	Entities   []*model.Entity
	First      *model.Entity
}

// serviceView is what service.go sees.
type serviceView struct {
	Package    string // of the service
	GateImport string // import path of the runtime
	StoreSpec  string // imports the store
	Store      string // the package of the store
	Base       string // of the paths
	Open       bool   // anybody may call the service from anywhere
	Entities   []*model.Entity
	API        *project.API // what the project file says of the service
	Camel      bool         // names in JSON are in camel case
	Allow      []allowed    // who may do what; none where everybody may do everything
	Limits     string       // those of the project file, as fields of rest.Limits
	Versions   []version    // earlier ones of the interface
	Exposed    []*model.Exposed
}

// allowed is a line of who may do what.
type allowed struct {
	Path  string // of the resource; empty for all others
	Roles string // as fields of rest.Allow
}

// version is an earlier version of the interface.
type version struct {
	*model.Version
	Var  string // of its document
	File string // of its document
}

// callsView is what calls.go sees.
type callsView struct {
	Package string // of the service
	Store   string // the package of the store
	Base    string // of the paths
	Exposed []*model.Exposed
}

// clientView is what client.go sees.
type clientView struct {
	Package   string // of the client
	Store     string // the package of the store
	Command   string // the name of the service
	ETag      string // of the document of the service
	Base      string // of its paths
	Rows      int    // the most rows of a page
	Camel     bool   // names are in camel case
	Keeps     bool   // the service keeps idempotency keys
	Resources []clientResource
}

// clientResource is a resource as the client knows it.
type clientResource struct {
	*model.Entity
	Contents []string // binary columns that are resources of their own
	Ends     []clientRelation
}

// clientRelation is a relation as the client knows it.
type clientRelation struct {
	Name string // as callers see it
	Path string // where that does not follow from its name; else empty
	Var  string // in the store
}

// deskView is what desk.go sees.
type deskView struct {
	Package string // of the service
	Title   string // of the pages
	Looks   []lookAt
	Colour  string // of the brand
	Icon    string // of the brand, as a data URL
	Script  bool   // the project has formatters
}

// lookAt is how a resource looks, with its path.
type lookAt struct {
	Path string // of the resource
	model.Look
}

// mainView is what main.go sees.
type mainView struct {
	Command    string // name of the command
	GateImport string // import path of the runtime
	APIImport  string // import path of the service
	StoreSpec  string // imports the store
	Store      string // the package of the store
	API        string // the package of the service
	URL        string // of the database; empty where the project file names none
	Example    string // a URL
	Relative   bool   // the database is a file that is named as seen from the project
}

// roots are the views that the built-in templates get, by their names.
var roots = map[string]reflect.Type{
	"store": reflect.TypeFor[storeView](), "entity": reflect.TypeFor[page](), "queries": reflect.TypeFor[queriesView](), "tests": reflect.TypeFor[testsView](),
	"client": reflect.TypeFor[clientView](), "client_calls": reflect.TypeFor[callsView](),
	"service": reflect.TypeFor[serviceView](), "resource": reflect.TypeFor[page](), "calls": reflect.TypeFor[callsView](), "desk": reflect.TypeFor[deskView](), "main": reflect.TypeFor[mainView](),
}

// packages have the types of the views.
var packages = []string{"widegate/internal/render/golang", "widegate/internal/model", "widegate/internal/project", "widegate/internal/catalog", "widegate/internal/sqlquery"}

// viewComments are the comments of the fields and methods of the views, a line each; a
// test writes them.
//
//go:embed views.txt
var viewComments string

// Guide tells of what a built-in template gets, with examples from a table of a project.
func Guide(in render.Input, name, table string) []typecheck.Line {
	kind := strings.TrimSuffix(name, ".go")
	r := &renderer{target: in.Target, model: in.Model}
	about := map[string]string{}
	for line := range strings.Lines(viewComments) {
		key, text, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		about[key] = text
	}
	guide := typecheck.Guide{Views: typecheck.Reached(roots[kind], packages...), About: about, Funcs: r.functions(), Sample: r.sample(kind, table)}
	return guide.Lines()
}

// sample is the view of a built-in template for a table, or for the first.
func (r *renderer) sample(kind, table string) any {
	switch kind {
	case "store":
		return r.store()
	case "service":
		return r.service()
	case "calls":
		return r.calls()
	case "desk":
		return r.desk()
	case "main":
		return r.main()
	case "tests":
		if t := r.tests(); len(t.Entities) > 0 {
			return t
		}
	case "queries":
		if len(r.model.Queries) > 0 {
			return r.queries(r.model.Queries[0])
		}
	case "entity", "resource":
		if e := r.entity(table); e != nil {
			return r.page(e, r.target.Package)
		}
	}
	return nil
}

// entity is that of a table, or the first.
func (r *renderer) entity(table string) *model.Entity {
	for _, e := range r.model.Entities {
		if e.Table.Name == table || e.Name == table || e.Table.FullName() == table {
			return e
		}
	}
	if len(r.model.Entities) > 0 {
		return r.model.Entities[0]
	}
	return nil
}
