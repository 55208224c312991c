package cli

import (
	"cmp"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"

	"widegate/internal/engine/registry"
	"widegate/internal/generate"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/read"
)

// exampleURL is a URL of an engine, for those who are to name one.
func exampleURL(name string) string {
	e, err := registry.Of(name)
	if err != nil {
		e = registry.Embedded()
	}
	return e.Example("bees")
}

// step is a command that makes sense now, and what it does.
type step struct{ command, what string }

// sayNext prints what makes sense now. Nothing is said of what is done already.
func (a *app) sayNext(p *project.Project, steps ...[]step) {
	list := columns{titles: []string{"", ""}}
	if folder := relative(p.Root); folder != "." {
		list.add("cd "+folder, "")
	}
	for _, some := range steps {
		for _, s := range some {
			list.add(s.command, s.what)
		}
	}
	if len(list.rows) == 0 {
		return
	}
	a.heading("Next")
	list.print(a)
}

// toApply is the step that brings the database of a project's scripts up to date,
// if it is behind.
func toApply(ctx context.Context, p *project.Project) []step {
	source := generate.Database(p)
	if len(source.DDL) == 0 {
		return nil
	}
	source.URL = cmp.Or(os.Getenv("DATABASE_URL"), source.URL)
	if source.URL == "" {
		return []step{{"widegate apply " + exampleURL(p.Database.Engine), "creates the database from the scripts"}}
	}
	target, err := read.Parse([]string{source.URL}, "")
	if err != nil {
		return nil
	}
	target.DDL = source.DDL
	switch waiting, missing := behind(ctx, target); {
	case missing:
		return []step{{"widegate apply", "creates " + target.Redacted() + " from the scripts"}}
	case waiting > 0:
		return []step{{"widegate apply", "runs " + count(waiting, "script") + " on " + target.Redacted()}}
	}
	return nil
}

// toRun are the steps that start the service and ask it.
func toRun(p *project.Project, command string, m *model.Model) []step {
	if p.API.None {
		return nil
	}
	if _, err := exec.LookPath("go"); err != nil {
		return []step{{"install Go, from your system's packages or https://go.dev/dl", "there is no Go toolchain on the path"}}
	}
	return []step{
		{start(p, command), "starts the service"},
		{"curl localhost:8080" + m.Base + "/" + m.Widest().Path, "asks it, in another terminal"},
	}
}

// start is the command that builds and starts the service. The project's Makefile
// has it built as this program was, which shares what is the same.
func start(p *project.Project, command string) string {
	_, withoutMake := exec.LookPath("make")
	_, withoutFile := os.Stat(filepath.Join(p.Root, "Makefile"))
	if withoutMake == nil && withoutFile == nil {
		return "make run"
	}
	return "go run " + command
}

// written reports whether code was written for a project.
func written(p *project.Project) bool {
	ledger, err := project.LoadLedger(p, registry.Dialects())
	return err == nil && ledger.Schema() != nil
}

// toWrite is the step that writes the code, where the project has a file.
func toWrite(p *project.Project) []step {
	what := "writes the code"
	if written(p) {
		what = "brings it into the code"
	}
	return []step{{"widegate write", what}}
}

// projectHere is the project of the current folder, or nil.
func (a *app) projectHere() (*project.Project, error) {
	if _, err := os.Stat(a.config); errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	return project.Load(a.config)
}
