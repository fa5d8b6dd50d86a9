package lease_test

import (
	"errors"
	"testing"
	"testing/synctest"

	"deftheron/core/lease"
	"deftheron/core/lease/leasetest"
)

func TestMemoryConforms(t *testing.T) {
	for name, test := range leasetest.Tests {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) { test(t, &lease.Memory{}, lease.Lasts) })
		})
	}
}

func TestMemoryIsBounded(t *testing.T) {
	q := &lease.Memory{Most: 2}
	for i, want := range []error{nil, nil, lease.ErrFull} {
		if err := q.Offer(t.Context(), "a", []byte{1}); !errors.Is(err, want) {
			t.Errorf("unit %d: %v", i, err)
		}
	}
	if err := q.Drop(t.Context(), "a"); err != nil {
		t.Fatal(err)
	}
	if err := q.Offer(t.Context(), "a", []byte{1}); err != nil {
		t.Errorf("after all was dropped: %v", err)
	}
}
