// Package byhand is what the generated store is measured against: the code
// that a careful engineer writes for the same two tables, with database/sql,
// the usual driver, prepared statements, and a struct with pointers for what
// may be null. It is kept as good as such code gets.
package byhand

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Delivery is a row of the table delivery.
type Delivery struct {
	ID          int64
	Code        string
	Keeper      string
	Remark      *string
	WeightKg    string // a decimal keeps its digits as text
	IsAccepted  bool
	DeliveredOn time.Time
	RecordedAt  time.Time
	PreviousID  *int64
	Tag         string
	Facts       []byte
	Moisture    float64
	Region      string
	Grade       string

	Samples []*Sample
}

// Sample is a row of the table sample.
type Sample struct {
	ID         int64
	DeliveryID int64
	TakenAt    time.Time
	Value      float64
	Note       *string
}

const (
	columns       = "id, code, keeper, remark, weight_kg, is_accepted, delivered_on, recorded_at, previous_id, tag, facts, moisture, region, grade"
	insertColumns = "code, keeper, remark, weight_kg, is_accepted, delivered_on, recorded_at, previous_id, tag, facts, moisture, region, grade"
	width         = 13
	sampleColumns = "id, delivery_id, taken_at, value, note"
)

// Store has the prepared statements.
type Store struct {
	db       *sql.DB
	writing  sync.Mutex // SQLite has one writer
	single   bool
	numbered bool // placeholders are $1, $2 …
	lastID   bool // the number of a new row comes from LastInsertId
	find     *sql.Stmt
	list     *sql.Stmt
	insert   *sql.Stmt
	stored   *sql.Stmt         // insert that gives the row back
	mu       sync.Mutex        // of samples
	samples  map[int]*sql.Stmt // by the number of parents
	many     map[int]*sql.Stmt // by the number of rows
}

// New prepares the statements for an engine: postgres, mysql or sqlite.
func New(ctx context.Context, db *sql.DB, engine string) (*Store, error) {
	s := &Store{db: db, numbered: engine == "postgres", lastID: engine == "mysql", single: engine == "sqlite", samples: map[int]*sql.Stmt{}, many: map[int]*sql.Stmt{}}
	insert := "INSERT INTO delivery (" + insertColumns + ") VALUES " + s.places(1, width)
	stored := insert + " RETURNING " + columns
	if !s.lastID {
		insert += " RETURNING id"
	}
	for text, to := range map[string]**sql.Stmt{
		"SELECT " + columns + " FROM delivery WHERE id = " + s.place(1):                                       &s.find,
		"SELECT " + columns + " FROM delivery WHERE id >= " + s.place(1) + " ORDER BY id LIMIT " + s.place(2): &s.list,
		insert: &s.insert,
		stored: &s.stored,
	} {
		stmt, err := db.PrepareContext(ctx, text)
		if err != nil {
			return nil, fmt.Errorf("preparing %s: %w", text, err)
		}
		*to = stmt
	}
	return s, nil
}

func (s *Store) place(n int) string {
	if s.numbered {
		return "$" + strconv.Itoa(n)
	}
	return "?"
}

// places are the placeholders of some rows.
func (s *Store) places(rows, width int) string {
	var b strings.Builder
	for r := range rows {
		if r > 0 {
			b.WriteString(", ")
		}
		b.WriteByte('(')
		for i := range width {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(s.place(r*width + i + 1))
		}
		b.WriteByte(')')
	}
	return b.String()
}

func scan(row interface{ Scan(...any) error }, d *Delivery) error {
	return row.Scan(&d.ID, &d.Code, &d.Keeper, &d.Remark, &d.WeightKg, &d.IsAccepted, &d.DeliveredOn, &d.RecordedAt,
		&d.PreviousID, &d.Tag, &d.Facts, &d.Moisture, &d.Region, &d.Grade)
}

// Close gives the connections back.
func (s *Store) Close() error { return s.db.Close() }

// Find returns the delivery of a key.
func (s *Store) Find(ctx context.Context, id int64) (*Delivery, error) {
	var d Delivery
	if err := scan(s.find.QueryRowContext(ctx, id), &d); err != nil {
		return nil, fmt.Errorf("finding delivery %d: %w", id, err)
	}
	return &d, nil
}

