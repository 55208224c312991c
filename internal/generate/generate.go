// Package generate runs the pipeline: it reads the schema that a project file
// names, makes the model, renders the files, merges them with what is on disk
// and what was written before, and brings the result to disk.
package generate

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"widegate"
	"widegate/internal/apply"
	"widegate/internal/catalog"
	"widegate/internal/engine"
	"widegate/internal/engine/registry"
	"widegate/internal/fault"
	"widegate/internal/gomodule"
	"widegate/internal/merge"
	"widegate/internal/model"
	"widegate/internal/printable"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render"
	"widegate/internal/render/outputs"
	"widegate/internal/sqlquery"
)

// Options are what a developer asked for beside the project file.
type Options struct {
	Choices   []merge.Choice // who is right at a place
	BringBack []string       // files, or folders, to make again though they were removed
	Only      []string       // tables whose files alone are written; none for all
	Full      bool           // model and render even where nothing has changed

	// Settle finds what has another name than in the last write; may be nil.
	Settle      func(before, after *catalog.Catalog) ([]catalog.Rename, error)
	RewriteUses bool // uses of what is renamed in the developer's own code are rewritten
	Tolerant    bool // named queries that do not hold are told of, and left out

	Progress func(what string) // told what is being done; may be nil
}

// Plan is a generation that has not been brought to disk.
type Plan struct {
	Catalog   *catalog.Catalog
	Model     *model.Model // nil where nothing had to be rendered
	Decisions []Decision   // for every file that is rendered or was
	Conflicts []merge.Conflict
	Notices   []merge.Notice
	Command   string // the folder of the starter, as `go run` takes it

	Before  *catalog.Catalog // of the last write, with its own names; nil if there was none
	Renames []catalog.Rename // since then
	Was     *model.Model     // of it; nil where nothing had to be rendered, or it cannot be made any more
	Queries []error          // named queries that do not hold, where that was tolerated
	Breaks  []merge.Conflict // what would not build if all conflicts were settled by the new text

	engine  engine.Engine
	project *project.Project
	options Options
	module  *gomodule.Module
	ledger  *project.Ledger
	queries []sqlquery.File
	own     []render.Template
	stale   []merge.Notice // taken templates that are not merged with the built-in ones
	files   map[string]render.File
	disk    map[string]diskFile
	around  map[string]string // Go files of the module that are nobody's but the developer's
	changed merge.Tree
	symbols merge.Renames
	runtime map[string]bool  // files that all others need
	rebased map[string]bool  // files that are merged with another record than the one that lies there
	brought merge.Tree       // files with what another branch edited in them
	lost    []merge.Conflict // files that lack it
	settled map[string]bool  // what of it is left out
	file    diskFile         // the project file, where it changes with the renames
	renamed []byte           // its new text
	started time.Time
	encoded []byte // the catalog
	inputs  string // fingerprint of what the texts are made from
	schema  string // the same without the project's templates
	same    bool   // nothing else has changed since the last write
	took    []string

	home    string // the root, links followed
	lock    sync.Mutex
	folders map[string]string // where folders are, links followed
	links   map[string]string // where files are that lie behind links, below the root
}

// ErrConflict is returned when a person must decide first.
var ErrConflict = errors.New("a person must decide")

// Source is where the project file says the schema is: where there are scripts, in
// these.
func Source(p *project.Project) read.Source {
	s := Database(p)
	if len(s.DDL) > 0 {
		s.URL = ""
	}
	return s
}

// Database is the database of a project, with the scripts that it is made from.
func Database(p *project.Project) read.Source {
	s := read.Source{Engine: p.Database.Engine, URL: p.Database.URL, Scratch: p.Database.Scratch, Schemas: p.Database.Schemas}
	for _, file := range p.Database.DDL {
		s.DDL = append(s.DDL, p.Resolve(file))
	}
	if file, isFile := s.File(); isFile {
		s.URL = p.Resolve(file)
	}
	if strings.EqualFold(filepath.Ext(s.URL), ".json") && !strings.Contains(s.URL, "://") {
		s.URL, s.Snapshot = "", s.URL
	}
	if s.Engine == "" && s.URL != "" {
		s.Engine = read.EngineOf(s.URL)
	}
	return s
}

