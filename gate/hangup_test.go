package gate_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
)

// endless are statements that nobody waits for, results that are hardly read, and what
// tells one connection from another and how many statements of ours are under way; by
// engine.
var endless = map[string]struct{ statement, rows, connection, running string }{
	"sqlite": {
		statement: "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT count(*) FROM n",
		rows:      "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i FROM n",
	},
	"postgres": {
		statement:  "SELECT pg_sleep(600)::text",
		rows:       "SELECT generate_series(1, 1000000000000)",
		connection: "SELECT pg_backend_pid()",
		running:    "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND state = 'active' AND pid <> pg_backend_pid()",
	},
	"mysql": {
		statement:  "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 900) SELECT count(*) FROM n a, n b, n c, n d WHERE a.i + b.i + c.i + d.i > 0",
		rows:       "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 900) SELECT a.i FROM n a, n b, n c, n d",
		connection: "SELECT CONNECTION_ID()",
		running:    "SELECT count(*) FROM information_schema.processlist WHERE db = DATABASE() AND command IN ('Query', 'Execute') AND id <> CONNECTION_ID()",
	},
}

// number runs a query of one number.
func number(t *testing.T, db gate.DB, text string) (n int64) {
	t.Helper()
	rows, err := db.Query(t.Context(), text, nil)
	require.NoError(t, err)
	defer rows.Close()
	require.True(t, rows.Next())
	require.NoError(t, rows.Scan([]any{&n}))
	return n
}

// TestCallersWhoLeave leaves statements in several states. They end, nobody takes their
// end for anything else, and their connections are used again.
func TestCallersWhoLeave(t *testing.T) {
	read := func(ctx context.Context, db gate.DB, text string, leaveAt int, leave func()) error {
		rows, err := db.Query(ctx, text, nil)
		if err != nil {
			return err
		}
		n := 0
		for rows.Next() {
			if n++; n == leaveAt {
				leave()
			}
		}
		if err := rows.Err(); err != nil {
			rows.Close()
			return err
		}
		return rows.Close()
	}
	ways := map[string]func(ctx context.Context, db gate.DB, leave func(), texts [2]string) error{
		"a query": func(ctx context.Context, db gate.DB, leave func(), texts [2]string) error {
			time.AfterFunc(20*time.Millisecond, leave)
			return read(ctx, db, texts[0], 0, leave)
		},
		"at the first rows": func(ctx context.Context, db gate.DB, leave func(), texts [2]string) error {
			return read(ctx, db, texts[1], 3, leave)
		},
		"in a transaction": func(ctx context.Context, db gate.DB, leave func(), texts [2]string) error {
			return gate.InTx(ctx, db, func(tx gate.DB) error {
				time.AfterFunc(20*time.Millisecond, leave)
				return read(ctx, tx, texts[0], 0, leave)
			})
		},
		"at once": func(ctx context.Context, db gate.DB, leave func(), texts [2]string) error {
			go leave()
			return read(ctx, db, texts[0], 0, leave)
		},
	}
	eachEngine(t, func(t *testing.T, _ context.Context, db gate.DB) {
		engine := db.Engine().Name
		texts := endless[engine]
		for name, way := range ways {
			t.Run(name, func(t *testing.T) {
				before := map[int64]bool{}
				if texts.connection != "" {
					for range 3 {
						before[number(t, db, texts.connection)] = true
					}
				}
				for range 20 {
					ctx, leave := context.WithCancel(t.Context())
					assert.ErrorIs(t, way(ctx, db, leave, [2]string{texts.statement, texts.rows}), context.Canceled)
					leave()
				}
				if texts.connection != "" && name != "at once" { // what has not begun may cost one
					assert.Contains(t, before, number(t, db, texts.connection), "another connection")
				}
				if texts.running != "" {
					assert.Eventually(t, func() bool { return number(t, db, texts.running) == 0 }, time.Minute, 10*time.Millisecond, "a statement goes on")
				}
				assert.EqualValues(t, 1, number(t, db, "SELECT 1"))
			})
		}
		t.Run("many", func(t *testing.T) { // more than there are connections
			var wait sync.WaitGroup
			for i := range 60 {
				wait.Go(func() {
					ctx, leave := context.WithTimeout(t.Context(), time.Duration(20+i)*time.Millisecond)
					defer leave()
					assert.ErrorIs(t, read(ctx, db, texts.statement, 0, leave), context.DeadlineExceeded)
				})
			}
			wait.Wait()
			for i := range 40 { // nobody who comes later is stopped in their place
				wait.Go(func() { assert.EqualValues(t, i, number(t, db, fmt.Sprint("SELECT ", i))) })
			}
			wait.Wait()
			if texts.running != "" {
				assert.Eventually(t, func() bool { return number(t, db, texts.running) == 0 }, time.Minute, 10*time.Millisecond, "a statement goes on")
			}
		})
	})
}
