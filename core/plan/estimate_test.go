package plan_test

import (
	"math"
	"testing"
	"time"

	"deftheron/core/plan"
)

// TestEstimateTime estimates from earlier runs first, then from the speed of the accounts.
func TestEstimateTime(t *testing.T) {
	ten := plan.Past{Took: 10 * time.Second, Bytes: 10_000, Items: 100}
	slow, fast := plan.Rates{Bytes: 100, Items: 2}, plan.Rates{Bytes: 1000, Items: 50}
	for name, c := range map[string]struct {
		items, bytes int64
		past         []plan.Past
		rates        []plan.Rates
		want         plan.Estimate
	}{
		"nothing to do": {0, 0, []plan.Past{ten}, nil, plan.Estimate{Basis: plan.BasisNothingToDo}},
		"nothing known": {5, 5, nil, nil, plan.Estimate{Seconds: -1}},
		"large files":   {1, 100_000, []plan.Past{ten}, nil, plan.Estimate{Seconds: 100, Basis: plan.BasisRuns, Runs: 1}},
		"many files":    {1000, 1000, []plan.Past{ten, ten}, nil, plan.Estimate{Seconds: 100, Basis: plan.BasisRuns, Runs: 2}},
		"at most five runs": {10, 10, []plan.Past{ten, ten, ten, ten, ten, {Took: time.Hour, Bytes: 1, Items: 10}}, nil,
			plan.Estimate{Seconds: 1, Basis: plan.BasisRuns, Runs: 5}},
		"runs of a few items": {10, 1000, []plan.Past{{Took: time.Hour, Bytes: 1, Items: 9}}, []plan.Rates{fast, slow},
			plan.Estimate{Seconds: 10, Basis: plan.BasisSpeed}},
		"runs too short": {10, 1000, []plan.Past{{Took: time.Millisecond, Bytes: 10, Items: 20}}, []plan.Rates{fast},
			plan.Estimate{Seconds: 1, Basis: plan.BasisSpeed}},
		"a rate that is not known": {10, 1000, nil, []plan.Rates{{Bytes: 100}, {Items: 1}}, plan.Estimate{Seconds: 10, Basis: plan.BasisSpeed}},
		"no rate of items":         {10, 1000, nil, []plan.Rates{{Bytes: 100}}, plan.Estimate{Seconds: -1}},
	} {
		got := plan.EstimateTime(c.items, c.bytes, c.past, c.rates)
		if math.Abs(got.Seconds-c.want.Seconds) > 1e-9 || got.Basis != c.want.Basis || got.Runs != c.want.Runs {
			t.Errorf("%s: %+v, want %+v", name, got, c.want)
		}
	}
}
