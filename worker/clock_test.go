package worker

import (
	"testing"
	"time"
)

// TestClock has a machine whose clock is an hour off go by that of the service.
func TestClock(t *testing.T) {
	for ahead, want := range map[time.Duration]time.Duration{0: 0, time.Second: 0, time.Hour: time.Hour, -time.Hour: -time.Hour} {
		if got := time.Until(clock(ahead)()); (got - want).Abs() > time.Second {
			t.Errorf("ahead by %v: the clock is %v off", ahead, got)
		}
	}
}
