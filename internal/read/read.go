// Package read finds the reader for a source and runs it. A source is the URL
// of a live database, the path of a SQLite database file, paths of DDL scripts,
// or a snapshot: the JSON form of a catalog. What the readers find goes into a
// catalog.Catalog.
package read

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/engine"
	"widegate/internal/engine/registry"
	"widegate/internal/fault"
	"widegate/internal/secret"
	"widegate/internal/sqltext"
)

// Source says where a schema is. It is a database, scripts or a snapshot.
type Source struct {
	Engine   string   // empty: as the URL or the files tell
	URL      string   // of a database, or the path of a SQLite file
	DDL      []string // files, folders and patterns of scripts, read in this order
	Snapshot string   // path of a catalog's JSON form
	Scratch  string   // URL of a server that runs the scripts; empty: they are parsed
	Schemas  []string // to read; empty is the connection's own
	Trusted  bool     // scripts run on the scratch server whatever its user may do

	Cache    Cache             // of what scripts gave before
	Progress func(what string) // is told what is being read; may be nil
}

// Engines are the names that Source.Engine may have.
var Engines = registry.Names()

// Parse takes what stands on a command line: one URL, database file or
// snapshot, or any number of scripts, folders and patterns of them.
func Parse(args []string, engine string) (Source, error) {
	s := Source{Engine: engine}
	const one = "name one database or snapshot, or any number of .sql files and folders of them"
	for _, a := range args {
		switch {
		case isURL(a):
			if s.URL != "" {
				return s, fault.New(one, "two databases at once: %s and %s", Hide(s.URL), Hide(a))
			}
			s.URL = a
		case strings.EqualFold(filepath.Ext(a), ".json"):
			if s.Snapshot != "" {
				return s, fault.New(one, "two snapshots at once: %s and %s", s.Snapshot, a)
			}
			s.Snapshot = a
		case isScripts(a):
			s.DDL = append(s.DDL, a)
		case s.URL != "":
			return s, fault.New(one, "two databases at once: %s and %s", Hide(s.URL), a)
		default:
			s.URL = a
		}
	}
	var given []string
	for _, x := range []string{Hide(s.URL), s.Snapshot, strings.Join(s.DDL, ", ")} {
		if x != "" {
			given = append(given, x)
		}
	}
	if len(given) > 1 {
		return s, fault.New(one, "two kinds of source at once: %s", strings.Join(given, " and "))
	}
	if len(given) == 0 {
		return s, fault.New("name a database, as in "+examples("database")+", or a folder of .sql files", "no schema is named")
	}
	return s, s.complete()
}

// examples are URLs of databases of all engines.
func examples(database string) string {
	var list []string
	for _, e := range registry.All() {
		list = append(list, e.Example(database))
	}
	return strings.Join(list[:len(list)-1], ", ") + " or " + list[len(list)-1]
}

func isURL(s string) bool {
	scheme, rest, _ := strings.Cut(s, ":")
	_, err := registry.Named(scheme)
	return strings.Contains(s, "://") || err == nil && rest != ""
}

// isScripts holds for .sql files, folders, and patterns of files.
func isScripts(s string) bool {
	info, err := os.Stat(s)
	if err == nil {
		return info.IsDir() || strings.EqualFold(filepath.Ext(s), ".sql")
	}
	return strings.EqualFold(filepath.Ext(s), ".sql") || strings.ContainsAny(s, "*?[")
}

// Known is the engine of a source.
func (s Source) Known() (engine.Engine, error) { return s.engine() }

// engine completes a source, and returns its engine.
func (s *Source) engine() (engine.Engine, error) {
	if err := s.complete(); err != nil {
		return nil, err
	}
	return registry.Of(s.Engine)
}

// engineOf is the engine of scripts: the one that is named, or the likeliest.
func (s *Source) engineOf(files []*sqltext.File) (engine.Engine, error) {
	if s.Engine != "" {
		return registry.Of(s.Engine)
	}
	return registry.Of(sqltext.Guess(files, registry.Dialects()).Name)
}

