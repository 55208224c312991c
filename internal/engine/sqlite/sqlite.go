// Package sqlite is SQLite: what the packages below it know of it, as the tool asks
// for it.
package sqlite

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"widegate/gate"
	"widegate/gate/sqlite"
	"widegate/internal/catalog"
	"widegate/internal/engine"
	"widegate/internal/engine/sqlite/dialect"
	"widegate/internal/engine/sqlite/drafting"
	"widegate/internal/engine/sqlite/embed"
	"widegate/internal/engine/sqlite/live"
	"widegate/internal/fault"
	"widegate/internal/migration"
	"widegate/internal/sqltext"
)

// Engine is SQLite, which is built into the tool.
type Engine struct{}

func (Engine) Dialect() *sqltext.Dialect { return dialect.SQLite }
func (Engine) Title() string             { return "SQLite" }
func (Engine) Schemes() []string         { return []string{scheme} }

const scheme = "sqlite"

func (Engine) Example(database string) string {
	if database == "" {
		return scheme + ":"
	}
	return scheme + ":" + database + ".db"
}

// File is the file of sqlite:path, sqlite:///path or a path.
func (Engine) File(url string) (string, bool) {
	if n := len(scheme) + 1; len(url) >= n && strings.EqualFold(url[:n], scheme+":") {
		url = url[n:]
	}
	return strings.TrimPrefix(url, "//"), true
}

func pathOf(url string) string {
	path, _ := Engine{}.File(url)
	return path
}

func (Engine) Open(_ context.Context, url string) (engine.Session, error) {
	return engine.Opened(live.Open(pathOf(url)))
}

func (Engine) Connect(_ context.Context, url string) (engine.Session, error) {
	path := pathOf(url)
	if _, err := os.Stat(path); err != nil {
		return nil, fault.New("check the path", "there is no file %s", path)
	}
	return engine.Opened(live.Create(path))
}

// Missing takes a file that is empty for one that is there.
func (Engine) Missing(_ context.Context, url string) (bool, error) {
	_, err := os.Stat(pathOf(url))
	return errors.Is(err, os.ErrNotExist), nil
}

func (Engine) Make(_ context.Context, url string) error {
	path := pathOf(url)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fault.New("name a folder that you may write to", "making the folder of the database: %w", err)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return fault.New("name a folder that you may write to", "making the database: %w", err)
	}
	return f.Close()
}

func (Engine) ErrorPlace(statement string, err error) (int, bool) { return live.Place(statement, err) }
func (Engine) ErrorText(err error) (string, bool)                 { return live.Message(err) }

func (Engine) Read(ctx context.Context, url string, _ []string, _ func(what string)) (*catalog.Catalog, error) {
	path := pathOf(url)
	if looksLikeScript(path) {
		return nil, fault.New("give a DDL script the ending .sql", "%s is a text, not a SQLite database", path)
	}
	return live.ReadFile(ctx, path)
}

// looksLikeScript reports whether a file begins like SQL text.
func looksLikeScript(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 512)
	n, _ := io.ReadFull(f, head)
	text := strings.ToUpper(strings.TrimSpace(string(head[:n])))
	return strings.HasPrefix(text, "CREATE ") || strings.HasPrefix(text, "--")
}

func (Engine) CheckSchema(name string) error {
	if !strings.EqualFold(name, "main") {
		return fault.New("leave the schema out; a SQLite file has one", "there is no schema %q in a SQLite file", name)
	}
	return nil
}

func (Engine) Schemas(context.Context, engine.Session) ([]string, string, error) { return nil, "", nil }

func (Engine) MarkQuery() string {
	return "SELECT CAST(schema_version AS TEXT) FROM pragma_schema_version"
}

func (Engine) ReadScripts(ctx context.Context, files []*sqltext.File, _ []string) (*catalog.Catalog, error) {
	return live.ReadScripts(ctx, files)
}

func (Engine) OpenScripts(ctx context.Context, files []*sqltext.File) (engine.Session, error) {
	return engine.Opened(live.OpenScripts(ctx, files))
}

func (Engine) Scratch() *engine.Scratch { return nil }

func (Engine) Shell(url string) (engine.Program, error) {
	return engine.Program{Names: []string{"sqlite3"}, Args: []string{pathOf(url)}}, nil
}

func (Engine) Dumper(string) (engine.Program, error) { return engine.Program{}, nil }

func (Engine) DumpQuery() string {
	return "SELECT sql FROM sqlite_schema WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite!_%' ESCAPE '!'"
}

func (Engine) Drafting() migration.Engine { return drafting.Engine{} }

func (Engine) Rollout() *engine.Rollout {
	return &engine.Rollout{
		Own:    `SELECT 'main'`,
		Tables: `SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite!_%' ESCAPE '!'`,
		Begin:  "BEGIN IMMEDIATE",
		Whole:  true, SettingsOutside: true,
		Ranks: ranks,
	}
}

// ranks are the statements that are not plain work.
var ranks = []engine.Ranked{
	{Rank: engine.Begins, Form: engine.BeginForm},
	{Rank: engine.Ends, Form: regexp.MustCompile(`(?i)^(commit|end)\b`)},
	{Rank: engine.Drops, Form: engine.DropForm},
	{Rank: engine.Settles, Form: regexp.MustCompile(`(?i)^(pragma|create\s+temp(orary)?|attach|detach)\b`)},
	{Rank: engine.Final, Form: regexp.MustCompile(`(?i)^vacuum\b`)},
}

func (Engine) OpenService(ctx context.Context, url string) (gate.DB, error) {
	return sqlite.Open(ctx, pathOf(url))
}
func (Engine) Driver() string     { return "github.com/ncruces/go-sqlite3" }
func (Engine) URLForm() string    { return ": sqlite:path, or the path of a file" }
func (Engine) Packages() []string { return []string{"sqlite", "sqlite/spelling"} }
func (Engine) Analyze() string    { return "PRAGMA optimize" }

func (Engine) Embed(c *catalog.Catalog) (statements, left []string) { return embed.Tables(c) }

func (Engine) Endings() []string { return []string{".db", ".db3", ".sqlite", ".sqlite3"} }
