package project

import (
	"fmt"
	"go/token"
	"maps"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/mod/module"

	"widegate/internal/fault"
	"widegate/internal/rooted"
)

// Names that come from the project file or the ledger go into code, paths and
// the names of files, and may be somebody else's choice. They are held to what
// they are used as when they are read.

// goName reports whether a text can be an exported name in Go.
func goName(s string) bool { return token.IsIdentifier(s) && token.IsExported(s) }

var (
	pathWord = regexp.MustCompile(`^[\pL\pN_~-][\pL\pN._~-]*$`)
	pathOf   = regexp.MustCompile(`^(/[\pL\pN._~-]+)*$`)
	fileStem = regexp.MustCompile(`^[\pL\pN][\pL\pN_]*$`)
)

// isBase reports whether a text can stand before all paths of an interface.
func isBase(s string) bool { return s == "/" || pathOf.MatchString(s) && path.Clean(s) == s }

// isFolder reports whether a Go package below the project can lie in a folder.
func isFolder(name string) bool {
	clean := path.Clean(strings.ReplaceAll(name, `\`, "/"))
	if rooted.Check(clean) != nil || module.CheckImportPath("m/"+clean) != nil {
		return false
	}
	return !slices.ContainsFunc(strings.Split(clean, "/"), func(part string) bool {
		return strings.HasPrefix(part, ".") || strings.HasPrefix(part, "_") || part == "vendor" || part == "testdata"
	})
}

// check returns an error for a name in the ledger that was not given by this
// tool.
func (n *Names) check() error {
	for _, table := range slices.Sorted(maps.Keys(n.Tables)) {
		if err := n.Tables[table].check(); err != nil {
			return fmt.Errorf("table %q: %w", table, err)
		}
	}
	for _, enum := range slices.Sorted(maps.Keys(n.Enums)) {
		if name := n.Enums[enum]; name != "" && !goName(name) {
			return fmt.Errorf("enum %q: %q cannot be a name in Go", enum, name)
		}
	}
	return nil
}

// joinedWords are words in small letters with lines between them.
var joinedWords = regexp.MustCompile(`^[\pL\pN\pM]+(?:_[\pL\pN\pM]+)*$`)

func (n TableNames) check() error {
	names := []string{n.Entity, n.Plural}
	for _, column := range slices.Sorted(maps.Keys(n.Columns)) {
		names = append(names, n.Columns[column])
	}
	for _, relation := range slices.Sorted(maps.Keys(n.Relations)) {
		names = append(names, n.Relations[relation])
	}
	for _, name := range names {
		if name != "" && !goName(name) {
			return fmt.Errorf("%q cannot be a name in Go", name)
		}
	}
	if n.File != "" && (!fileStem.MatchString(n.File) || rooted.Check(n.File+".go") != nil) {
		return fmt.Errorf("%q cannot be the name of a Go file", n.File)
	}
	for name, words := range n.Words {
		if !joinedWords.MatchString(words) {
			return fmt.Errorf("%q cannot be the words of %s", words, name)
		}
	}
	if n.Path != "" && !pathWord.MatchString(n.Path) {
		return fmt.Errorf("%q cannot be a word of a path", n.Path)
	}
	return nil
}

// wordForm is a word as it can stand inside a name in Go.
var wordForm = regexp.MustCompile(`^[\pL\pN]+$`)

// check finds words that no name can be made of.
func (w Words) check(file string) error {
	list := slices.Clone(w.Initialisms)
	for singular, plural := range w.Plurals {
		list = append(list, singular, plural)
	}
	for _, word := range list {
		if !wordForm.MatchString(word) {
			return fault.New("write words of letters and digits only", "%s: words: %q cannot be written inside a name", file, word)
		}
	}
	return nil
}

// checkPlaces finds folders and paths that cannot be used as such.
func (p *Project) checkPlaces(file string) error {
	for _, folder := range []struct{ key, name string }{{"code.folder", p.Code.Folder}, {"api.folder", p.API.Folder}} {
		if !filepath.IsLocal(filepath.FromSlash(folder.name)) {
			return fault.New("name a folder below the one of the project file", "%s: %s: the folder %q lies outside the project", file, folder.key, folder.name)
		}
		if !isFolder(folder.name) {
			return fault.New("name a folder below the one of the project file, of letters, digits and dashes, as in `folder: store`", "%s: %s: %q cannot hold a Go package of the project", file, folder.key, folder.name)
		}
	}
	if err := p.checkAssist(file); err != nil {
		return err
	}
	if err := p.checkClients(file); err != nil {
		return err
	}
	if rooted.Check(path.Clean(strings.ReplaceAll(p.Queries, `\`, "/"))) != nil {
		return fault.New("name a folder below the one of the project file, as in `queries: queries`", "%s: queries: %q is no folder of the project", file, p.Queries)
	}
	if !isBase(p.API.Base) {
		return fault.New("use words of letters, digits and dashes, as in `base: /api`", "%s: api.base: %q cannot be the beginning of a path", file, p.API.Base)
	}
	for _, name := range slices.Sorted(maps.Keys(p.API.Versions)) {
		v := p.API.Versions[name]
		if !isBase(v.Base) {
			return fault.New("use words of letters, digits and dashes, as in `base: /api/v1`", "%s: api.versions.%s.base: %q cannot be the beginning of a path", file, name, v.Base)
		}
		for _, table := range slices.Sorted(maps.Keys(v.Entities)) {
			if former := v.Entities[table].Path; former != "" && !pathWord.MatchString(former) {
				return fault.New("use one word of letters, digits and dashes, as in `path: hives`", "%s: api.versions.%s: %q cannot be a word of a path", file, name, former)
			}
		}
	}
	return nil
}

// checkClients finds folders of clients that are no folders of the project, or those of
// something else.
func (p *Project) checkClients(file string) error {
	used := []string{p.Code.Folder, p.API.Folder, p.Queries, TemplatesFolder, "cmd"}
	if c := p.Clients.TypeScript; c != nil {
		if err := p.checkClient(file, "clients.typescript", c.Folder, "clients/typescript", used); err != nil {
			return err
		}
		used = append(used, c.Folder)
		if _, ok := p.API.Versions[c.Version]; c.Version != "" && !ok {
			return fault.New("name one of api.versions, or leave it out", "%s: clients.typescript.version: there is no version %q", file, c.Version)
		}
	}
	c := p.Clients.Go
	if c == nil {
		return nil
	}
	if err := p.checkClient(file, "clients.go", c.Folder, "client", used); err != nil {
		return err
	}
	if name := path.Base(cleanFolder(c.Folder)); !packageWord(name) || name == path.Base(cleanFolder(p.API.Folder)) || name == p.Code.Package {
		return fault.New("name a folder whose last word can be a package of its own, as in `folder: client`", "%s: clients.go.folder: %q cannot be the name of the package", file, name)
	}
	return nil
}

// checkAssist finds a form that is none.
func (p *Project) checkAssist(file string) error {
	a := p.API.Assist
	if a != nil && a.Prompts != "" && rooted.Check(cleanFolder(a.Prompts)) != nil {
		return fault.New("name a folder below the one of the project file, as in `prompts: prompts`", "%s: api.assist.prompts: %q is no folder of the project", file, a.Prompts)
	}
	if a != nil && a.Form != "" && a.Form != "plain" && a.Form != "compact" {
		return fault.New("write plain or compact, or leave it out", "%s: api.assist.form: %q is no form", file, a.Form)
	}
	return nil
}

func cleanFolder(folder string) string { return path.Clean(strings.ReplaceAll(folder, `\`, "/")) }

// checkClient checks the folder of one client.
func (p *Project) checkClient(file, key, folder, such string, used []string) error {
	at := cleanFolder(folder)
	if folder == "" || at == "." || rooted.Check(at) != nil || strings.HasPrefix(at, ".") {
		return fault.New("name a folder below the one of the project file, as in `folder: "+such+"`", "%s: %s.folder: %q is no folder of the project", file, key, folder)
	}
	if p.API.None {
		return fault.New("remove `api: {none: true}`, or the client", "%s: %s: there is no service to call", file, key)
	}
	for _, other := range used {
		if other = cleanFolder(filepath.ToSlash(other)); at == other || strings.HasPrefix(other, at+"/") || strings.HasPrefix(at, other+"/") {
			return fault.New("name a folder that holds nothing else, as in `folder: "+such+"`", "%s: %s.folder: %s is used by %s", file, key, at, other)
		}
	}
	return nil
}

// packageWord are names that no package of a project can have.
func packageWord(name string) bool {
	return packageName.MatchString(name) && !token.IsKeyword(name) && name != "main" && name != "init"
}
