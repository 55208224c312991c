package apply

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// world is a tree before and after a run of n changes: three of four are
// replacements, the others new files and removals, some on another file
// system.
type world struct {
	before, after map[string]string
	changes       []Change
}

func newWorld(n int) world {
	w := world{before: map[string]string{"/p/own.go": "own"}, after: map[string]string{"/p/own.go": "own"}}
	for i := range n {
		path := fmt.Sprintf("f%d/file%d.go", i%5, i)
		if i%7 == 3 {
			path = "mounted/" + path
		}
		old, now := fmt.Sprintf("old %d", i), fmt.Sprintf("new %d", i)
		c := Change{Path: path, Old: []byte(old), New: []byte(now), Mode: 0o640}
		switch i % 8 {
		case 1:
			c.Old, c.Mode = nil, 0
		case 5:
			c.New = nil
		}
		if c.Old != nil {
			w.before["/p/"+path] = old
		}
		if c.New != nil {
			w.after["/p/"+path] = now
		}
		w.changes = append(w.changes, c)
	}
	return w
}

func storeOn(d disk) *Store {
	return &Store{root: "/p", state: "/p/.widegate", disk: d, wide: 1, now: func() time.Time { return time.Unix(1700000000, 5) }}
}

func run(s *Store, w world) error { return s.Run(context.Background(), KindWrite, w.changes) }

// steps counts those of a run that nobody disturbs.
func (w world) steps(t *testing.T, exchanges bool) int {
	m := newMemory(w.before)
	m.exchanges = exchanges
	require.NoError(t, run(storeOn(m), w))
	require.Equal(t, w.after, m.code())
	return m.steps
}

// outcome says whether a tree is that of before or of after; mixed is none.
func (w world) outcome(code map[string]string) string {
	switch {
	case maps.Equal(code, w.before):
		return "old"
	case maps.Equal(code, w.after):
		return "new"
	}
	return "mixed"
}

// manySteps is how many files the exhaustive test has; with WIDEGATE_LONG set as
// many as a large project.
func manySteps() int {
	if os.Getenv("WIDEGATE_LONG") != "" {
		return 300
	}
	return 80
}

// TestKilledAtEachStep kills a run over many files at each of its steps; the
// next one must find the tree wholly old or wholly new.
func TestKilledAtEachStep(t *testing.T) {
	for _, exchanges := range []bool{true, false} {
		w := newWorld(manySteps())
		counts := map[string]int{}
		for kill := 1; kill <= w.steps(t, exchanges); kill++ {
			m := newMemory(w.before)
			m.exchanges, m.killAt = exchanges, kill
			require.ErrorIs(t, run(storeOn(m), w), errKilled)
			m.killAt = 0
			_, err := storeOn(m).recover()
			require.NoError(t, err)
			counts[w.outcome(m.code())]++
			require.NotContains(t, counts, "mixed", "killed at step %d", kill)
			require.NotContains(t, fmt.Sprint(m.files), "tx-", "left at step %d", kill)
		}
		t.Logf("%d files, exchange %v: %v", manySteps(), exchanges, counts)
		require.NotZero(t, counts["old"])
		require.NotZero(t, counts["new"])
	}
}

// TestRecoveryKilledAtEachStep kills the recovery of each wreck at each of its
// steps.
func TestRecoveryKilledAtEachStep(t *testing.T) {
	for _, exchanges := range []bool{true, false} {
		w := newWorld(24)
		counts := map[string]int{}
		for kill := 1; kill <= w.steps(t, exchanges); kill++ {
			for second := 1; ; second++ {
				m := newMemory(w.before)
				m.exchanges, m.killAt = exchanges, kill
				require.ErrorIs(t, run(storeOn(m), w), errKilled)
				m.steps, m.killAt = 0, second
				_, err := storeOn(m).recover()
				m.killAt = 0
				if err == nil {
					break
				}
				require.ErrorIs(t, err, errKilled)
				_, err = storeOn(m).recover()
				require.NoError(t, err)
				counts[w.outcome(m.code())]++
				require.NotContains(t, counts, "mixed", "killed at %d, then at %d", kill, second)
			}
		}
		t.Logf("24 files, exchange %v: %v", exchanges, counts)
	}
}

// TestSavedMeanwhile has another program save a file at each step: its bytes
// must be at their path, and all other files wholly old or wholly new.
func TestSavedMeanwhile(t *testing.T) {
	w := newWorld(24)
	counts := map[string]int{}
	for step := 1; step <= w.steps(t, true); step++ {
		for _, c := range w.changes {
			for _, killed := range []bool{false, true} {
				m := newMemory(w.before)
				at := "/p/" + c.Path
				m.hook = func(now int) {
					if now == step {
						m.save(at, "saved by somebody")
					}
				}
				if killed {
					m.killAt = step + 1
				}
				err := run(storeOn(m), w)
				m.killAt, m.hook = 0, nil
				if killed && errors.Is(err, errKilled) {
					_, err = storeOn(m).recover()
					require.NoError(t, err)
				}
				counts[w.outcomeBut(t, m, at, step)]++
			}
		}
	}
	t.Logf("%v", counts)
}

func (w world) outcomeBut(t *testing.T, m *memory, at string, step int) string {
	t.Helper()
	code := m.code()
	require.Equal(t, "saved by somebody", code[at], "%s, step %d", at, step)
	without := func(tree map[string]string) map[string]string {
		rest := maps.Clone(tree)
		delete(rest, at)
		return rest
	}
	rest := world{before: without(w.before), after: without(w.after)}
	outcome := rest.outcome(without(code))
	require.NotEqual(t, "mixed", outcome, "%s saved at step %d", at, step)
	require.NotContains(t, m.files, "/p/.widegate/journal")
	return outcome
}

// TestSavedBeforeRecovery has a file saved between the kill and the recovery.
func TestSavedBeforeRecovery(t *testing.T) {
	w := newWorld(24)
	counts := map[string]int{}
	for kill := 1; kill <= w.steps(t, true); kill++ {
		for _, c := range w.changes {
			m := newMemory(w.before)
			m.killAt = kill
			require.ErrorIs(t, run(storeOn(m), w), errKilled)
			m.killAt = 0
			m.save("/p/"+c.Path, "saved by somebody")
			_, err := storeOn(m).recover()
			require.NoError(t, err)
			counts[w.outcomeBut(t, m, "/p/"+c.Path, kill)]++
		}
	}
	t.Logf("%v", counts)
}

// TestPowerLoss loses names that were not synced, at each step.
func TestPowerLoss(t *testing.T) {
	w := newWorld(40)
	random := rand.New(rand.NewPCG(4, 5))
	counts := map[string]int{}
	for _, chance := range []float64{0, 0.3, 0.7, 1} {
		for kill := 1; kill <= w.steps(t, true); kill++ {
			m := newMemory(w.before)
			m.killAt = kill
			require.ErrorIs(t, run(storeOn(m), w), errKilled)
			m.crash(random, chance)
			_, err := storeOn(m).recover()
			require.NoError(t, err, "step %d, chance %v", kill, chance)
			counts[w.outcome(m.code())]++
			require.NotContains(t, counts, "mixed", "step %d, chance %v", kill, chance)
		}
	}
	t.Logf("%v", counts)
	require.NotZero(t, counts["new"])
}

// TestUndoKilledAtEachStep kills an undo.
func TestUndoKilledAtEachStep(t *testing.T) {
	w := newWorld(40)
	for kill := 1; ; kill++ {
		m := newMemory(w.before)
		require.NoError(t, run(storeOn(m), w))
		s := storeOn(m)
		s.now = func() time.Time { return time.Unix(1700000001, 5) }
		m.steps, m.killAt = 0, kill
		_, err := s.Undo(context.Background(), false, nil, nil)
		m.killAt = 0
		if err == nil {
			require.Equal(t, "old", w.outcome(m.code()))
			break
		}
		require.True(t, errors.Is(err, errKilled))
		_, err = storeOn(m).recover()
		require.NoError(t, err)
		require.NotEqual(t, "mixed", w.outcome(m.code()), "step %d", kill)
	}
}

func TestJournalThatIsDamaged(t *testing.T) {
	m := newMemory(map[string]string{"/p/.widegate/journal": `{"journal":{"id":"20260101T0`, "/p/a": "a"})
	_, err := storeOn(m).recover()
	require.ErrorContains(t, err, "is damaged")
	require.Contains(t, strings.Join(keys(m.files), " "), "journal")
}

func keys(files map[string]*inode) []string {
	var list []string
	for name := range files {
		list = append(list, name)
	}
	return list
}
