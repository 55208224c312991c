package read

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"widegate/internal/catalog"
	"widegate/internal/engine"
	"widegate/internal/engine/registry"
	"widegate/internal/fault"
	"widegate/internal/secret"
	"widegate/internal/sqltext"
)

// scratchPrefix begins the names of throw-away databases; behind it stand the
// second in which one was made, and a random part.
const scratchPrefix = "widegate_scratch_"

// leftOver is the age at which a throw-away database that is still there
// belongs to a run that was killed.
const leftOver = time.Hour

// readInScratch makes a database on the scratch server, runs the scripts in
// it, reads what they made and drops it, whatever happens. Only a kill -9 or a
// lost connection leaves it behind; the next run removes it when it is old.
func readInScratch(ctx context.Context, s Source, e engine.Engine, files []*sqltext.File) (c *catalog.Catalog, err error) {
	ctx, cancel := context.WithTimeout(ctx, scratchTime)
	defer cancel()
	err = inScratchDatabase(ctx, s, e, files, func(at string) error {
		c, err = e.Read(ctx, at, s.Schemas, s.Progress)
		return err
	})
	return c, err
}

// inScratchDatabase runs do with the URL of a database that the scripts made,
// and drops it then.
func inScratchDatabase(ctx context.Context, s Source, e engine.Engine, files []*sqltext.File, do func(at string) error) (err error) {
	return withScratch(ctx, e, s.Scratch, s.Trusted, func(at string) error {
		if err := runScratch(ctx, e, at, files, s.Progress); err != nil {
			return err
		}
		return do(at)
	})
}

// scratchTime is how long all scripts together may take.
const scratchTime = 10 * time.Minute

// confined returns an error for a user whose scripts could leave their database:
// they could run programs of the server, read its files or change other
// databases.
func confined(ctx context.Context, scratch *engine.Scratch, admin Session, url string) error {
	rights, err := admin.Names(ctx, scratch.Free)
	if err != nil {
		return fmt.Errorf("looking at the rights of the scratch server's user: %w", err)
	}
	if len(rights) == 0 {
		return nil
	}
	const shown = 5
	list := strings.Join(rights[:min(len(rights), shown)], ", ")
	if len(rights) > shown {
		list += fmt.Sprintf(" and %d more", len(rights)-shown)
	}
	return fault.New("make a user for it by `"+scratch.Role+"` and name that one; or, if you know what the scripts do, run again with --trust-scripts",
		"scripts are not run at %s: its user has rights beyond a database of their own (%s), and so would the scripts", secret.Hide(url), list)
}

// withScratch runs do with the URL of a new database on a server.
func withScratch(ctx context.Context, e engine.Engine, url string, trusted bool, do func(at string) error) (err error) {
	scratch := e.Scratch()
	if scratch == nil {
		return fault.New("leave scratch out: "+e.Title()+" scripts are run in memory", "scripts of %s need no scratch database", e.Dialect().Name)
	}
	admin, err := e.Open(ctx, url)
	if err != nil {
		return err
	}
	defer admin.Close()
	if !trusted {
		if err := confined(ctx, scratch, admin, url); err != nil {
			return err
		}
	}
	removeOld(ctx, e, admin, time.Now())
	name := scratchPrefix + strconv.FormatInt(time.Now().Unix(), 10) + "_" + strings.ToLower(rand.Text()[:8])
	if err := admin.Exec(ctx, "CREATE DATABASE "+e.Dialect().Quoted(name)+scratch.Set); err != nil {
		return fault.New("use a user who may make databases, or leave scratch out: then the scripts are parsed without a server",
			"making a scratch database at %s: %w", secret.Hide(url), err)
	}
	defer func() {
		// The context may be over by then.
		if dropping := dropDatabase(context.WithoutCancel(ctx), e, admin, name); dropping != nil {
			err = errors.Join(err, fmt.Errorf("dropping the scratch database %s: %w", name, dropping))
		}
	}()
	at, err := engine.WithDatabase(url, name)
	if err != nil {
		return err
	}
	return do(at)
}

// Workspace is an empty database of one's own to try things in.
type Workspace interface {
	Exec(ctx context.Context, statement string) error
	Names(ctx context.Context, query string) ([]string, error) // a query of one column of text
	Read(ctx context.Context) (*catalog.Catalog, error)
	Shell(ctx context.Context, script []byte) (ran bool, err error) // in the engine's own client
	Dump(ctx context.Context) (lines []string, ran bool, err error) // by the engine's own program
}

// InWorkspace runs do with a new database, which is gone afterwards: in a
// temporary file, or on the scratch server at url.
func InWorkspace(ctx context.Context, name, url string, trusted bool, do func(w Workspace) error) error {
	e, err := registry.Of(name)
	if err != nil {
		return err
	}
	if e.Scratch() == nil {
		return inFile(ctx, e, do)
	}
	if url == "" {
		return fault.New("name a server where databases may be made, as in --scratch "+e.Example("")+", or set database.scratch in the project file", "there is no scratch server")
	}
	if found := EngineOf(url); found != name {
		return fault.New("name a server of that engine", "the scratch server %s is not one of %s", secret.Hide(url), name)
	}
	return withScratch(ctx, e, url, trusted, func(at string) error {
		db, err := e.Connect(ctx, at)
		if err != nil {
			return err
		}
		defer db.Close()
		return do(workspace{db, e, at, func(ctx context.Context) (*catalog.Catalog, error) {
			schemas, err := made(ctx, e, db)
			if err != nil {
				return nil, err
			}
			return e.Read(ctx, at, schemas, func(string) {})
		}})
	})
}

