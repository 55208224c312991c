package live

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"widegate/internal/engine/sqlite/dialect"

	"github.com/ncruces/go-sqlite3"
	"github.com/ncruces/go-sqlite3/driver"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/sqltext"
)

// Scripts are run in memory to see what they make, and may be somebody else's.
// They get a bounded share of the machine, and no way to other files.
const (
	scriptTime   = time.Minute // for all scripts together
	mostOfScript = 100_000     // statements
)

// limits are those of https://www.sqlite.org/c3ref/limit.html.
var limits = map[sqlite3.LimitCategory]int{
	sqlite3.LIMIT_LENGTH:     16 << 20, // of a text or row, in bytes
	sqlite3.LIMIT_SQL_LENGTH: 16 << 20,
	sqlite3.LIMIT_ATTACHED:   0, // databases, so that no other file is opened or made
}

// inMemory opens a database in memory, within limits.
func inMemory() (*sql.DB, error) {
	db, err := driver.Open("file::memory:", bound)
	if err != nil {
		return nil, fmt.Errorf("opening a database in memory: %w", err)
	}
	db.SetMaxOpenConns(1) // each connection would have a memory of its own
	return db, nil
}

func bound(c *sqlite3.Conn) error {
	if err := addModules(c); err != nil {
		return err
	}
	for category, most := range limits {
		c.Limit(category, most)
	}
	return c.Exec("PRAGMA max_page_count = 65536; PRAGMA trusted_schema = 0") // 256 MB
}

// runScripts runs scripts statement by statement, so that an error has a place. The
// notes name the statements that are not run and are not only about rows.
func runScripts(ctx context.Context, db *sql.DB, files []*sqltext.File) ([]catalog.Note, error) {
	limited, cancel := context.WithTimeout(ctx, scriptTime)
	defer cancel()
	run := 0
	var notes []catalog.Note
	for _, f := range files {
		for _, s := range sqltext.Split(f, dialect.SQLite) {
			if otherFile.MatchString(s.Text) {
				line, column := s.Position(0)
				notes = append(notes, catalog.Note{Text: fmt.Sprintf("%s:%d:%d: %s: is not run: no other file is opened", f.Path, line, column, s.Head())})
			}
			if !changesSchema(s.Text) || ownTable.MatchString(s.Text) {
				continue
			}
			line, column := s.Position(0)
			if run++; run > mostOfScript {
				return nil, fault.New("read the database itself, or a snapshot of it", "%s:%d:%d: the scripts hold more than %d statements", f.Path, line, column, mostOfScript)
			}
			_, err := db.ExecContext(limited, s.Text)
			switch {
			case err == nil:
			case ctx.Err() != nil:
				return nil, ctx.Err()
			case limited.Err() != nil:
				return nil, fault.New("leave out what fills tables with rows, or read the database itself", "%s:%d:%d: %s: the scripts take longer than %v", f.Path, line, column, s.Head(), scriptTime)
			default:
				line, column = s.Position(place(s.Text, err))
				return nil, fault.New("mend the statement, or give the dialect with --engine if it is not SQLite's",
					"%s:%d:%d: %s: %s", f.Path, line, column, s.Head(), message(err))
			}
		}
	}
	return notes, nil
}

// otherFile opens another database, whose tables are not read.
var otherFile = regexp.MustCompile(`(?i)^ATTACH\b`)

// ownTable makes a table that the engine makes itself and lets nobody else make;
// its shell prints such statements in dumps.
var ownTable = regexp.MustCompile(`(?i)^CREATE\s+TABLE\s+(?:IF\s+NOT\s+EXISTS\s+)?["'\[` + "`" + `]?sqlite_`)

// passedOver are the words that begin statements which are only about rows, or
// reach other files.
var passedOver = strings.Fields("INSERT REPLACE UPDATE DELETE SELECT WITH VALUES ATTACH DETACH VACUUM ANALYZE REINDEX")

// pragmas are those that matter to how a schema is read.
var pragmas = strings.Fields("FOREIGN_KEYS LEGACY_ALTER_TABLE DEFER_FOREIGN_KEYS IGNORE_CHECK_CONSTRAINTS ENCODING RECURSIVE_TRIGGERS")

// changesSchema keeps out what is only about rows, and what reaches other files.
func changesSchema(statement string) bool {
	var words []string
	for _, t := range sqltext.Scan(statement, dialect.SQLite) {
		if t.Kind == sqltext.Word {
			words = append(words, strings.ToUpper(t.Text))
		}
		if t.Kind != sqltext.Comment && (t.Kind != sqltext.Word || len(words) > 1) {
			break
		}
	}
	switch {
	case len(words) == 0:
		return false
	case words[0] == "PRAGMA":
		return len(words) > 1 && slices.Contains(pragmas, words[1])
	}
	return !slices.Contains(passedOver, words[0])
}

// superJournal ends a rollback journal that names another file, which SQLite
// deletes when it rolls back; see section 3 of
// https://www.sqlite.org/fileformat2.html.
var superJournal = []byte{0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7}

// checkJournal refuses a database beside which lies such a journal: opening it
// would delete whatever file somebody wrote into it.
func checkJournal(path string) error {
	f, err := os.Open(path + "-journal")
	if err != nil {
		return nil
	}
	defer f.Close()
	tail := make([]byte, len(superJournal))
	if _, err := f.Seek(-int64(len(tail)), io.SeekEnd); err != nil {
		return nil
	}
	if _, err := io.ReadFull(f, tail); err == nil && bytes.Equal(tail, superJournal) {
		return fault.New("open it once with the program that wrote it; if the journal came with files of others, delete it", "%s has a rollback journal that names another file, which would be deleted", path)
	}
	return nil
}
