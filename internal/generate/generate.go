// Package generate runs the pipeline: it reads the schema that a project file
// names, makes the model, renders the files, compares them with what is on
// disk and what was written before, and brings the difference to disk.
package generate

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"widegate"
	"widegate/internal/apply"
	"widegate/internal/catalog"
	"widegate/internal/gomodule"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render"
	"widegate/internal/render/golang"
	"widegate/internal/render/openapi"
)

// Plan is a generation that has not been brought to disk.
type Plan struct {
	Catalog   *catalog.Catalog
	Model     *model.Model
	Decisions []apply.Decision // for every file that is rendered or was
	Command   string           // the folder of the starter, as `go run` takes it

	project *project.Project
	module  *gomodule.Module
	ledger  *project.Ledger
	files   map[string]render.File
	disk    map[string][]byte
	started time.Time
}

// ErrClash is returned when files must be decided on by a person first.
var ErrClash = errors.New("files were edited")

// Source is where the project file says the schema is.
func Source(p *project.Project) read.Source {
	s := read.Source{Engine: p.Database.Engine, URL: p.Database.URL, Scratch: p.Database.Scratch, Schemas: p.Database.Schemas}
	for _, file := range p.Database.DDL {
		s.DDL = append(s.DDL, p.Resolve(file))
	}
	if s.URL != "" && (!strings.Contains(s.URL, "://") || strings.HasPrefix(strings.ToLower(s.URL), "sqlite:")) {
		s.URL = p.Resolve(s.Path())
	}
	if strings.EqualFold(filepath.Ext(s.URL), ".json") && !strings.Contains(s.URL, "://") {
		s.URL, s.Snapshot = "", s.URL
	}
	return s
}

// Make reads, models and renders, and decides what happens to each file. The
// source is that of the project, with what the caller adds to it.
func Make(ctx context.Context, p *project.Project, source read.Source) (*Plan, error) {
	plan := &Plan{project: p, started: time.Now(), files: map[string]render.File{}, disk: map[string][]byte{}}
	var err error
	if plan.module, err = gomodule.Find(p.Root); err != nil {
		return nil, err
	}
	if plan.ledger, err = project.LoadLedger(p.Root); err != nil {
		return nil, err
	}
	if plan.Catalog, err = read.Read(ctx, source); err != nil {
		return nil, err
	}
	if plan.Model, err = model.Build(plan.Catalog, p, &plan.ledger.Names); err != nil {
		return nil, err
	}
	if err := plan.render(); err != nil {
		return nil, err
	}
	if err := plan.readDisk(); err != nil {
		return nil, err
	}
	plan.decide()
	return plan, nil
}

func (plan *Plan) render() error {
	p := plan.project
	target := golang.Target{
		Module:      plan.module.Path(),
		StoreFolder: path.Clean(filepath.ToSlash(p.Code.Folder)),
		APIFolder:   path.Clean(filepath.ToSlash(p.API.Folder)),
		Package:     p.Code.Package,
		DefaultURL:  starterURL(plan.Model.Engine, p.Database.URL),
	}
	code, err := golang.Render(plan.Model, target)
	if err != nil {
		return err
	}
	runtime, err := golang.Runtime(widegate.Sources, plan.Model.Engine, target)
	if err != nil {
		return err
	}
	document := openapi.Render(plan.Model, path.Base(target.Module))
	plan.Command = "./" + path.Join("cmd", path.Base(target.Module))
	code = append(code, render.File{Path: path.Join(target.APIFolder, "openapi.json"), Text: document})
	for _, f := range slices.Concat(code, runtime) {
		plan.files[f.Path] = f
	}
	return nil
}

var hasPassword = regexp.MustCompile(`://[^/@]*:[^/@]+@`)

// starterURL is the URL that the starter uses where the environment names none:
// the project's own, unless there is a password in it or it is only DDL.
func starterURL(engine, url string) string {
	if url == "" || hasPassword.MatchString(url) {
		return ""
	}
	if engine == catalog.SQLite {
		return "sqlite:" + read.SQLitePath(url)
	}
	return url
}