// made are the schemas of a workspace in which there are tables, and its own; none
// where a database has only one.
func made(ctx context.Context, e engine.Engine, db Session) ([]string, error) {
	schemas, own, err := e.Schemas(ctx, db)
	if err != nil {
		return nil, fmt.Errorf("listing the schemas: %w", err)
	}
	if own != "" && !slices.Contains(schemas, own) {
		schemas = append(schemas, own)
	}
	return schemas, nil
}

func inFile(ctx context.Context, e engine.Engine, do func(w Workspace) error) error {
	folder, err := os.MkdirTemp("", "widegate-scratch-")
	if err != nil {
		return fmt.Errorf("making a scratch database: %w", err)
	}
	defer os.RemoveAll(folder)
	file := filepath.Join(folder, "scratch.db")
	if err := e.Make(ctx, file); err != nil {
		return err
	}
	db, err := e.Connect(ctx, file)
	if err != nil {
		return err
	}
	defer db.Close()
	return do(workspace{db, e, file, func(ctx context.Context) (*catalog.Catalog, error) { return e.Read(ctx, file, nil, func(string) {}) }})
}

type workspace struct {
	Session
	engine  engine.Engine
	address string
	read    func(ctx context.Context) (*catalog.Catalog, error)
}

func (w workspace) Read(ctx context.Context) (*catalog.Catalog, error) { return w.read(ctx) }

// Schemas are the schemas of a database that hold tables, and the one in which names
// without a schema are found; none where a database has only one.
func Schemas(ctx context.Context, s Source) (list []string, own string, err error) {
	e, err := s.engine()
	if err != nil {
		return nil, "", err
	}
	if !e.Dialect().Schemas {
		return nil, "", nil
	}
	db, err := e.Open(ctx, s.URL)
	if err != nil {
		return nil, "", err
	}
	defer db.Close()
	return e.Schemas(ctx, db)
}

// Names runs a query of one column of text in a live database.
func Names(ctx context.Context, s Source, query string) ([]string, error) {
	if s.URL == "" {
		return nil, fault.New("name a database", "%s has no rows", s.Redacted())
	}
	e, err := s.engine()
	if err != nil {
		return nil, err
	}
	return namesOf(ctx, e, s.URL, query)
}

func namesOf(ctx context.Context, e engine.Engine, url, query string) ([]string, error) {
	db, err := e.Open(ctx, url)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	return db.Names(ctx, query)
}

// dropDatabase drops a database though something may still be connected to it.
func dropDatabase(ctx context.Context, e engine.Engine, admin Session, name string) error {
	scratch, drop := e.Scratch(), "DROP DATABASE "+e.Dialect().Quoted(name)
	err := admin.Exec(ctx, drop+scratch.Drop)
	for try := 0; err != nil && scratch.End != "" && try < 40; try++ { // a session takes a moment to end
		if ending := admin.Exec(ctx, fmt.Sprintf(scratch.End, name)); ending != nil {
			return ending
		}
		if err = admin.Exec(ctx, drop); err != nil {
			time.Sleep(50 * time.Millisecond)
		}
	}
	return err
}

func removeOld(ctx context.Context, e engine.Engine, admin Session, now time.Time) {
	names, err := admin.Names(ctx, e.Scratch().List)
	if err != nil {
		return
	}
	for _, name := range names {
		made, _, _ := strings.Cut(strings.TrimPrefix(name, scratchPrefix), "_")
		second, err := strconv.ParseInt(made, 10, 64)
		if err == nil && strings.HasPrefix(name, scratchPrefix) && now.Sub(time.Unix(second, 0)) > leftOver {
			// One that another run just removed, or still uses, is left alone.
			_ = admin.Exec(ctx, "DROP DATABASE "+e.Dialect().Quoted(name))
		}
	}
}

func runScratch(ctx context.Context, e engine.Engine, at string, files []*sqltext.File, progress func(string)) error {
	db, err := e.Open(ctx, at)
	if err != nil {
		return err
	}
	defer db.Close()
	if err := db.Exec(ctx, e.Scratch().Limit); err != nil {
		return fmt.Errorf("bounding the scripts: %w", err)
	}
	for _, f := range files {
		progress(f.Path)
		for _, statement := range sqltext.Split(f, e.Dialect()) {
			if !inScratch(statement.Text) {
				continue
			}
			if err := db.Exec(ctx, statement.Text); err != nil {
				line, column := statement.Position(ErrorPlace(statement.Text, err))
				return fault.New("mend the statement, or give the scripts in the order in which they run", "%s:%d:%d: %s: %w", f.Path, line, column, statement.Head(), err)
			}
		}
	}
	return nil
}

// What scripts do in a scratch database: they change its schema, and nothing
// outside of it.
var (
	schemaWork  = regexp.MustCompile(`(?is)^(create|alter|drop|comment|rename|set|do|select\s+(pg_catalog\.)?set_config)\b`)
	outsideWork = regexp.MustCompile(`(?is)^((create|alter|drop)\s+(or\s+replace\s+)?(database|schema\s+if\s+not\s+exists\s+\x60|role|user|group|tablespace|server|system|subscription|publication|event\s+trigger)\b|set\s+(global|password|role|session\s+authorization)\b|alter\s.*\sowner\s+to\s|alter\s+default\s+privileges)`)
)

func inScratch(statement string) bool {
	return schemaWork.MatchString(statement) && !outsideWork.MatchString(statement)
}
