// Package gocheck type-checks the Go packages of a tree of files in memory, so
// that code can be judged before it is on disk.
//
// Packages of the tree are checked from their sources, in the order of their
// imports and as many at a time as there are processors; what they import from
// elsewhere comes as export data of the go command. Where there is no go
// command, or a package cannot be had, what it would declare is taken on trust.
package gocheck

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"go/ast"
	"go/build"
	"go/build/constraint"
	"go/importer"
	"go/parser"
	"go/scanner"
	"go/token"
	"go/types"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"

	"widegate/internal/gomodule"
	"widegate/internal/parallel"
)

// Checker checks trees that share most of their files.
type Checker struct {
	// Bodies says whose function bodies are checked, where the package's are; nil for
	// all. Of other files only what they declare is.
	Bodies func(file string) bool

	module string // import path of the tree's root
	root   string // where the go command runs
	fset   *token.FileSet
	build  build.Context

	lock    sync.Mutex
	parsed  map[string]*parsedFile // by path and text
	exports map[string]string      // files of export data by import path
	asked   map[string]bool
	outside types.Importer
}

type parsedFile struct {
	file *ast.File
	err  error
}

// New makes a checker. The module path may be empty; a package of the tree is
// then known by the end of its import path. An empty root means that there is
// no go command.
func New(module, root string) *Checker {
	c := &Checker{module: module, root: root, fset: token.NewFileSet(), build: build.Default, parsed: map[string]*parsedFile{}, exports: map[string]string{}, asked: map[string]bool{}}
	c.outside = importer.ForCompiler(c.fset, "gc", func(name string) (io.ReadCloser, error) {
		if file := c.exports[name]; file != "" { // under the lock, by external
			return os.Open(file)
		}
		return nil, fmt.Errorf("no export data of %s", name)
	})
	return c
}

// Fault is an error in a file.
type Fault struct {
	File    string
	Line    int
	Message string
}

// Package is a package of the tree, checked.
type Package struct {
	Folder string
	Types  *types.Package
	Info   *types.Info
	Files  map[string]*ast.File
	Faults []Fault

	tested     *types.Package // checked again with the tests in it
	testedInfo *types.Info
	outerInfo  *types.Info // of the tests beside it

	deep        bool // with function bodies
	blind       bool // something that it imports could not be had
	imports     []string
	testImports []string
	test        []*ast.File     // files of the package's tests
	outer       []*ast.File     // files of package NAME_test
	bare        map[string]bool // files whose functions are only declared
}

// Program is a tree, checked.
type Program struct {
	Fset     *token.FileSet
	Packages map[string]*Package // by folder
	checker  *Checker
}

// Check checks the packages of a tree; function bodies only in the folders that
// changed and in what depends on them, or in all for nil.
func (c *Checker) Check(ctx context.Context, files map[string]string, changed map[string]bool) *Program {
	p := &Program{Fset: c.fset, Packages: map[string]*Package{}, checker: c}
	c.parse(files)
	for name, text := range files {
		if strings.HasSuffix(name, ".go") && !hidden(name) {
			p.place(name, text, files)
		}
	}
	p.order()
	p.cone(changed)
	c.fetch(ctx, p)
	p.run()
	return p
}

func hidden(name string) bool {
	for part := range strings.SplitSeq(name, "/") {
		if part == "testdata" || part == "vendor" || strings.HasPrefix(part, ".") || strings.HasPrefix(part, "_") {
			return true
		}
	}
	return false
}

func key(name, text string) string { return name + "\x00" + text }

func (c *Checker) parse(files map[string]string) {
	var wait []string
	for name, text := range files {
		if strings.HasSuffix(name, ".go") && !hidden(name) && c.parsed[key(name, text)] == nil {
			c.parsed[key(name, text)] = &parsedFile{}
			wait = append(wait, name)
		}
	}
	each(wait, func(name string) {
		parsed := c.parsed[key(name, files[name])]
		parsed.file, parsed.err = parser.ParseFile(c.fset, name, files[name], parser.SkipObjectResolution|parser.ParseComments)
	})
}

