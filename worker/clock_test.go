package worker

import (
	"testing"
	"time"
)

// TestClock checks that a machine with a wrong clock uses the time of the service.
func TestClock(t *testing.T) {
	for ahead, want := range map[time.Duration]time.Duration{0: 0, time.Second: 0, time.Hour: time.Hour, -time.Hour: -time.Hour} {
		if got := time.Until(clock(ahead)()); (got - want).Abs() > time.Second {
			t.Errorf("ahead by %v: the clock is %v off", ahead, got)
		}
	}
}
