package job

import (
	"testing"
	"time"
)

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
