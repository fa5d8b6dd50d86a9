package tree_test

import (
	"errors"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/tree"
)

// recentBench is an account whose listings are counted.
type recentBench struct {
	t       *testing.T
	beneath *storetest.Memory
	faulty  *storetest.Faulty
	recent  *tree.Recent
	changed []string
	noticed []error
}

func newRecentBench(t *testing.T) *recentBench {
	b := &recentBench{t: t, beneath: storetest.NewMemory()}
	b.faulty = storetest.NewFaulty(b.beneath)
	b.recent = &tree.Recent{
		Tree:    &tree.Tree{Accounts: accounts{"desk": b.faulty}},
		Changed: func(address store.Address) { b.changed = append(b.changed, address.String()) },
		Noticed: func(_ string, err error) { b.noticed = append(b.noticed, err) },
	}
	return b
}

func (b *recentBench) list(fresh bool) (names []string, err error) {
	b.t.Helper()
	address, _ := store.ParseAddress("/desk/in")
	nodes, _ := b.recent.List(b.t.Context(), address, fresh)
	for node, err := range nodes {
		if err != nil {
			return names, err
		}
		names = append(names, node.Name)
	}
	return names, nil
}

func (b *recentBench) want(want string, asked int, fresh bool) {
	b.t.Helper()
	names, err := b.list(fresh)
	b.recent.Wait()
	if calls := b.faulty.Calls(storetest.OpList); err != nil || fmt.Sprint(names) != want || calls != asked {
		b.t.Errorf("listed %v after %d requests, %v; want %s after %d", names, calls, err, want, asked)
	}
}

// TestRecent answers at once from memory, and freshens behind the answer.
func TestRecent(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newRecentBench(t)
		b.beneath.Put("x", "in", "a")
		b.want("[a]", 1, false)
		b.want("[a]", 1, false) // from memory
		b.beneath.Put("x", "in", "b")
		b.want("[a]", 1, false)
		time.Sleep(3 * time.Second)
		b.want("[a]", 2, false) // from memory, and freshened behind it
		if fmt.Sprint(b.changed) != "[/desk/in]" {
			t.Errorf("told as changed: %v", b.changed)
		}
		b.want("[a b]", 2, false)
		b.beneath.Put("x", "in", "c")
		b.want("[a b c]", 3, true) // insisted
		time.Sleep(31 * time.Second)
		b.beneath.Put("x", "in", "d")
		b.want("[a b c d]", 4, false) // too old to be answered from memory
		b.recent.Forget("desk")
		b.want("[a b c d]", 5, false)
		b.recent.Forget("des")
		b.want("[a b c d]", 5, false)
		if len(b.changed) != 1 {
			t.Errorf("told as changed: %v", b.changed)
		}
	})
}

// TestRecentKeepsNoFaults remembers nothing that broke off, and tells of it.
func TestRecentKeepsNoFaults(t *testing.T) {
	b := newRecentBench(t)
	b.beneath.Put("x", "in", "a")
	b.beneath.Put("x", "in", "b")
	broken := store.Errorf(store.ErrTryAgain, "broken")
	b.faulty.Add(storetest.Fault{Op: storetest.OpList, Times: 1, Err: broken, At: 1})
	if names, err := b.list(false); !errors.Is(err, store.ErrTryAgain) {
		t.Errorf("listed %v, %v", names, err)
	}
	b.want("[a b]", 2, false)
	if len(b.noticed) != 2 || !errors.Is(b.noticed[0], store.ErrTryAgain) || b.noticed[1] != nil {
		t.Errorf("noticed %v", b.noticed)
	}
}

// TestRecentIsBounded asks for a folder of more than is held each time.
func TestRecentIsBounded(t *testing.T) {
	b := newRecentBench(t)
	for i := range 5_001 {
		b.beneath.Put("", "in", fmt.Sprintf("%05d", i))
	}
	for asked := 1; asked <= 2; asked++ {
		if names, err := b.list(false); err != nil || len(names) != 5_001 || b.faulty.Calls(storetest.OpList) != asked {
			t.Errorf("%d names after %d requests, %v", len(names), b.faulty.Calls(storetest.OpList), err)
		}
	}
}
