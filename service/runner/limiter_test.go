package runner

import (
	"context"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
)

// TestTurns lets runs in by priority, and then by how long they have waited.
func TestTurns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		turns := newRunLimiter(1)
		var mu sync.Mutex
		var came []string
		begin := func(ctx context.Context, name string, weight int64) {
			go func() {
				if turns.take(ctx, func() int64 { return weight }) == nil {
					mu.Lock()
					defer mu.Unlock()
					came = append(came, name)
				}
			}()
			synctest.Wait()
		}
		giveUp, cancel := context.WithCancel(t.Context())
		begin(t.Context(), "first", 1)
		begin(t.Context(), "low", 1)
		begin(t.Context(), "normal", 2)
		begin(giveUp, "gave up", 4)
		begin(t.Context(), "high", 4)
		begin(t.Context(), "low later", 1)
		cancel()
		synctest.Wait()
		for range 2 {
			turns.give()
			synctest.Wait()
		}
		if want := []string{"first", "high", "normal"}; !slices.Equal(came, want) {
			t.Errorf("they came as %v, want %v", came, want)
		}
		turns.setMost(3)
		synctest.Wait()
		slices.Sort(came[3:]) // which came together
		if want := []string{"first", "high", "normal", "low", "low later"}; !slices.Equal(came, want) {
			t.Errorf("with more at once they came as %v, want %v", came, want)
		}
		for range 3 {
			turns.give()
		}
		if turns.moving != 0 || len(turns.waiting) != 0 {
			t.Errorf("%d move and %d wait when all have ended", turns.moving, len(turns.waiting))
		}
	})
}
