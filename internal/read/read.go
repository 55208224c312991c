// Package read finds the reader for a source and runs it. A source is the URL
// of a live database, the path of a SQLite database file, or paths of DDL
// files. What the readers find goes into a catalog.Catalog.
package read

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/read/mysql"
	"widegate/internal/read/postgres"
	"widegate/internal/read/script"
	"widegate/internal/read/sqlite"
)

// Source says where a schema is.
type Source struct {
	Engine  string   // empty: as the URL or the files tell
	URL     string   // of a database, or the path of a SQLite file
	DDL     []string // scripts, read in this order
	Schemas []string // to read; empty is the connection's own
}

// Engines are the names that Source.Engine may have.
var Engines = []string{catalog.Postgres, catalog.MySQL, catalog.SQLite}

// Parse takes what stands on a command line: one URL or database file, or any
// number of scripts.
func Parse(args []string, engine string) (Source, error) {
	s := Source{Engine: engine}
	for _, a := range args {
		switch {
		case strings.EqualFold(filepath.Ext(a), ".sql") && !strings.Contains(a, "://"):
			s.DDL = append(s.DDL, a)
		case s.URL != "":
			return s, fault.New("name one database, or any number of .sql files", "two databases at once: %s and %s", s.URL, a)
		default:
			s.URL = a
		}
	}
	if s.URL != "" && len(s.DDL) > 0 {
		return s, fault.New("name one database, or any number of .sql files", "a database and scripts at once: %s and %s", s.URL, s.DDL[0])
	}
	if s.URL == "" && len(s.DDL) == 0 {
		return s, fault.New("name a database, as in sqlite:bees.db, postgres://user@host/database or mysql://user@host/database", "no database is named")
	}
	return s, s.complete()
}

// complete finds the engine where it is not given.
func (s *Source) complete() error {
	if s.Engine == "mariadb" {
		s.Engine = catalog.MySQL
	}
	if s.Engine != "" && !slices.Contains(Engines, s.Engine) {
		return fault.New("use one of "+strings.Join(Engines, ", "), "there is no engine %q", s.Engine)
	}
	found := s.engineOfSource()
	if found == "" {
		return fault.New("begin it with sqlite:, postgres:// or mysql://", "the URL %s has a scheme that is not known", s.Redacted())
	}
	if s.Engine == "" {
		s.Engine = found
	}
	if len(s.DDL) == 0 && s.Engine != found {
		return fault.New("leave --engine out", "the URL %s is not one of %s", s.Redacted(), s.Engine)
	}
	return nil
}

func (s *Source) engineOfSource() string {
	if len(s.DDL) > 0 {
		return catalog.SQLite
	}
	scheme, _, hasScheme := strings.Cut(s.URL, ":")
	switch strings.ToLower(scheme) {
	case "postgres", "postgresql":
		return catalog.Postgres
	case "mysql", "mariadb":
		return catalog.MySQL
	case "sqlite":
		return catalog.SQLite
	}
	if hasScheme && strings.Contains(s.URL, "://") {
		return ""
	}
	return catalog.SQLite
}

// Redacted is the URL without its password, for messages.
func (s *Source) Redacted() string { return Redact(s.URL) }

// Redact takes the password out of a URL. It works on the text, so that one
// that cannot be parsed gives nothing away either.
func Redact(url string) string {
	start := strings.Index(url, "://")
	if start < 0 {
		return url
	}
	start += len("://")
	// The last one, for a password may hold any sign that was not escaped.
	at := strings.LastIndexByte(url, '@')
	if at < start {
		return url
	}
	user, _, hasPassword := strings.Cut(url[start:at], ":")
	if !hasPassword {
		return url
	}
	return url[:start] + user + ":***" + url[at:]
}

// Path is the file of a SQLite source: sqlite:path, sqlite:///path or a path.
func (s *Source) Path() string { return SQLitePath(s.URL) }

// SQLitePath takes the scheme off a SQLite URL.
func SQLitePath(url string) string {
	if len(url) >= len("sqlite:") && strings.EqualFold(url[:len("sqlite:")], "sqlite:") {
		url = url[len("sqlite:"):]
	}
	return strings.TrimPrefix(url, "//")
}

// Read reads the schema.
func Read(ctx context.Context, s Source) (*catalog.Catalog, error) {
	if err := s.complete(); err != nil {
		return nil, err
	}
	if len(s.DDL) > 0 {
		if s.Engine != catalog.SQLite {
			return nil, fault.New("load the scripts into a database and give its URL", "scripts of %s cannot be read without a database yet", s.Engine)
		}
		files, err := script.Find(s.DDL)
		if err != nil {
			return nil, err
		}
		return sqlite.ReadScripts(ctx, files)
	}
	switch s.Engine {
	case catalog.Postgres:
		return postgres.Read(ctx, s.URL, s.Schemas)
	case catalog.MySQL:
		return mysql.Read(ctx, s.URL, s.Schemas)
	}
	if looksLikeScript(s.Path()) {
		return nil, fault.New("give a DDL script the ending .sql", "%s is a text, not a SQLite database", s.Path())
	}
	return sqlite.ReadFile(ctx, s.Path())
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
