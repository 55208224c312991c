package gate_test

import (
	"context"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
)

// sleeper is a database whose statements wait for their end, or end at once.
type sleeper struct{ gate.DB }

func (sleeper) Exec(ctx context.Context, text string, _ []any) (gate.Result, error) {
	if text == "quick" {
		return gate.Result{}, nil
	}
	<-ctx.Done()
	return gate.Result{}, ctx.Err()
}

// TestStatementsEndInTime runs quick and slow statements at once: the slow ones end
// when their time is over, the quick ones never do, and whoever gives up first is
// told so and not of the time.
func TestStatementsEndInTime(t *testing.T) {
	const timeout = 100 * time.Millisecond
	db := gate.WithStatementTimeout(sleeper{}, timeout)
	var wait sync.WaitGroup
	for n := range 40 {
		wait.Go(func() {
			r := rand.New(rand.NewPCG(uint64(n), 5))
			for range 6 {
				switch r.IntN(3) {
				case 0:
					began := time.Now()
					_, err := db.Exec(t.Context(), "slow", nil)
					assert.ErrorIs(t, err, gate.ErrTimeout)
					assert.NotErrorIs(t, err, context.Canceled)
					assert.GreaterOrEqual(t, time.Since(began), timeout)
				case 1:
					ctx, giveUp := context.WithCancel(t.Context())
					giveUp()
					_, err := db.Exec(ctx, "slow", nil)
					assert.ErrorIs(t, err, context.Canceled)
					assert.NotErrorIs(t, err, gate.ErrTimeout)
				default:
					for range 1000 {
						_, err := db.Exec(t.Context(), "quick", nil)
						assert.NoError(t, err)
					}
				}
			}
		})
	}
	wait.Wait()

	// After a time without statements the clock goes on.
	time.Sleep(2 * timeout)
	_, err := db.Exec(t.Context(), "slow", nil)
	require.ErrorIs(t, err, gate.ErrTimeout)
}