// each runs a function for each of a list, as many at a time as there are
// processors.
func each[T any](list []T, do func(T)) {
	parallel.Each(len(list), runtime.GOMAXPROCS(0), func(i int) { do(list[i]) })
}

// place puts a file into its package, if the build takes it.
func (p *Program) place(name, text string, files map[string]string) {
	folder := path.Dir(name)
	parsed := p.checker.parsed[key(name, text)]
	if parsed.file == nil {
		return
	}
	if !matches(p.checker.build, name, text) {
		return
	}
	pkg := p.Packages[folder]
	if pkg == nil {
		pkg = &Package{Folder: folder, Files: map[string]*ast.File{}, Info: newInfo(), bare: map[string]bool{}}
		p.Packages[folder] = pkg
	}
	if parsed.err != nil {
		pkg.fault(p.Fset, parsed.err)
	}
	file := parsed.file
	if bodies := p.checker.Bodies; bodies != nil && !bodies(name) {
		file = withoutBodies(file)
		pkg.bare[name] = true
	}
	switch {
	case !strings.HasSuffix(name, "_test.go"):
	case strings.HasSuffix(file.Name.Name, "_test"):
		pkg.outer = append(pkg.outer, file)
	default:
		pkg.test = append(pkg.test, file)
	}
	pkg.Files[name] = file
}

// withoutBodies is a file whose functions are only declared: all but those that may
// not be.
func withoutBodies(f *ast.File) *ast.File {
	bare := *f
	bare.Decls = slices.Clone(f.Decls)
	for i, d := range bare.Decls {
		fn, ok := d.(*ast.FuncDecl)
		if !ok || fn.Body == nil || fn.Type.TypeParams != nil || fn.Name.Name == "init" || fn.Name.Name == "main" {
			continue
		}
		declared := *fn
		declared.Body = nil
		bare.Decls[i] = &declared
	}
	return &bare
}

func newInfo() *types.Info {
	return &types.Info{Defs: map[*ast.Ident]types.Object{}, Uses: map[*ast.Ident]types.Object{}}
}

// All is the package, and the package with its tests in it.
func (pkg *Package) All() []*types.Package {
	var list []*types.Package
	for _, checked := range []*types.Package{pkg.Types, pkg.tested} {
		if checked != nil {
			list = append(list, checked)
		}
	}
	return list
}

// Infos are what was found out in each check of the package: by itself, with its
// tests, and of the tests beside it.
func (pkg *Package) Infos() []*types.Info {
	var list []*types.Info
	for _, info := range []*types.Info{pkg.Info, pkg.testedInfo, pkg.outerInfo} {
		if info != nil {
			list = append(list, info)
		}
	}
	return list
}

// matches reports whether a build takes the file.
func matches(context build.Context, name, text string) bool {
	context.OpenFile = func(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }
	ok, err := context.MatchFile("", path.Base(name))
	return ok || err != nil
}

// Variants are checkers for other builds: one for each file of the tree that this
// system's build leaves out, under the systems and tags that the file waits for,
// unless an earlier one takes it.
func (c *Checker) Variants(files map[string]string) []*Checker {
	var list []*Checker
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if !strings.HasSuffix(name, ".go") || hidden(name) || matches(c.build, name, files[name]) || slices.ContainsFunc(list, func(v *Checker) bool { return matches(v.build, name, files[name]) }) {
			continue
		}
		if build, ok := buildOf(c.build, name, files[name]); ok {
			v := New(c.module, c.root)
			v.build = build
			list = append(list, v)
		}
	}
	return list
}

// mostTags is how many tags of one file are tried in all combinations.
const mostTags = 6

// buildOf finds a build that takes a file: a system and a set of tags.
func buildOf(like build.Context, name, text string) (build.Context, bool) {
	var tags, systems, machines []string
	add := func(word string) {
		switch {
		case knownSystems[word]:
			systems = append(systems, word)
		case knownMachines[word]:
			machines = append(machines, word)
		case !slices.Contains(tags, word):
			tags = append(tags, word)
		}
	}
	for word := range strings.SplitSeq(strings.TrimSuffix(path.Base(name), ".go"), "_") {
		if knownSystems[word] || knownMachines[word] {
			add(word)
		}
	}
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, "package ") {
			break
		}
		if expr, err := constraint.Parse(strings.TrimSpace(line)); err == nil {
			expr.Eval(func(tag string) bool { add(tag); return false })
			expr.Eval(func(tag string) bool { add(tag); return true })
		}
	}
	tags = tags[:min(len(tags), mostTags)]
	for _, system := range append(append([]string{like.GOOS}, systems...), "linux", "windows", "darwin") {
		for _, machine := range append([]string{like.GOARCH}, machines...) {
			for set := range 2 << len(tags) {
				b := like
				b.GOOS, b.GOARCH, b.BuildTags = system, machine, slices.Clone(like.BuildTags)
				b.CgoEnabled = like.CgoEnabled != (set&1 != 0)
				for i, tag := range tags {
					if set&(2<<i) != 0 {
						b.BuildTags = append(b.BuildTags, tag)
					}
				}
				if matches(b, name, text) {
					return b, true
				}
			}
		}
	}
	return like, false
}

// The systems and machines that Go is built for, which file names and constraints
// name without tags.
var (
	knownSystems  = wordSet("aix android darwin dragonfly freebsd illumos ios js linux netbsd openbsd plan9 solaris wasip1 windows")
	knownMachines = wordSet("386 amd64 arm arm64 loong64 mips mips64 mips64le mipsle ppc64 ppc64le riscv64 s390x wasm")
)

func wordSet(words string) map[string]bool {
	set := map[string]bool{}
	for _, word := range strings.Fields(words) {
		set[word] = true
	}
	return set
}

func (pkg *Package) fault(fset *token.FileSet, err error) {
	var typed types.Error
	if errors.As(err, &typed) {
		at := fset.Position(typed.Pos)
		if at.Filename == "" && len(pkg.Files) > 0 { // of the package as a whole
			at.Filename = slices.Min(slices.Collect(maps.Keys(pkg.Files)))
		}
		pkg.Faults = append(pkg.Faults, Fault{at.Filename, at.Line, typed.Msg})
		return
	}
	var list scanner.ErrorList
	if errors.As(err, &list) {
		for _, e := range list {
			pkg.Faults = append(pkg.Faults, Fault{e.Pos.Filename, e.Pos.Line, e.Msg})
		}
	}
}

// folderOf is the folder of the tree that an import path means.
func (p *Program) folderOf(name string) (string, bool) {
	if module := p.checker.module; module != "" {
		if name == module {
			_, ok := p.Packages["."]
			return ".", ok
		}
		below, inside := strings.CutPrefix(name, module+"/")
		_, ok := p.Packages[below]
		return below, inside && ok
	}
	for below := name; ; {
		if _, ok := p.Packages[below]; ok {
			return below, true
		}
		_, rest, more := strings.Cut(below, "/")
		if !more {
			return "", false
		}
		below = rest
	}
}

// order notes what each package imports from the tree.
func (p *Program) order() {
	for _, pkg := range p.Packages {
		for name, f := range pkg.Files {
			for _, from := range importsOf(f) {
				folder, ok := p.folderOf(from)
				switch {
				case !ok || folder == pkg.Folder:
				case strings.HasSuffix(name, "_test.go"):
					pkg.testImports = append(pkg.testImports, folder)
				default:
					pkg.imports = append(pkg.imports, folder)
				}
			}
		}
	}
}

// cone marks the packages that changed and all that depend on them.
func (p *Program) cone(changed map[string]bool) {
	for again := true; again; {
		again = false
		for folder, pkg := range p.Packages {
			reached := func(by string) bool { return p.Packages[by].deep }
			if !pkg.deep && (changed == nil || changed[folder] || slices.ContainsFunc(pkg.imports, reached) || slices.ContainsFunc(pkg.testImports, reached)) {
				pkg.deep, again = true, true
			}
		}
	}
}

