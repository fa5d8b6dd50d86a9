package transfer

import (
	"sync"
	"sync/atomic"

	"deftheron/core/plan"
)

// feeder is a queue with its lanes: one for all routes, or one for each of several targets
// that are written from one source, so that a slow or a full one does not hold the others.
type feeder struct {
	route   int // that it feeds; -1 for all
	work    chan *Item
	large   chan *Item     // what is begun before its turn
	vacant  chan int       // lanes that nobody is in
	free    atomic.Int64   // goroutines that wait for one
	pending sync.WaitGroup // items that were claimed and have not ended
	more    chan struct{}  // something was enqueued
	full    atomic.Int64   // items in a row that found no space
	// again is set if items wait until something in their way is removed; passes counts
	// how often all of them were tried.
	again  atomic.Bool
	passes atomic.Int64
}

func newFeeders(options Options, apart bool) []*feeder {
	made := func(route int) *feeder {
		return &feeder{
			route: route, work: make(chan *Item, ready), large: make(chan *Item), vacant: make(chan int, options.Lanes), more: make(chan struct{},
				1),
		}
	}
	if !apart {
		return []*feeder{made(-1)}
	}
	var feeders []*feeder
	for i := range options.Routes {
		feeders = append(feeders, made(i))
	}
	return feeders
}

// has reports whether a route is fed by it.
func (f *feeder) has(route int) bool { return f.route < 0 || f.route == route }

func (r *Run) feederOf(item *Item) *feeder {
	if len(r.feeders) == 1 {
		return r.feeders[0]
	}
	return r.feeders[item.Route]
}

// siblings returns of each route how many have its source, those that have it alone left
// out; nil where none shares it.
func siblings(kind plan.Type, routes []Route) map[int]int {
	if kind == plan.TwoWay || kind == plan.Clearing {
		return nil
	}
	of := map[string][]int{}
	for i, route := range routes {
		source := route.Source.Account + " " + route.Source.Root.String()
		of[source] = append(of[source], i)
	}
	var all map[int]int
	for _, routes := range of {
		for _, i := range routes {
			if len(routes) > 1 {
				if all == nil {
					all = map[int]int{}
				}
				all[i] = len(routes)
			}
		}
	}
	return all
}

// hasSiblings reports whether several targets are written from one source.
func (r *Run) hasSiblings() bool { return len(r.feeders) > 1 }

// lanes is the least that any of the accounts advises to begin with.
func lanes(routes []Route) int {
	n := 16
	for _, route := range routes {
		for _, side := range []Side{route.Source, route.Target} {
			if streams := side.Store.Traits().Streams; streams > 0 {
				n = min(n, streams)
			}
		}
	}
	return n
}
