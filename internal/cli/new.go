package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"widegate"
	"widegate/internal/catalog"
	"widegate/internal/engine/registry"
	"widegate/internal/fault"
	"widegate/internal/gomodule"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/rooted"
)

// setup is what the flags of new say.
type setup struct {
	url     string
	engine  string
	schemas []string
	folder  string
	pkg     string
	module  string
	take    []string
	yes     bool
}

func (a *app) newCommand() *cobra.Command {
	var s setup
	cmd := &cobra.Command{
		Use:   "new [--url URL]",
		Short: "Set up a project",
		Long: `Reads the schema, chooses tables and what they refer to, and writes a small
widegate.yaml. In a folder that belongs to no Go module it makes one. Without
--url it asks for everything, on a terminal.`,
		Example: `  widegate new --url sqlite:bees.db
  widegate new --url postgres://localhost/bees --folder bees --take 'hive,api*'`,
		Args: usage(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if s.url == "" && !isTerminal(a.in) {
				return usageError{errors.New("--url is missing: the database, or .sql files")}
			}
			if s.url == "" {
				answered, err := a.ask(cmd.Context(), s)
				if err != nil {
					return err
				}
				s = answered
			}
			return a.setUp(cmd, s)
		},
	}
	f := cmd.Flags()
	f.StringVar(&s.url, "url", "", "the `URL` of the database, or scripts, as widegate read takes them")
	f.StringVar(&s.engine, "engine", "", "the `ENGINE` of scripts: "+strings.Join(read.Engines, ", "))
	f.StringSliceVar(&s.schemas, "schema", nil, "a `SCHEMA` to read; may be repeated")
	f.StringVar(&s.folder, "folder", ".", "the `FOLDER` of the project")
	f.StringVar(&s.pkg, "package", defaultPackage, "the `NAME` of the package of entities and queries")
	f.StringVar(&s.module, "module", "", "the `PATH` of the Go module to make; the folder's name when left out")
	f.StringSliceVar(&s.take, "take", nil, "the `TABLES` to take, by name or pattern; all when left out")
	f.BoolVarP(&s.yes, "yes", "y", false, "replace a project file that is there")
	return cmd
}