// Make reads, models, renders and merges, and decides what happens to each
// file. The source is that of the project, with what the caller adds to it.
func Make(ctx context.Context, p *project.Project, source read.Source, o Options) (*Plan, error) {
	plan := &Plan{project: p, options: o, started: time.Now(), files: map[string]render.File{}, disk: map[string]diskFile{}, folders: map[string]string{}, links: map[string]string{}, rebased: map[string]bool{}, brought: merge.Tree{}}
	var err error
	if plan.home, err = realPath(p.Root); err != nil {
		return nil, err
	}
	if plan.module, err = gomodule.Find(p.Root); err != nil {
		return nil, err
	}
	if err := plan.module.CheckVersion(widegate.Sources); err != nil {
		return nil, err
	}
	plan.Command = "./" + path.Join("cmd", path.Base(plan.module.Path()))
	if plan.ledger, err = project.LoadLedger(p, registry.Dialects()); err != nil {
		return nil, err
	}
	if err = plan.read(ctx, source); err != nil {
		return nil, err
	}
	if err := plan.recall(); err != nil {
		return nil, err
	}
	if o.Settle != nil && plan.Before != nil {
		if plan.Renames, err = o.Settle(plan.Before, plan.Catalog); err != nil {
			return nil, err
		}
	}
	was := plan.former(p)
	if err := plan.carryRenames(); err != nil {
		return nil, err
	}
	if err := plan.readQueries(); err != nil {
		return nil, err
	}
	if plan.own, err = ReadTemplates(plan.project); err != nil {
		return nil, err
	}
	if err := errors.Join(plan.checkNeeds(), plan.renewTemplates()); err != nil {
		return nil, err
	}
	if err := plan.fingerprint(); err != nil {
		return nil, err
	}
	fresh, err := plan.fresh(ctx)
	if err != nil || fresh {
		return plan, err
	}
	if err := plan.understand(ctx, source); err != nil {
		return nil, err
	}
	plan.doing("rendering the code")
	if err := plan.render(); err != nil {
		return nil, err
	}
	plan.Was = was()
	plan.findSymbols()
	plan.doing("merging it with what is there, and checking the result")
	if err := plan.readDisk(); err != nil {
		return nil, err
	}
	if err := plan.checkOptions(); err != nil {
		return nil, err
	}
	plan.branches(ctx)
	plan.merge(ctx)
	plan.Notices = append(plan.Notices, plan.stale...)
	return plan, nil
}

// recall finds the schema of the last write, which mostly is the one of now.
func (plan *Plan) recall() (err error) {
	if plan.encoded, err = plan.Catalog.Encode(); err != nil {
		return err
	}
	if bytes.Equal(plan.encoded, plan.ledger.Record) {
		plan.Before = plan.Catalog
	} else {
		plan.Before = plan.ledger.Schema()
	}
	return nil
}

// understand makes the model of what was read.
func (plan *Plan) understand(ctx context.Context, source read.Source) (err error) {
	p := plan.project
	if plan.Model, err = model.Build(plan.Catalog, p, &plan.ledger.Names); err != nil {
		return err
	}
	if err := plan.addQueries(ctx, source); err != nil {
		return err
	}
	plan.Model.AddRoutines(plan.Catalog, p.Routines)
	return plan.Model.Expose(p.API.Expose)
}

// Understand reads a schema and makes its model, with the named queries of the
// project, if there is one, and renders nothing.
func Understand(ctx context.Context, p *project.Project, source read.Source) (*catalog.Catalog, *model.Model, error) {
	plan, err := understood(ctx, p, source)
	if err != nil {
		return nil, nil, err
	}
	return plan.Catalog, plan.Model, nil
}

// understood is a plan that has its model, and goes no further.
func understood(ctx context.Context, p *project.Project, source read.Source) (*Plan, error) {
	plan := &Plan{project: p, ledger: &project.Ledger{Names: *project.NewNames()}}
	var err error
	if err = plan.read(ctx, source); err != nil {
		return nil, err
	}
	if p.Root != "" {
		if plan.ledger, err = project.LoadLedger(p, registry.Dialects()); err != nil {
			return nil, err
		}
		if err := plan.readQueries(); err != nil {
			return nil, err
		}
	}
	return plan, plan.understand(ctx, source)
}