// List returns up to limit deliveries from an id on.
func (s *Store) List(ctx context.Context, from int64, limit int) ([]*Delivery, error) {
	rows, err := s.list.QueryContext(ctx, from, limit)
	if err != nil {
		return nil, fmt.Errorf("listing deliveries: %w", err)
	}
	defer rows.Close()
	list := make([]*Delivery, 0, limit)
	for rows.Next() {
		var d Delivery
		if err := scan(rows, &d); err != nil {
			return nil, fmt.Errorf("listing deliveries: %w", err)
		}
		list = append(list, &d)
	}
	return list, rows.Err()
}

// ListWithSamples is List with the samples of each delivery, by one statement
// more.
func (s *Store) ListWithSamples(ctx context.Context, from int64, limit int) ([]*Delivery, error) {
	list, err := s.List(ctx, from, limit)
	if err != nil || len(list) == 0 {
		return list, err
	}
	byID := make(map[int64]*Delivery, len(list))
	args := make([]any, len(list))
	for i, d := range list {
		byID[d.ID] = d
		args[i] = d.ID
	}
	stmt, err := s.samplesOf(ctx, len(list))
	if err != nil {
		return nil, err
	}
	rows, err := stmt.QueryContext(ctx, args...)
	if err != nil {
		return nil, fmt.Errorf("listing samples: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var m Sample
		if err := rows.Scan(&m.ID, &m.DeliveryID, &m.TakenAt, &m.Value, &m.Note); err != nil {
			return nil, fmt.Errorf("listing samples: %w", err)
		}
		d := byID[m.DeliveryID]
		d.Samples = append(d.Samples, &m)
	}
	return list, rows.Err()
}

// samplesOf is the statement for the samples of some deliveries.
func (s *Store) samplesOf(ctx context.Context, parents int) (*sql.Stmt, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if stmt := s.samples[parents]; stmt != nil {
		return stmt, nil
	}
	stmt, err := s.db.PrepareContext(ctx, "SELECT "+sampleColumns+" FROM sample WHERE delivery_id IN "+s.places(1, parents)+" ORDER BY id")
	if err != nil {
		return nil, fmt.Errorf("preparing the samples: %w", err)
	}
	s.samples[parents] = stmt
	return stmt, nil
}

func args(to []any, d *Delivery) []any {
	return append(to, d.Code, d.Keeper, d.Remark, d.WeightKg, d.IsAccepted, d.DeliveredOn, d.RecordedAt, d.PreviousID, d.Tag, string(d.Facts), d.Moisture, d.Region, d.Grade)
}

// write keeps other writers out where the engine has one.
func (s *Store) write() (done func()) {
	if !s.single {
		return func() {}
	}
	s.writing.Lock()
	return s.writing.Unlock
}

// Insert stores a delivery and sets its id.
func (s *Store) Insert(ctx context.Context, d *Delivery) error {
	defer s.write()()
	if !s.lastID {
		return s.insert.QueryRowContext(ctx, args(nil, d)...).Scan(&d.ID)
	}
	result, err := s.insert.ExecContext(ctx, args(nil, d)...)
	if err != nil {
		return fmt.Errorf("inserting a delivery: %w", err)
	}
	d.ID, err = result.LastInsertId()
	return err
}

// InsertStored stores a delivery and reads back what is stored then.
func (s *Store) InsertStored(ctx context.Context, d *Delivery) error {
	defer s.write()()
	if err := scan(s.stored.QueryRowContext(ctx, args(nil, d)...), d); err != nil {
		return fmt.Errorf("inserting a delivery: %w", err)
	}
	return nil
}

// InsertLoop stores deliveries one by one in a transaction.
func (s *Store) InsertLoop(ctx context.Context, list []*Delivery) (err error) {
	defer s.write()()
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("beginning a transaction: %w", err)
	}
	defer func() { err = errors.Join(err, ignoreDone(tx.Rollback())) }()
	insert := tx.StmtContext(ctx, s.insert)
	for _, d := range list {
		if s.lastID {
			if _, err := insert.ExecContext(ctx, args(nil, d)...); err != nil {
				return fmt.Errorf("inserting a delivery: %w", err)
			}
			continue
		}
		if err := insert.QueryRowContext(ctx, args(nil, d)...).Scan(&d.ID); err != nil {
			return fmt.Errorf("inserting a delivery: %w", err)
		}
	}
	return tx.Commit()
}

func ignoreDone(err error) error {
	if errors.Is(err, sql.ErrTxDone) {
		return nil
	}
	return err
}
