package servertest

import "testing"

// TestFreeAddress reserves addresses until the test ends: none of them is returned twice, and each
// can be reserved again afterwards.
func TestFreeAddress(t *testing.T) {
	taken := map[string]bool{}
	t.Run("reserve", func(t *testing.T) {
		for range 300 {
			address := FreeAddress(t)
			if taken[address] {
				t.Fatalf("%s was returned twice", address)
			}
			taken[address] = true
		}
	})
	for range 300 {
		FreeAddress(t)
	}
}