// complete finds the engine where it is not given.
func (s *Source) complete() error {
	if s.Engine != "" {
		e, err := registry.Named(s.Engine)
		if err != nil {
			return err
		}
		s.Engine = e.Dialect().Name
	}
	if s.URL == "" {
		return s.completeScratch()
	}
	if err := s.Check(); err != nil {
		return err
	}
	found := EngineOf(s.URL)
	if found == "" {
		return fault.New("write it as in "+examples("database"), "the URL %s has a scheme that is not known", s.Redacted())
	}
	if s.Engine == "" {
		s.Engine = found
	}
	if s.Engine != found {
		return fault.New("leave the engine out, or change it", "the URL %s is not one of %s", s.Redacted(), s.Engine)
	}
	return nil
}

// completeScratch takes the engine of scripts from the server they run on.
func (s *Source) completeScratch() error {
	if s.Scratch == "" || len(s.DDL) == 0 {
		return nil
	}
	if err := secret.Check(s.Scratch); err != nil {
		return err
	}
	e := registry.OfURL(s.Scratch)
	if e == nil || e.Scratch() == nil {
		return fault.New("scratch is the URL of a server; "+registry.Embedded().Title()+" scripts need none", "no scratch database can be made at %s", Hide(s.Scratch))
	}
	found := e.Dialect().Name
	if s.Engine != "" && s.Engine != found {
		return fault.New("name a server of the scripts' own dialect", "the scripts are for %s, the scratch server is %s", s.Engine, found)
	}
	s.Engine = found
	return nil
}

// EngineOf is the engine that a URL, or the path of a database, is one of; it is
// empty for a scheme that is not known.
func EngineOf(url string) string {
	if e := registry.OfURL(url); e != nil {
		return e.Dialect().Name
	}
	return ""
}

// Check refuses a URL that would be taken for another one.
func (s Source) Check() error { return secret.Check(withoutScheme(s.URL)) }

// Hide is the URL or the path of a database without its secrets, for messages.
func Hide(url string) string {
	path := withoutScheme(url)
	return url[:len(url)-len(path)] + secret.Hide(path)
}

// withoutScheme leaves the scheme of a file out, behind which an @ is part of a name.
func withoutScheme(url string) string {
	if e := registry.OfURL(url); e != nil {
		if path, isFile := e.File(url); isFile && strings.HasSuffix(url, path) {
			return path
		}
	}
	return url
}

// Redacted is the URL without its secrets, for messages.
func (s *Source) Redacted() string { return Hide(s.URL) }

// File is the file of a source whose database is one.
func (s *Source) File() (path string, isFile bool) {
	e := registry.OfURL(s.URL)
	if e == nil || s.URL == "" {
		return "", false
	}
	return e.File(s.URL)
}

// Trusting returns a context in which functions of a database may stand in for
// those of its server.
func Trusting(ctx context.Context) context.Context { return registry.Trusting(ctx) }

// Read reads the schema. No error of it tells a secret of the source.
func Read(ctx context.Context, s Source) (*catalog.Catalog, error) {
	c, err := read(ctx, s)
	if err == nil && s.Snapshot == "" {
		c.Reading = catalog.Reading
	}
	return c, s.withoutSecrets(err)
}

func (s *Source) withoutSecrets(err error) error { return secret.Error(err, s.URL, s.Scratch) }

func read(ctx context.Context, s Source) (*catalog.Catalog, error) {
	if err := s.complete(); err != nil {
		return nil, err
	}
	if s.Progress == nil {
		s.Progress = func(string) {}
	}
	if err := s.checkSchemas(); err != nil {
		return nil, err
	}
	switch {
	case s.Snapshot != "":
		return readSnapshot(s)
	case len(s.DDL) > 0:
		return readScripts(ctx, s)
	}
	c, err := readLive(ctx, s)
	if err != nil {
		return nil, err
	}
	c.Tables = slices.DeleteFunc(c.Tables, func(t catalog.Table) bool { return t.Name == catalog.Scripts })
	return c, nil
}