func (a *app) setUp(cmd *cobra.Command, s setup) error {
	if err := s.check(); err != nil {
		return err
	}
	file := filepath.Join(s.folder, project.FileName)
	if _, err := os.Lstat(file); err == nil && !s.yes {
		return fault.New("edit it, or replace it with --yes", "%s is there already", file)
	}
	source, err := s.source()
	if err != nil {
		return err
	}
	c, err := a.readSource(cmd.Context(), source)
	if err != nil {
		return err
	}
	source.Engine = c.Engine.Name // as the scripts or the snapshot tell
	text, err := s.draft(source)
	if err != nil {
		return err
	}
	p, err := project.Parse(file, text)
	if err != nil {
		return err
	}
	m, err := model.Build(c, p, project.NewNames())
	if err != nil {
		return err
	}
	if around, err := gomodule.Find(s.folder); err == nil {
		if err := around.CheckVersion(widegate.Sources); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(s.folder, 0o755); err != nil {
		return fmt.Errorf("making the folder: %w", err)
	}
	if err := a.ensureModule(s); err != nil {
		return err
	}
	if err := writeBelow(s.folder, project.FileName, text); err != nil {
		return fault.New("check that the folder may be written", "writing the project file: %w", err)
	}
	if err := saveProjectSchema(p); err != nil {
		return err
	}
	a.showChoice(c, m)
	a.say("\nWrote %s.", file)
	if p.Database.URL == p.Database.Written && read.Hide(p.Database.URL) != p.Database.URL {
		a.say("It holds a password: put that into the environment, and ${NAME} in its place, before you commit the file.")
	}
	a.sayNext(p, toWrite(p), toApply(cmd.Context(), p))
	return nil
}

// check refuses early what would fail in the end.
func (s setup) check() error {
	if err := project.CheckPackage("--package", s.pkg); err != nil {
		return usageError{err}
	}
	existing := s.folder
	for existing != "." && existing != filepath.Dir(existing) {
		if _, err := os.Stat(existing); err == nil {
			break
		}
		existing = filepath.Dir(existing)
	}
	trial, err := os.CreateTemp(existing, ".widegate-*")
	if err != nil {
		return fault.New("give yourself the right to write to it, or name another by --folder", "the folder %s cannot be written to", existing)
	}
	return errors.Join(trial.Close(), os.Remove(trial.Name()))
}

// source is the one that --url names. ${NAME} in it stands for a variable of
// the environment, as in the project file.
func (s setup) source() (read.Source, error) {
	url, err := project.Expand(s.url)
	if err != nil {
		return read.Source{}, err
	}
	source, err := read.Parse([]string{url}, s.engine)
	source.Schemas = s.schemas
	return source, err
}

// defaultPackage is that of entities and queries.
const defaultPackage = "store"

// draft is the project file that the flags ask for. A path that was named from
// here is written as seen from the project's folder.
func (s setup) draft(source read.Source) (text []byte, err error) {
	d := project.Draft{Engine: source.Engine, Schemas: s.schemas, Take: s.take, Package: s.pkg}
	for _, file := range source.DDL {
		at, err := seenFrom(s.folder, file)
		if err != nil {
			return nil, err
		}
		d.DDL = append(d.DDL, at)
	}
	d.URL = s.url // with its variables
	file, isFile := source.File()
	switch {
	case len(source.DDL) > 0:
		d.URL = ""
		if e, err := registry.Of(source.Engine); err == nil {
			if _, isFile := e.File(""); isFile { // `widegate apply` makes it
				d.URL = e.Example(s.databaseName())
			}
		}
	case source.Snapshot != "":
		if d.URL, err = seenFrom(s.folder, source.Snapshot); err != nil {
			return nil, err
		}
	case isFile:
		at, err := seenFrom(s.folder, file)
		if err != nil {
			return nil, err
		}
		d.URL = registry.OfURL(source.URL).Schemes()[0] + ":" + at
	}
	return d.Text(), nil
}

// databaseName is what a database of the project is called: as the module is, or
// its folder.
func (s setup) databaseName() string {
	if s.module != "" {
		return path.Base(s.module)
	}
	full, err := filepath.Abs(s.folder)
	if err != nil || filepath.Base(full) == string(filepath.Separator) {
		return "database"
	}
	return filepath.Base(full)
}

// seenFrom makes a path relative to folder. One that was given from the root
// stays so, unless it lies in the folder.
func seenFrom(folder, path string) (string, error) {
	base, err := filepath.Abs(folder)
	if err != nil {
		return "", err
	}
	full, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	below, err := filepath.Rel(base, full)
	if err != nil || filepath.IsAbs(path) && !filepath.IsLocal(below) {
		return filepath.ToSlash(path), nil
	}
	return filepath.ToSlash(below), nil
}

// ensureModule makes a Go module where the folder belongs to none.
func (a *app) ensureModule(s setup) error {
	if _, err := os.Stat(filepath.Join(s.folder, "go.mod")); err == nil {
		return nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("looking for go.mod: %w", err)
	}
	if m, err := gomodule.Find(s.folder); err == nil && s.module == "" {
		a.say("The code goes into the module around the folder, as %s.", m.Path())
		return nil
	}
	m, err := gomodule.Make(s.folder, s.module, widegate.Sources)
	if err != nil {
		return err
	}
	a.say("Made the Go module %s.", m.Path())
	return nil
}

// showChoice says which tables are taken, and what came along.
func (a *app) showChoice(c *catalog.Catalog, m *model.Model) {
	a.say("Took %s of %d.", count(len(m.Entities)+len(m.Joins), "table"), len(c.Tables))
	for _, f := range m.Followed {
		a.say("  %s came along, because of %s", f.Table, f.By)
	}
	a.showAttention(m)
}

// writeBelow writes a file below a folder, and makes the folders between. It
// follows no links.
func writeBelow(folder, name string, text []byte) error {
	at, err := rooted.Open(folder)
	if err != nil {
		return err
	}
	defer at.Close()
	if err := at.MkdirAll(path.Dir(name)); err != nil {
		return err
	}
	return at.Write(name, text, 0o644)
}
