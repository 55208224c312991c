// Package parallel does the same for many things, several at a time.
package parallel

import "sync"

// Each calls do for 0 to n-1, at most so many at a time, and returns when all
// are done.
func Each(n, atOnce int, do func(i int)) {
	next := make(chan int)
	var group sync.WaitGroup
	for range min(atOnce, n) {
		group.Go(func() {
			for i := range next {
				do(i)
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	group.Wait()
}