func importsOf(f *ast.File) []string {
	var list []string
	for _, spec := range f.Imports {
		if name, err := strconv.Unquote(spec.Path.Value); err == nil {
			list = append(list, name)
		}
	}
	return list
}

// fetch asks the go command for what the packages checked in full import from
// elsewhere.
func (c *Checker) fetch(ctx context.Context, p *Program) {
	wanted := map[string]bool{}
	for _, pkg := range p.Packages {
		if !pkg.deep {
			continue
		}
		for _, f := range pkg.Files {
			for _, name := range importsOf(f) {
				if _, local := p.folderOf(name); !local && name != "C" && name != "unsafe" && !c.asked[name] {
					wanted[name] = true
				}
			}
		}
	}
	if len(wanted) == 0 || c.root == "" {
		return
	}
	names := slices.Sorted(maps.Keys(wanted))
	for _, name := range names {
		c.asked[name] = true
	}
	args := append([]string{"list", "-buildvcs=false", "-e", "-export", "-deps", "-f", "{{if .Export}}{{.ImportPath}}\t{{.Export}}{{end}}", "--"}, names...)
	cmd, err := gomodule.Command(ctx, c.root, args...)
	if err != nil {
		return
	}
	cmd.Env = append(cmd.Env, "CGO_ENABLED=0", "GOPROXY=off") // nothing is fetched for a check
	out, err := cmd.Output()
	if err != nil && len(out) == 0 {
		return
	}
	c.lock.Lock()
	defer c.lock.Unlock()
	for line := range bytes.Lines(out) {
		if name, file, ok := strings.Cut(strings.TrimSpace(string(line)), "\t"); ok {
			c.exports[name] = file
		}
	}
}

// errCycle stands for an import that leads back to the package.
var errCycle = errors.New("import cycle")

// run checks the packages, each when those that it imports are done, and then
// their tests.
func (p *Program) run() {
	for _, folders := range p.levels() {
		each(folders, func(folder string) { p.check(p.Packages[folder]) })
	}
	each(slices.Collect(maps.Keys(p.Packages)), func(folder string) { p.checkTests(p.Packages[folder]) })
}

// levels sorts the packages so that each imports only from levels before its
// own. Packages of a cycle come last.
func (p *Program) levels() [][]string {
	left := map[string]bool{}
	for folder := range p.Packages {
		left[folder] = true
	}
	var levels [][]string
	for len(left) > 0 {
		var free []string
		for folder := range left {
			if !slices.ContainsFunc(p.Packages[folder].imports, func(i string) bool { return left[i] }) {
				free = append(free, folder)
			}
		}
		if len(free) == 0 {
			free = slices.Collect(maps.Keys(left))
			slices.Sort(free)
			for _, folder := range free { // one at a time: they wait for each other
				levels = append(levels, []string{folder})
			}
			return levels
		}
		slices.Sort(free)
		for _, folder := range free {
			delete(left, folder)
		}
		levels = append(levels, free)
	}
	return levels
}

// check checks a package without its tests.
func (p *Program) check(pkg *Package) {
	if own := pkg.files(false); len(own) > 0 {
		pkg.Types = p.types(pkg, own, pkg.Info, len(pkg.test) == 0)
	}
}

// checkTests checks a package again with the tests in it, and those beside it.
func (p *Program) checkTests(pkg *Package) {
	if !pkg.deep {
		return
	}
	if len(pkg.test) > 0 {
		pkg.testedInfo = newInfo()
		pkg.tested = p.types(pkg, pkg.files(true), pkg.testedInfo, true)
	}
	if len(pkg.outer) > 0 {
		pkg.outerInfo = newInfo()
		p.types(pkg, pkg.outer, pkg.outerInfo, true)
	}
}

// files are those of the package in the order of their names.
func (pkg *Package) files(tests bool) []*ast.File {
	var list []*ast.File
	for _, name := range slices.Sorted(maps.Keys(pkg.Files)) {
		f := pkg.Files[name]
		if !slices.Contains(pkg.outer, f) && (tests || !slices.Contains(pkg.test, f)) {
			list = append(list, f)
		}
	}
	return list
}

// types checks files as one package. A package is checked once without its
// tests and once with them; what is wrong is reported once.
func (p *Program) types(pkg *Package, files []*ast.File, info *types.Info, report bool) *types.Package {
	name := pkg.Folder
	if p.checker.module != "" {
		name = path.Join(p.checker.module, pkg.Folder)
	}
	config := types.Config{
		Importer: importFunc(func(name string) (*types.Package, error) {
			from, err := p.imported(name)
			pkg.blind = pkg.blind || err != nil
			return from, err
		}),
		Error: func(err error) {
			if report && pkg.deep && pkg.believed(err) && !pkg.unusedIn(p.Fset, err) {
				pkg.fault(p.Fset, err)
			}
		},
		IgnoreFuncBodies: !pkg.deep,
		FakeImportC:      true,
	}
	checked, _ := config.Check(name, p.Fset, files, info) // each error was taken above
	return checked
}

// unusedIn reports whether an error is that an import is not used in a file whose
// functions, which may use it, are left out.
func (pkg *Package) unusedIn(fset *token.FileSet, err error) bool {
	var typed types.Error
	return errors.As(err, &typed) && strings.HasSuffix(typed.Msg, "and not used") && pkg.bare[fset.Position(typed.Pos).Filename]
}

// believed reports whether an error is one of the code. Where an import could
// not be had, only what does not depend on it is.
func (pkg *Package) believed(err error) bool {
	message := err.Error()
	switch {
	case strings.Contains(message, "could not import"):
		return false
	case pkg.blind:
		_, name, undefined := strings.Cut(message, "undefined: ")
		return undefined && !strings.Contains(name, ".") || strings.Contains(message, "redeclared in this block")
	}
	return true
}

type importFunc func(string) (*types.Package, error)

func (f importFunc) Import(name string) (*types.Package, error) { return f(name) }

func (p *Program) imported(name string) (*types.Package, error) {
	if name == "unsafe" {
		return types.Unsafe, nil
	}
	folder, local := p.folderOf(name)
	if !local {
		return p.checker.external(name)
	}
	if pkg := p.Packages[folder]; pkg.Types != nil {
		return pkg.Types, nil
	}
	return nil, errCycle
}

// external reads export data, one package at a time: the importer is not made
// for several.
func (c *Checker) external(name string) (*types.Package, error) {
	c.lock.Lock()
	defer c.lock.Unlock()
	if c.exports[name] != "" {
		if pkg, err := c.outside.Import(name); err == nil {
			return pkg, nil
		}
	}
	return types.NewPackage(name, likelyName(name)), fs.ErrNotExist // taken on trust, under its likely name
}

var versionPart = regexp.MustCompile(`^v[0-9]+$`)

// likelyName is what a package that cannot be had is probably called.
func likelyName(importPath string) string {
	name := path.Base(importPath)
	if versionPart.MatchString(name) {
		name = path.Base(path.Dir(importPath))
	}
	name, _, _ = strings.Cut(name, ".")
	return strings.TrimSuffix(strings.TrimPrefix(name, "go-"), "-go")
}

// Faults are the errors of all packages, by file and line.
func (p *Program) Faults() []Fault {
	var all []Fault
	for _, folder := range slices.Sorted(maps.Keys(p.Packages)) {
		all = append(all, p.Packages[folder].Faults...)
	}
	slices.SortStableFunc(all, func(a, b Fault) int {
		if c := strings.Compare(a.File, b.File); c != 0 {
			return c
		}
		return a.Line - b.Line
	})
	return all
}

// Checked are the folders whose packages were checked with their function
// bodies.
func (p *Program) Checked() map[string]bool {
	folders := map[string]bool{}
	for folder, pkg := range p.Packages {
		if pkg.deep {
			folders[folder] = true
		}
	}
	return folders
}
