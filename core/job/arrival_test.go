package job

import (
	"testing"
	"time"
)

// What arrives is complete when it was seen unchanged for as long as it has to rest.
func TestArrivalRests(t *testing.T) {
	const rest = 10 * time.Second
	began := time.Date(2026, 12, 1, 22, 0, 0, 0, time.UTC)
	var known Arrival
	for _, look := range []struct {
		after    time.Duration
		mark     string
		complete bool
	}{
		{0, "a", false}, {9 * time.Second, "a", false},
		{10 * time.Second, "b", false}, // it was written to
		{19 * time.Second, "b", false}, {20 * time.Second, "b", true}, {25 * time.Second, "c", false},
	} {
		var complete bool
		known, complete = known.See(look.mark, began.Add(look.after), rest)
		if complete != look.complete || known.Mark != look.mark {
			t.Errorf("after %v with the mark %s: complete %v, known %+v", look.after, look.mark, complete, known)
		}
	}
}

func TestArrivalsRead(t *testing.T) {
	for _, c := range []struct {
		given    Arrivals
		arriving string
		want     Taking
	}{
		{Arrivals{}, ArrivingFile, Taking{10 * time.Second, 2}},
		{Arrivals{}, ArrivingFolder, Taking{30 * time.Second, 2}},
		{Arrivals{Rest: "5m", AtOnce: 20}, ArrivingFolder, Taking{5 * time.Minute, 20}},
	} {
		if got, err := c.given.Read(c.arriving); err != nil || got != c.want {
			t.Errorf("%+v of a %s: %+v, %v", c.given, c.arriving, got, err)
		}
	}
	for _, wrong := range []Arrivals{{Rest: "soon"}, {Rest: "10ms"}, {Rest: "25h"}, {AtOnce: -1}, {AtOnce: 21}} {
		if got, err := wrong.Read(ArrivingFile); err == nil {
			t.Errorf("%+v is read as %+v", wrong, got)
		}
	}
}
