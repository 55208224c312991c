package rollout

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"widegate/internal/catalog"
	"widegate/internal/engine"
	"widegate/internal/read"
)

// recordTable is the table of the record. No code is written for it.
const recordTable = catalog.Scripts

// database is a session with what its engine needs.
type database struct {
	read.Session
	*engine.Rollout
	kind   engine.Engine
	record string // the table, with its schema
}

func open(ctx context.Context, source read.Source) (*database, error) {
	return openBy(ctx, source, read.Connect)
}

// connect opens a session.
type connect func(ctx context.Context, source read.Source) (read.Session, error)

func openBy(ctx context.Context, source read.Source, connect connect) (*database, error) {
	kind, err := source.Known()
	if err != nil {
		return nil, err
	}
	session, err := connect(ctx, source)
	if err != nil {
		return nil, err
	}
	db := &database{Session: session, Rollout: kind.Rollout(), kind: kind}
	own, err := db.Names(ctx, db.Own)
	if err != nil {
		session.Close()
		return nil, fmt.Errorf("asking for the schema: %w", err)
	}
	db.record = own[0] + "." + recordTable
	return db, nil
}

// record is what the database knows of a script.
type record struct {
	hash  string // of the statements that are done
	done  int    // statements
	doing int    // the statement that was begun, by its number from 1, where an engine cannot take it back
	ended time.Time
}

func (db *database) makeRecord(ctx context.Context) error {
	err := db.Exec(ctx, "CREATE TABLE IF NOT EXISTS "+db.record+` (
    name VARCHAR(190) NOT NULL PRIMARY KEY,
    hash CHAR(64) NOT NULL,
    done INTEGER NOT NULL,
    doing INTEGER NOT NULL,
    ended VARCHAR(32)
)`+db.Suffix)
	if err != nil {
		return fmt.Errorf("making the table %s: %w", recordTable, err)
	}
	return nil
}

func (db *database) records(ctx context.Context) (map[string]record, error) {
	lines, err := db.Names(ctx, "SELECT CONCAT_WS('|', hash, done, doing, COALESCE(ended, ''), name) FROM "+db.record)
	if err != nil {
		return nil, fmt.Errorf("reading the table %s: %w", recordTable, err)
	}
	list := map[string]record{}
	for _, line := range lines {
		part := strings.SplitN(line, "|", 5)
		var r record
		r.hash = part[0]
		r.done, _ = strconv.Atoi(part[1])
		r.doing, _ = strconv.Atoi(part[2])
		r.ended, _ = time.Parse(time.RFC3339, part[3])
		list[part[4]] = r
	}
	return list, nil
}

// save writes the record of a script anew, in the transaction there is.
func (db *database) save(ctx context.Context, s *Script, r record) error {
	ended := "NULL"
	if !r.ended.IsZero() {
		ended = "'" + r.ended.UTC().Format(time.RFC3339) + "'"
	}
	err := db.Exec(ctx, fmt.Sprintf("UPDATE %s SET hash = '%s', done = %d, doing = %d, ended = %s WHERE name = %s", db.record, r.hash, r.done, r.doing, ended, literal(s.Name)))
	if err != nil {
		return fmt.Errorf("recording %s: %w", s.Name, err)
	}
	return nil
}

func (db *database) insert(ctx context.Context, s *Script) error {
	return db.Exec(ctx, fmt.Sprintf("INSERT INTO %s (name, hash, done, doing) VALUES (%s, '%s', 0, 0)", db.record, literal(s.Name), s.hash(0)))
}

// literal is a text in SQL; a name has no backslash.
func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }
