package parallel

import (
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEach(t *testing.T) {
	done := make([]int, 1000)
	var now, most atomic.Int64
	Each(len(done), 3, func(i int) {
		most.Store(max(most.Load(), now.Add(1)))
		done[i]++
		now.Add(-1)
	})
	for i, n := range done {
		assert.Equal(t, 1, n, i)
	}
	assert.LessOrEqual(t, most.Load(), int64(3))
	Each(0, 4, func(int) { t.Error("there is nothing to do") })
}
