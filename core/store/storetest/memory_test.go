package storetest_test

import (
	"testing"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

func TestMemoryConforms(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store {
		m := storetest.NewMemory()
		m.PartsAbove, m.PartSize = 64<<20, 1<<20
		return m
	})
}

func TestFaultyWithoutFaultsConforms(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store { return storetest.NewFaulty(storetest.NewMemory()) })
}

func TestUnsortedMemoryConforms(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store {
		m := storetest.NewMemory()
		m.Unsorted, m.NoHashes = true, true
		return m
	})
}