// read reads the schema, and finds its engine.
func (plan *Plan) read(ctx context.Context, source read.Source) (err error) {
	if plan.Catalog, err = read.Read(ctx, source); err != nil {
		return err
	}
	plan.engine, err = registry.Of(plan.Catalog.Engine.Name)
	return err
}

func (plan *Plan) doing(what string) {
	if plan.options.Progress != nil {
		plan.options.Progress(what)
	}
}

// realPath is a full path without links.
func realPath(folder string) (string, error) {
	full, err := filepath.Abs(folder)
	if err != nil {
		return "", err
	}
	return filepath.EvalSymlinks(full)
}

// target is where the files of a project go, and how it uses them.
func (plan *Plan) target() (t render.Target, err error) {
	p, e := plan.project, plan.engine
	t = render.Target{
		Module:      plan.module.Path(),
		StoreFolder: path.Clean(filepath.ToSlash(p.Code.Folder)),
		Package:     p.Code.Package,
		Tests:       p.Code.Tests,
		Guarded:     p.API.Guarded(),
		Desk:        p.API.Desk,
		Assist:      p.API.Assist != nil,
		Starters:    plan.module.Path() == plan.module.Root(), // a larger module has its own
		Scripts:     printable.Line(strings.Join(p.Database.DDL, ", ")),
		Language:    goVersion,
		Database: render.Database{
			Title: e.Title(), Packages: e.Packages(), URLForm: e.URLForm(), Example: e.Example(path.Base(plan.module.Path())), URL: starterURL(e, p.Database),
		},
	}
	if !p.API.None {
		t.APIFolder = path.Clean(filepath.ToSlash(p.API.Folder))
	}
	if c := p.Clients.Go; c != nil {
		t.Client = path.Clean(filepath.ToSlash(c.Folder))
	}
	file, isFile := e.File(t.Database.URL)
	t.Database.Embedded = isFile
	t.Database.Relative = isFile && t.Database.URL != "" && !path.IsAbs(file)
	if !t.Desk {
		return t, nil
	}
	if t.Icon, err = p.Icon(); err != nil {
		return t, err
	}
	t.Script, err = p.Script()
	return t, err
}

func (plan *Plan) render() error {
	target, err := plan.target()
	if err != nil {
		return err
	}
	files, err := outputs.Files(render.Input{Model: plan.Model, Target: target, Sources: widegate.Sources, Last: plan.ledger.Base, Templates: plan.own, Settings: plan.project.Settings, Clients: plan.project.Clients, Same: plan.same, Took: plan.took})
	if err != nil {
		return err
	}
	for _, f := range files {
		if slices.Contains(project.Starters, f.Path) && plan.Before != nil && plan.ledger.Base[f.Path] == nil {
			continue // a project that was written before without it does without
		}
		plan.files[f.Path] = f
	}
	plan.runtime = map[string]bool{}
	for _, f := range files {
		if f.Runtime {
			plan.runtime[f.Path] = true
		}
	}
	return plan.restrict(target)
}

// restrict leaves all files but those of the tables asked for as they were.
func (plan *Plan) restrict(target render.Target) error {
	if len(plan.options.Only) == 0 {
		return nil
	}
	wanted := map[string]bool{}
	for _, name := range plan.options.Only {
		var e *model.Entity
		for _, x := range plan.Model.Entities {
			if strings.EqualFold(x.Table.FullName(), name) || strings.EqualFold(x.Table.Name, name) || strings.EqualFold(x.Name, name) {
				e = x
			}
		}
		if e == nil {
			return fault.New("see the tables by `widegate read`", "--only: there is no table %s in the project", name)
		}
		wanted[path.Join(target.StoreFolder, e.File+".go")] = true
		wanted[path.Join(target.APIFolder, e.File+".go")] = true
	}
	for name := range plan.files {
		if wanted[name] {
			continue
		}
		delete(plan.files, name)
	}
	for name, text := range plan.ledger.Base {
		if _, there := plan.files[name]; !there {
			plan.files[name] = render.File{Path: name, Text: text}
		}
	}
	return nil
}

// goVersion is that of the language which generated code needs.
const goVersion = "1.26"

// starterURL is the URL that the starter uses where the environment names none:
// the project's own, unless there is a secret in it, it depends on variables of
// the environment, or it is only DDL.
func starterURL(e engine.Engine, d project.Database) string {
	if d.URL == "" || read.Hide(d.URL) != d.URL || d.Written != d.URL {
		return ""
	}
	if file, isFile := e.File(d.URL); isFile {
		return e.Schemes()[0] + ":" + file
	}
	return d.URL
}

// Summary says what a plan brought to disk.
type Summary struct {
	Written int // files of the plan that were written or removed
	Lines   int // of generated code, the runtime apart
	Elapsed time.Duration
	Tidied  error // nil, or why go.mod could not be completed
}

// Open keeps other runs out of a project, and finishes one that was killed. A
// plan that is to be applied is made under it.
func Open(p *project.Project) (*apply.Store, apply.Recovery, error) {
	return apply.Open(p.Root, p.Ledger())
}

// Apply brings the plan to disk. It returns ErrConflict, and has changed
// nothing, where a person must decide first.
func (plan *Plan) Apply(ctx context.Context, store *apply.Store) (Summary, error) {
	if len(plan.Conflicts) > 0 {
		return Summary{}, ErrConflict
	}
	s := Summary{Written: plan.Count(New, Changed, Merged, Removed), Lines: plan.lines()}
	if plan.Model != nil {
		changes, err := plan.changes()
		if err != nil {
			return Summary{}, err
		}
		last := path.Join(plan.ledger.Folder, "catalog.json")
		if err := store.Run(ctx, apply.KindWrite, changes, last); err != nil {
			return Summary{}, err
		}
		if err := errors.Join(plan.markFresh(), plan.saveSettled()); err != nil {
			return s, err
		}
	}
	required, err := plan.module.Require(plan.engine.Driver(), gomodule.Needs{Tokens: plan.project.API.Guarded(), Assist: plan.project.API.Assist != nil}, widegate.Sources)
	if err != nil {
		return s, err
	}
	if required {
		s.Tidied = plan.module.Tidy(ctx)
	}
	s.Elapsed = time.Since(plan.started)
	return s, nil
}

// changes are the files to write and remove, and behind them the ledger's.
func (plan *Plan) changes() ([]apply.Change, error) {
	var changes []apply.Change
	for _, name := range slices.Sorted(maps.Keys(plan.changed)) {
		on := plan.disk[name]
		if own, there := plan.around[name]; there {
			var err error
			if on, err = plan.look(name); err != nil {
				return nil, err
			}
			on.text = []byte(own)
		}
		at := name
		if real := cmp.Or(on.real, plan.links[name]); real != "" {
			at = real
		}
		changes = append(changes, apply.Change{Path: at, Old: on.text, New: plan.changed[name], Mode: on.mode})
	}
	if plan.renamed != nil {
		changes = append(changes, apply.Change{Path: plan.fileName(), Old: plan.file.text, New: plan.renamed, Mode: plan.file.mode})
	}
	before := plan.ledger.Base
	plan.ledger.Base = map[string][]byte{}
	for name, f := range plan.files {
		plan.ledger.Base[name] = f.Text
	}
	text, err := plan.Catalog.Encode()
	if err != nil {
		return nil, err
	}
	files, err := plan.ledger.Files(text)
	if err != nil {
		return nil, err
	}
	for name, was := range before {
		switch now, stays := plan.ledger.Base[name]; {
		case !stays:
			files[plan.ledger.BasePath(name)] = nil
		case bytes.Equal(now, was) && !slices.Contains(plan.ledger.Mixed, name) && !plan.rebased[name]:
			delete(files, plan.ledger.BasePath(name)) // it is on disk as it is
		}
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		on, err := plan.look(name)
		if err != nil {
			return nil, err
		}
		if !bytes.Equal(on.text, files[name]) || (on.text == nil) != (files[name] == nil) {
			changes = append(changes, apply.Change{Path: name, Old: on.text, New: files[name], Mode: on.mode})
		}
	}
	return changes, nil
}

// lines counts the Go that was generated for the tables.
func (plan *Plan) lines() int {
	n := 0
	for name, f := range plan.files {
		if !f.Starter && strings.HasSuffix(name, ".go") && !strings.Contains(name, "/gate/") {
			n += bytes.Count(f.Text, []byte("\n"))
		}
	}
	return n
}