func readLive(ctx context.Context, s Source) (*catalog.Catalog, error) {
	e, err := s.engine()
	if err != nil {
		return nil, err
	}
	return e.Read(ctx, s.URL, s.Schemas, s.Progress)
}

// Scripts reads the schema that scripts make, without a server.
func Scripts(ctx context.Context, engine string, files []*sqltext.File, schemas []string) (*catalog.Catalog, error) {
	e, err := registry.Of(engine)
	if err != nil {
		return nil, err
	}
	return e.ReadScripts(ctx, files, schemas)
}

// checkSchemas refuses the schemas in which a server describes itself: their tables
// differ from version to version and are not the user's.
func (s *Source) checkSchemas() error {
	if s.Engine == "" {
		return nil
	}
	e, err := registry.Of(s.Engine)
	if err != nil {
		return err
	}
	for _, name := range s.Schemas {
		if err := e.CheckSchema(name); err != nil {
			return err
		}
	}
	return nil
}

func readSnapshot(s Source) (*catalog.Catalog, error) {
	text, err := sqltext.ReadBounded(s.Snapshot)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New("check the path; `widegate read URL --json > schema.json` makes a snapshot", "there is no snapshot %s", s.Snapshot)
	}
	if err != nil {
		return nil, fault.New("check your right to read the file", "reading the snapshot: %w", err)
	}
	c, err := catalog.Decode(text, registry.Dialects())
	if err != nil {
		return nil, fault.New("make it anew with `widegate read URL --json > "+s.Snapshot+"`", "%s: %w", s.Snapshot, err)
	}
	if s.Engine != "" && s.Engine != c.Engine.Name {
		return nil, fault.New("leave the engine out, or change it", "the snapshot %s is one of %s, not of %s", s.Snapshot, c.Engine.Name, s.Engine)
	}
	return c, nil
}

func readScripts(ctx context.Context, s Source) (*catalog.Catalog, error) {
	files, err := sqltext.Find(s.DDL)
	if err != nil {
		return nil, err
	}
	e, err := s.engineOf(files)
	if err != nil {
		return nil, err
	}
	if err := undecided(files, e.Dialect()); err != nil {
		return nil, err
	}
	if s.Scratch != "" {
		return readInScratch(ctx, s, e, files)
	}
	c, err := s.readDialect(ctx, e.Dialect(), files)
	if err == nil || s.Engine != "" || ctx.Err() != nil {
		return c, err
	}
	for _, other := range sqltext.Guesses(files, registry.Dialects())[1:] { // the signs may have been misleading
		if c, again := s.readDialect(ctx, other, files); again == nil {
			return c, nil
		}
	}
	return nil, err
}

func (s Source) readDialect(ctx context.Context, d *sqltext.Dialect, files []*sqltext.File) (*catalog.Catalog, error) {
	return s.Cache.through(d.Name, files, s.Schemas, func() (*catalog.Catalog, error) {
		s.Progress("scripts")
		c, err := Scripts(ctx, d.Name, files, s.Schemas)
		if err == nil {
			noteIncluded(c, d, files)
		}
		return c, err
	})
}

// noteIncluded notes the files that the scripts have a shell run.
func noteIncluded(c *catalog.Catalog, d *sqltext.Dialect, files []*sqltext.File) {
	for _, f := range files {
		for _, s := range sqltext.Included(f, d) {
			line, column := s.Position(0)
			c.Notes = append(c.Notes, catalog.Note{Text: fmt.Sprintf("%s:%d:%d: %s: the file that this names is not read; name it too", f.Path, line, column, s.Head())})
		}
	}
}

// undecided finds a place in a drafted migration that nobody has filled in.
func undecided(files []*sqltext.File, d *sqltext.Dialect) error {
	for _, f := range files {
		if !strings.Contains(f.Text, "DECIDE ") {
			continue
		}
		for _, statement := range sqltext.Split(f, d) {
			if strings.HasPrefix(statement.Text, "DECIDE ") {
				line, column := statement.Position(0)
				return fault.New("fill in the places marked DECIDE, and remove those lines", "%s:%d:%d: the script waits for a decision", f.Path, line, column)
			}
		}
	}
	return nil
}
