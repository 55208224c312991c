package sqlite

import (
	"sync"
	"time"

	"github.com/ncruces/go-sqlite3"

	"widegate/gate"
)

// forms knows which columns hold values in other forms than this package stores
// them: other programs write times with T, truth as 'true', and texts into columns
// without a type. Such columns are compared by a function, which no index serves;
// all others as they are.
type forms struct {
	path string

	mu    sync.Mutex
	conn  *sqlite3.Conn
	known map[column]*verdict
}

// column names one of a table.
type column struct{ schema, table, name string }

// verdict is what was found out about a column.
type verdict struct {
	mixed   bool
	version int64     // of the data, as the connection counts it
	until   time.Time // when it is looked at again
}

// What is looked at anew takes a hundredth of the time at most.
const (
	leastRest = 20 * time.Millisecond
	restRatio = 100
)

// plainForms are conditions under which a value has the form in which this package
// stores it, by the types of columns; %s is the column.
var plainForms = map[gate.Type]string{
	gate.TypeBool:        "IS NULL OR typeof(c) = 'integer'",
	gate.TypeBytes:       "IS NULL OR typeof(c) = 'blob'",
	gate.TypeText:        "IS NULL OR typeof(c) = 'text'",
	gate.TypeDate:        "IS NULL OR typeof(c) = 'text' AND length(c) = 10",
	gate.TypeTimestamp:   plainTime,
	gate.TypeTimestampTZ: plainTime,
}

const (
	wholeSecond = "c GLOB '[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9] [0-9][0-9]:[0-9][0-9]:[0-9][0-9]"
	plainTime   = "IS NULL OR typeof(c) = 'text' AND (" + wholeSecond + "' OR " + wholeSecond + ".*[1-9]' AND substr(c, 20) NOT GLOB '*[^.0-9]*')"
)

// mixed reports whether a column holds values in other forms.
func (f *forms) mixed(t *gate.Info, i int) bool {
	c := &t.Columns[i]
	if !c.Type.Several() {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	key := column{t.Schema, t.Name, c.Name}
	v := f.known[key]
	now := time.Now()
	if v != nil && now.Before(v.until) {
		return v.mixed
	}
	version, err := f.version()
	if err != nil {
		return v != nil && v.mixed
	}
	if v == nil {
		if f.known == nil {
			f.known = map[column]*verdict{}
		}
		v = &verdict{}
		f.known[key] = v
	} else if v.version == version {
		v.until = now.Add(leastRest)
		return v.mixed
	}
	v.version = version
	if found, err := f.holds(t, c); err == nil {
		v.mixed = found
	}
	v.until = time.Now().Add(max(leastRest, restRatio*time.Since(now)))
	return v.mixed
}

// version counts the changes of the file by others than this connection.
func (f *forms) version() (n int64, err error) {
	if f.conn == nil {
		if f.conn, err = sqlite3.OpenFlags(f.path, sqlite3.OPEN_READONLY); err != nil {
			return 0, err
		}
		if err := f.conn.BusyTimeout(writerWaits); err != nil {
			return 0, err
		}
	}
	_, err = f.one("PRAGMA data_version", &n)
	return n, err
}

// holds reports whether a column holds a value in another form.
func (f *forms) holds(t *gate.Info, c *gate.Column) (bool, error) {
	plain, ok := plainForms[c.Type]
	if !ok {
		plain = plainForms[gate.TypeText]
	}
	var one int64
	return f.one("SELECT 1 FROM (SELECT "+quote(c.Name)+" AS c FROM "+quote(t.Name)+") WHERE NOT (c "+plain+") LIMIT 1", &one)
}

func quote(name string) string { return sqlite3.QuoteIdentifier(name) }

func (f *forms) one(text string, to *int64) (found bool, err error) {
	stmt, _, err := f.conn.Prepare(text)
	if err != nil {
		return false, err
	}
	if found = stmt.Step(); found {
		*to = stmt.ColumnInt64(0)
	}
	return found, stmt.Close()
}

func (f *forms) close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.conn == nil {
		return nil
	}
	err := f.conn.Close()
	f.conn = nil
	return err
}