// readDisk reads what lies where files are rendered or were.
func (plan *Plan) readDisk() error {
	for _, name := range plan.allFiles() {
		text, err := os.ReadFile(filepath.Join(plan.project.Root, filepath.FromSlash(name)))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("reading %s: %w", name, err)
		}
		if text == nil {
			text = []byte{}
		}
		plan.disk[name] = text
	}
	return nil
}

func (plan *Plan) allFiles() []string {
	names := plan.ledger.Written()
	for name := range plan.files {
		names = append(names, name)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

func (plan *Plan) decide() {
	fresh := plan.nothingOnDisk()
	for _, name := range plan.allFiles() {
		base, mine := plan.ledger.Base[name], plan.disk[name]
		f, rendered := plan.files[name]
		action := apply.Decide(base, mine, f.Text)
		switch {
		case f.Starter && mine != nil:
			action = apply.Same
		case f.Starter && base != nil:
			action = apply.LeftOut
		case fresh && rendered:
			action = apply.New // the whole output is gone, not files that somebody took out
		}
		plan.Decisions = append(plan.Decisions, apply.Decision{Path: name, Action: action})
	}
}

func (plan *Plan) nothingOnDisk() bool {
	for name := range plan.files {
		if plan.disk[name] != nil {
			return false
		}
	}
	return true
}

// Clashes are the files that a person must decide on.
func (plan *Plan) Clashes() []apply.Decision {
	return slices.DeleteFunc(slices.Clone(plan.Decisions), func(d apply.Decision) bool { return !d.Action.Clash() })
}

// Summary says what a plan brought to disk.
type Summary struct {
	Written int // files of the plan that were written or removed
	Lines   int // of generated code, the runtime apart
	Elapsed time.Duration
	Tidied  error // nil, or why go.mod could not be completed
}

// Count returns the number of files with one of the actions.
func (plan *Plan) Count(actions ...apply.Action) int {
	n := 0
	for _, d := range plan.Decisions {
		if slices.Contains(actions, d.Action) {
			n++
		}
	}
	return n
}

// Lock keeps other runs out of a project, and finishes one that was killed. A
// plan that is to be applied is made under it.
func Lock(p *project.Project) (*apply.Lock, error) {
	return apply.Acquire(p.Root, filepath.Join(p.Root, project.LedgerFolder))
}

// Apply brings the plan to disk. It returns ErrClash, and has changed nothing,
// where a person must decide first.
func (plan *Plan) Apply(ctx context.Context, lock *apply.Lock) (Summary, error) {
	if len(plan.Clashes()) > 0 {
		return Summary{}, ErrClash
	}
	root := plan.project.Root
	state := filepath.Join(root, project.LedgerFolder)
	changes, err := plan.changes()
	if err != nil {
		return Summary{}, err
	}
	if err := lock.Run(root, state, changes); err != nil {
		return Summary{}, err
	}
	s := Summary{Written: plan.Count(apply.New, apply.Changed, apply.Removed), Lines: plan.lines()}
	required, err := plan.module.Require(plan.Model.Engine, widegate.Sources)
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
	for _, d := range plan.Decisions {
		f, rendered := plan.files[d.Path]
		switch d.Action {
		case apply.New, apply.Changed:
			changes = append(changes, apply.Change{Path: d.Path, Text: f.Text})
		case apply.Removed:
			changes = append(changes, apply.Change{Path: d.Path})
		}
		if rendered {
			plan.ledger.Base[d.Path] = f.Text
			continue
		}
		delete(plan.ledger.Base, d.Path)
		changes = append(changes, apply.Change{Path: project.BasePath(d.Path)})
	}
	text, err := plan.Catalog.Encode()
	if err != nil {
		return nil, err
	}
	files, err := plan.ledger.Files(text)
	if err != nil {
		return nil, err
	}
	for name, text := range files {
		old, err := os.ReadFile(filepath.Join(plan.project.Root, filepath.FromSlash(name)))
		if err == nil && bytes.Equal(old, text) {
			continue
		}
		changes = append(changes, apply.Change{Path: name, Text: text})
	}
	return slices.DeleteFunc(changes, func(c apply.Change) bool { return c.Text == nil && plan.gone(c.Path) }), nil
}

func (plan *Plan) gone(name string) bool {
	_, err := os.Lstat(filepath.Join(plan.project.Root, filepath.FromSlash(name)))
	return errors.Is(err, fs.ErrNotExist)
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
