package bench

import (
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// turns is how often the services take turns, each for so long.
const turnLength = 150 * time.Millisecond

var turns = flag.Int("turns", 14, "how often the services take turns")

// BenchmarkService prints for each exchange how many times more requests a second
// the generated service answers (median and quartiles of the turns), its share of
// the processor's time a request, and both sides' waits. The services and the
// client are three processes.
func BenchmarkService(b *testing.B) {
	for _, engine := range engines {
		b.Run(engine, func(b *testing.B) {
			s := open(b, engine)
			fill(b, &s, rows)
			all := serve(b, s)
			fmt.Printf("%-9s %-26s %-25s %-14s %s\n", "", "", "× (quartiles), aim", "CPU, aim", "p50, p99 in ms: ours, by hand")
			for _, e := range exchanges() {
				if *only == "" || strings.Contains(e.name, *only) {
					ours := all.ours
					if e.apart {
						ours = all.apart
					}
					compareServers(b, engine, e, ours, all.theirs)
				}
			}
			if *only == "" || strings.Contains(ofLimit.name, *only) {
				compareServers(b, engine, ofLimit, all.ours, start(b, "limit", engine, s.url))
			}
		})
	}
}

func compareServers(b *testing.B, engine string, e exchange, ours, theirs *server) {
	b.Helper()
	sides := []*turn{{server: ours, make: e.ours}, {server: theirs, make: e.theirs}}
	for _, side := range sides {
		for range e.connections {
			side.clients = append(side.clients, dial(b, side.server))
		}
		require.NoError(b, side.slice(2*turnLength)) // both are warm
		*side = turn{server: side.server, clients: side.clients, make: side.make, next: side.next}
	}
	for i := range *turns {
		require.NoError(b, sides[i%2].slice(turnLength))
		require.NoError(b, sides[1-i%2].slice(turnLength))
	}
	for _, side := range sides {
		for _, c := range side.clients {
			c.conn.Close()
		}
	}
	ratios := make([]float64, *turns)
	for i := range ratios {
		ratios[i] = sides[0].rates[i] / sides[1].rates[i]
	}
	slices.Sort(ratios)
	at := func(share float64) float64 { return ratios[int(share*float64(len(ratios)-1)+0.5)] }
	share := 100 * (sides[0].cpu / float64(sides[0].sent)) / (sides[1].cpu / float64(sides[1].sent))
	aim := e.aim[engine]
	fmt.Printf("%-9s %-26s %5.2f (%.2f–%.2f) %-6s %4.0f %%  %-6s %6.2f %6.2f  %6.2f %6.2f\n", engine, e.name, at(0.5), at(0.25), at(0.75), aim.times, share, aim.cpu,
		sides[0].wait(0.5), sides[0].wait(0.99), sides[1].wait(0.5), sides[1].wait(0.99))
}

// wait is how long a share of the requests took at most, in milliseconds.
func (t *turn) wait(share float64) float64 {
	slices.Sort(t.waits)
	return float64(t.waits[int(share*float64(len(t.waits)-1))].Microseconds()) / 1000
}
