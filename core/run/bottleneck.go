package run

import "time"

// Bottleneck is what a run waits for most.
type Bottleneck string

// The bottlenecks.
const (
	// BottleneckUnknown: the run did too little to tell.
	BottleneckUnknown Bottleneck = ""
	BottleneckSource  Bottleneck = "source"
	BottleneckTarget  Bottleneck = "target"
	// BottleneckLimit: a bandwidth limit.
	BottleneckLimit Bottleneck = "limit"
	// BottleneckProvider: an account asks to slow down, or allows no more requests at once.
	BottleneckProvider Bottleneck = "provider"
	// BottleneckMachine: the processors of this machine.
	BottleneckMachine Bottleneck = "machine"
)

// Shares are the figures behind a bottleneck: which share of the time of all lanes went where,
// from 0 to 1, and how busy the processors of this machine were.
type Shares struct {
	Source    float64 `json:"source"`
	Target    float64 `json:"target"`
	Limit     float64 `json:"limit"`
	Slots     float64 `json:"slots"`
	Processor float64 `json:"processor"`
	SlowDowns int64   `json:"slow_downs"` // answers that asked to slow down
}

const (
	// fewestWaits is how much the lanes have to have waited for a bottleneck to be named.
	fewestWaits = 200 * time.Millisecond
	// busy is the use of the processors from which on this machine is the bottleneck.
	busy = 0.85
)

// BottleneckOf returns what the run waited for most in the points given, with the figures.
func BottleneckOf(points []Point) (Bottleneck, Shares) {
	var waits Waits
	var shares Shares
	var span, processor float64
	for _, p := range points {
		waits = waits.plus(p.Waits)
		if p.Bytes+p.Items > 0 { // else it waited for changes, or for an account
			span += float64(p.Span)
			processor += p.Processor * float64(p.Span)
		}
		shares.SlowDowns += p.SlowDowns
	}
	if span > 0 {
		shares.Processor = processor / span
	}
	total := waits.Source + waits.Target + waits.Limit + waits.Slots
	if total < fewestWaits {
		return BottleneckUnknown, shares
	}
	share := func(of time.Duration) float64 { return float64(of) / float64(total) }
	shares.Source, shares.Target, shares.Limit, shares.Slots = share(waits.Source), share(waits.Target), share(waits.Limit), share(waits.Slots)
	if shares.Processor >= busy {
		return BottleneckMachine, shares
	}
	most, found := 0.0, BottleneckUnknown
	for _, one := range []struct {
		share float64
		is    Bottleneck
	}{
		{shares.Limit, BottleneckLimit}, {shares.Target, BottleneckTarget}, {shares.Source, BottleneckSource}, {shares.Slots, BottleneckProvider},
	} {
		if one.share > most {
			most, found = one.share, one.is
		}
	}
	if found == BottleneckProvider && shares.SlowDowns == 0 { // slots are taken by what the others do
		if shares.Target >= shares.Source {
			return BottleneckTarget, shares
		}
		return BottleneckSource, shares
	}
	return found, shares
}
