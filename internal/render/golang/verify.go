package golang

import (
	"cmp"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/mod/module"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/model"
	"widegate/internal/render"
	"widegate/internal/rooted"
)

// A model comes from a database, a project file and a ledger, any of which may
// be somebody else's. Before anything is rendered, every text of the model is
// held to what it is used as: a name, a type, a path, or a text that only ever
// stands in quotes and comments. So no template can be made to say more than it
// does.

// use is what a text of the model is used as.
type use int

const (
	text     use = iota + 1 // quoted, or in a comment by way of oneLine or doc
	name                    // an identifier
	goType                  // a type
	word                    // one element of the path of a URL
	urlPath                 // several, with slashes
	fileStem                // the name of a file, without its ending
	prose                   // in a comment as it is
	jsonName                // in a struct tag
)

// uses says it for every field of the model. A field that is missing here stops
// all rendering, so that a new one is thought about.
var uses = map[string]use{
	"Model.Package": name, "Model.Base": urlPath,
	"Followed.Table": text, "Followed.By": text,
	"Attention.Table": text, "Attention.Text": text, "Attention.Why": text, "Attention.Settle": text, "Attention.Alike": text, "Attention.Column": text,
	"Entity.Name": name, "Entity.Type": name, "Entity.Plural": name, "Entity.Local": name, "Entity.File": fileStem,
	"Entity.Path": word, "Entity.Words": prose, "Entity.Article": prose, "Entity.KeyName": name,
	"Finder.Name": name, "Finder.Key": name, "Finder.Args": name,
	"Field.Name": name, "Field.Var": name, "Field.Kind": name,
	"Field.Constant": text, "Field.Role": text,
	"Limits.Least": text, "Limits.Most": text, "Limits.Above": text, "Limits.Below": text,
	"Enum.Name": name, "Enum.Comment": text, "Enum.Maker": name, "Label.Name": name, "Label.Text": text,
	"Relation.Kind": name, "Relation.Name": name, "Relation.Var": name, "Relation.JSON": jsonName, "Relation.Path": word,
	"Relation.Pairs": text, "Relation.Comment": text, "Join.Parent": text, "Join.Child": text,
	"Composite.Name": name, "Composite.Facts": name, "Composite.SQL": text, "Composite.Comment": text,
	"Domain.Name": name, "Domain.SQL": text, "Domain.Comment": text,
	"QueryFile.Source": text, "QueryFile.File": fileStem,
	"NamedQuery.Name": name, "NamedQuery.Doc": text, "NamedQuery.Shape": text, "NamedQuery.Out": text, "NamedQuery.Row": name,
	"QueryArg.Name": name, "QueryArg.OrderName": name,
	"QueryOrder.Name": name, "QueryOrder.Key": text, "QueryOrder.SQL": text,
	"Exposed.Path": urlPath, "Exposed.Handler": name, "Exposed.Roles": text,
	"Content.Path": word, "Content.Media": text,
	"Version.Name": name, "Version.Base": urlPath,
	"FormerResource.Path": text, "Renamed.Name": text, "Renamed.Former": text,
}

// fits says of each use whether a text can be used so. An empty text always
// can: it stands for what there is not.
var fits = map[use]func(string) bool{
	text:     func(string) bool { return true },
	name:     token.IsIdentifier,
	goType:   isGoType,
	word:     regexp.MustCompile(`^[\pL\pN\pM._~-]+$`).MatchString,
	urlPath:  regexp.MustCompile(`^/?[\pL\pN\pM._~/-]+$`).MatchString,
	fileStem: func(s string) bool { return !strings.ContainsRune(s, '/') && rooted.Check(s+".go") == nil },
	prose:    func(s string) bool { return comment(s) == s },
	jsonName: regexp.MustCompile(`^[\pL\pN\pM_]+$`).MatchString,
}

// isGoType reports whether a text is a type as the model names them: built of
// names, packages, pointers, slices and type arguments.
func isGoType(s string) bool {
	if s != comment(s) {
		return false
	}
	x, err := parser.ParseExpr(s)
	if err != nil {
		return false
	}
	plain := true
	ast.Inspect(x, func(n ast.Node) bool {
		switch n := n.(type) {
		case nil, *ast.Ident, *ast.SelectorExpr, *ast.StarExpr, *ast.IndexExpr, *ast.IndexListExpr:
		case *ast.ArrayType:
			plain = plain && n.Len == nil
		default:
			plain = false
		}
		return plain
	})
	return plain
}

// verify returns an error for a text of the model that cannot be used as it
// would be.
func verify(m *model.Model) error {
	v := &verifier{home: reflect.TypeFor[model.Model]().PkgPath(), seen: map[uintptr]bool{}}
	v.walk(reflect.ValueOf(m), "")
	for _, e := range m.Entities {
		if e.Table != nil && !slices.Contains(catalog.Kinds, e.Table.Kind) {
			return fmt.Errorf("%q is no kind of table", e.Table.Kind)
		}
	}
	return v.err
}

type verifier struct {
	home string // the package whose types are looked into
	seen map[uintptr]bool
	err  error
}

func (v *verifier) walk(at reflect.Value, field string) {
	if v.err != nil {
		return
	}
	switch at.Kind() {
	case reflect.Pointer:
		if at.IsNil() || v.seen[at.Pointer()] {
			return
		}
		v.seen[at.Pointer()] = true
		v.walk(at.Elem(), field)
	case reflect.Slice, reflect.Array:
		for i := range at.Len() {
			v.walk(at.Index(i), field)
		}
	case reflect.Struct:
		if at.Type().PkgPath() != v.home {
			return // facts of the schema and the project file, which are only ever quoted
		}
		for i := range at.NumField() {
			if f := at.Type().Field(i); f.IsExported() {
				v.walk(at.Field(i), at.Type().Name()+"."+f.Name)
			}
		}
	case reflect.String:
		v.check(field, at.String())
	}
}

func (v *verifier) check(field, s string) {
	switch fit := fits[uses[field]]; {
	case fit == nil:
		v.err = fmt.Errorf("%s of the model is used in no known way", field)
	case s != "" && !fit(s):
		v.err = fault.New("give it another name in the project file, or restore the ledger from version control", "%q cannot be used as %s", s, field)
	}
}

// check holds a target to the same.
func check(t render.Target) error {
	if err := module.CheckImportPath(t.Module); err != nil {
		return fault.New("name the module as in `module example.com/bees`", "%q in go.mod cannot be the path of a module", t.Module)
	}
	for _, folder := range []string{t.StoreFolder, cmp.Or(t.APIFolder, t.StoreFolder)} {
		if rooted.Check(folder) != nil || module.CheckImportPath("m/"+folder) != nil {
			return fault.New("use letters, digits and dashes, as in `folder: store`", "the folder %q cannot hold a Go package", folder)
		}
	}
	if !token.IsIdentifier(t.Package) {
		return fault.New("use letters and digits, as in `package: store`", "%q cannot be the name of a package", t.Package)
	}
	return nil
}
