package plan

import "time"

// Basis says what an estimate of time is made from.
type Basis string

// The bases of estimates.
const (
	// BasisNone: nothing is known that an estimate could be made from.
	BasisNone Basis = ""
	// BasisNothingToDo: nothing is to be transferred.
	BasisNothingToDo Basis = "nothing"
	// BasisRuns: earlier runs between the same accounts.
	BasisRuns Basis = "runs"
	// BasisSpeed: the last speed checks of the accounts.
	BasisSpeed Basis = "speed"
)

// Estimate is how long a run is expected to take.
type Estimate struct {
	Seconds float64 // less than 0 if unknown
	Basis   Basis
	Runs    int // that it is made from
}

// Past is an earlier run between the same accounts.
type Past struct {
	Took         time.Duration
	Bytes, Items int64 // that it transferred
}

// Rates are what an account reads or writes in a second.
type Rates struct{ Bytes, Items float64 }

const (
	// fewestItems is how many items a run has to have transferred to be one to estimate from.
	fewestItems = 10
	// mostPast is how many runs an estimate is made from.
	mostPast = 5
	// shortestPast is how long those took at least, all together.
	shortestPast = 200 * time.Millisecond
)

// EstimateTime estimates the time of a run that transfers so many items and bytes: from
// earlier runs, the latest first, or else from the rates of the accounts that take part.
// Rates of 0 are unknown.
func EstimateTime(items, bytes int64, past []Past, rates []Rates) Estimate {
	if items == 0 {
		return Estimate{Basis: BasisNothingToDo}
	}
	var all Past
	runs := 0
	for _, one := range past {
		if one.Items < fewestItems || runs == mostPast {
			continue
		}
		runs++
		all.Took, all.Bytes, all.Items = all.Took+one.Took, all.Bytes+one.Bytes, all.Items+one.Items
	}
	if all.Took > shortestPast && all.Bytes > 0 {
		seconds := all.Took.Seconds()
		return Estimate{Seconds: needs(items, bytes, Rates{float64(all.Bytes) / seconds, float64(all.Items) / seconds}), Basis: BasisRuns,
			Runs: runs}
	}
	slowest := Rates{}
	for _, one := range rates {
		slowest.Bytes, slowest.Items = slower(slowest.Bytes, one.Bytes), slower(slowest.Items, one.Items)
	}
	if slowest.Bytes == 0 || slowest.Items == 0 {
		return Estimate{Seconds: -1}
	}
	return Estimate{Seconds: needs(items, bytes, slowest), Basis: BasisSpeed}
}

// needs returns the seconds that items and bytes take: large files by the one rate, small
// ones by the other.
func needs(items, bytes int64, at Rates) float64 {
	return max(float64(bytes)/at.Bytes, float64(items)/at.Items)
}

// slower returns the lower of two rates, of which 0 is unknown.
func slower(a, b float64) float64 {
	if a == 0 || b > 0 && b < a {
		return b
	}
	return a
}
