// Package engine says what the tool needs of a database engine, in small parts. Each
// engine is a folder below this one that holds everything that knows it; the package
// registry lists them. Nothing else in the tool asks which engine it has to do with.
package engine

import (
	"context"

	"widegate/gate"
	"widegate/internal/catalog"
	"widegate/internal/migration"
	"widegate/internal/sqltext"
)

// Engine is a database engine.
type Engine interface {
	Namer
	Connector
	Reader
	ScriptReader
	Scratcher
	Client
	Drafter
	Runner
	Host
}

// Namer says how an engine and its databases are called.
type Namer interface {
	Dialect() *sqltext.Dialect // how it writes SQL, and its name
	Title() string             // its name for people, as in PostgreSQL
	Schemes() []string         // those of its URLs
	// Example is a URL of a database, for those who are to name one; of no database
	// the part before its name.
	Example(database string) string
	// File is the file that a URL names, where a database is one.
	File(url string) (path string, isFile bool)
}

// Session is a connection on which statements run, one after another.
type Session interface {
	Exec(ctx context.Context, statement string) error
	Names(ctx context.Context, query string) ([]string, error)                 // a query of one column of text
	Counts(ctx context.Context, query string) (first, second int64, err error) // a query of one row of two numbers
	// Describe returns the types of a statement's arguments and columns, as far as the
	// engine tells them without running it, and where in the text an error is.
	Describe(ctx context.Context, text string, args int, rows bool) (types []catalog.Type, columns []catalog.Column, at int, err error)
	Close()
}

// Connector connects to databases, and makes them.
type Connector interface {
	// Open connects for questions, and for scripts that are run with less care, as
	// programs do that bring a dump back.
	Open(ctx context.Context, url string) (Session, error)
	// Connect connects for statements of the user's own, as the engine's client would.
	Connect(ctx context.Context, url string) (Session, error)
	// Missing reports whether the database is not there, though its server is.
	Missing(ctx context.Context, url string) (bool, error)
	// Make makes the database, which is not there.
	Make(ctx context.Context, url string) error
	// ErrorPlace is where in a statement its error is, in bytes; -1 where that is not
	// told. It is false for an error of another engine.
	ErrorPlace(statement string, err error) (at int, known bool)
	// ErrorText is what the engine says of an error, without its codes. It is false for
	// an error of another engine.
	ErrorText(err error) (text string, known bool)
}

// Reader reads schemas of live databases.
type Reader interface {
	Read(ctx context.Context, url string, schemas []string, progress func(what string)) (*catalog.Catalog, error)
	// CheckSchema refuses a schema that no code is written for.
	CheckSchema(name string) error
	// Schemas are the schemas of a database that hold tables, and the one in which
	// names without a schema are found; none where a database has only one.
	Schemas(ctx context.Context, s Session) (list []string, own string, err error)
	// MarkQuery gives texts that differ when the schema does.
	MarkQuery() string
}

// ScriptReader reads the schemas that scripts make, without a server.
type ScriptReader interface {
	ReadScripts(ctx context.Context, files []*sqltext.File, schemas []string) (*catalog.Catalog, error)
	// OpenScripts opens a database that scripts have made; nil where that needs a
	// server.
	OpenScripts(ctx context.Context, files []*sqltext.File) (Session, error)
}

// Scratcher makes databases to throw away.
type Scratcher interface {
	// Scratch is how they are made on a server; nil where a database is a file.
	Scratch() *Scratch
}

// Scratch is how databases to throw away are made on a server.
type Scratch struct {
	List  string // lists the databases
	Set   string // stands behind CREATE DATABASE
	Drop  string // stands behind DROP DATABASE
	End   string // ends the sessions of a database, for servers that do not know Drop; may be empty
	Free  string // lists the rights by which a script could leave its database
	Limit string // bounds what one statement takes
	Role  string // makes a user without such rights
}

// Client is the engine's own programs, where they are installed: the client that runs
// a script as people do, and the one that prints a schema, which is read by nobody
// here and so tells what this tool does not know.
type Client interface {
	// Shell is the client that runs a script from its standard input.
	Shell(url string) (Program, error)
	// Dumper prints a schema; a program without names where DumpQuery does.
	Dumper(url string) (Program, error)
	// DumpQuery gives the statements of a schema, where no program is needed for it.
	DumpQuery() string
}

// Program is a program and how it is told where a database is.
type Program struct {
	Names       []string // the first that is installed is run
	Args        []string
	Environment []string
}

// Embedder makes the tables of other engines in a file of its own, so that they can be
// looked at without a server.
type Embedder interface {
	Engine
	Endings() []string // of its files
	// Embed are the statements that make the tables, and the names of what is left out.
	Embed(c *catalog.Catalog) (statements, left []string)
}

// Drafter drafts the scripts of migrations.
type Drafter interface{ Drafting() migration.Engine }

// Runner runs scripts, and keeps a record of it.
type Runner interface{ Rollout() *Rollout }

// Rollout is how a record of scripts is kept.
type Rollout struct {
	Own             string   // asks for the schema of the record, quoted
	Tables          string   // lists the tables
	Begin           string   // begins a transaction that writes
	Suffix          string   // stands behind the columns of the record
	Lock            string   // keeps other runs waiting; may be empty
	Whole           bool     // changes of a schema can be taken back in a transaction
	SettingsOutside bool     // settings do nothing in a transaction
	Ranks           []Ranked // the first that holds tells what a statement is; plain work if none does
}

// Host is what a service of generated code needs.
type Host interface {
	// OpenService connects as generated code does.
	OpenService(ctx context.Context, url string) (gate.DB, error)
	Driver() string     // the module of its driver
	Packages() []string // the packages of the runtime that only it needs, under gate; its own is the first
	URLForm() string    // goes on a sentence about a URL, with what stands before it
	// Analyze makes the engine estimate how many rows there are.
	Analyze() string
}
