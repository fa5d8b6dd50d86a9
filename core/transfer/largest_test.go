package transfer_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/store"
	"deftheron/core/transfer"
)

// timed is a target where a write takes as long as it has bytes, in milliseconds,
// and that notes in which order they began.
type timed struct {
	store.Store
	mu    sync.Mutex
	begun []string
}

func (s *timed) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	s.mu.Lock()
	s.begun = append(s.begun, writing.Place.Name)
	s.mu.Unlock()
	time.Sleep(time.Duration(writing.Size) * time.Millisecond)
	return s.Store.Write(ctx, writing)
}

func TestTheLargestAreBegunEarly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		transfer.SetLarge(large)
		defer transfer.SetLarge(transfer.Large)
		b := newBench(t)
		target := &timed{Store: b.target}
		b.to = target
		want := map[string]string{}
		put := func(name string, size int) {
			content := strings.Repeat("x", size)
			b.source.Put(content, name)
			want["/copy/"+name] = content
		}
		for i := range 300 {
			put(fmt.Sprintf("%03d", i), 10)
		}
		for i := range 3 {
			put(fmt.Sprintf("z%d", i), large*(i+1))
		}
		begun := time.Now()
		b.run("done")
		b.want(want)
		// Of four lanes two have the largest, of 3 s and 2 s, from the beginning;
		// in the order of the plan it would take 0.75 s of small ones besides.
		if took := time.Since(begun); took > 3300*time.Millisecond {
			t.Errorf("it took %v", took)
		}
		for _, name := range []string{"z2", "z1"} {
			if at := slices.Index(target.begun, name); at < 0 || at > 10 {
				t.Errorf("%s was begun as number %d of %d", name, at, len(target.begun))
			}
		}
		for _, name := range target.begun {
			if n := len(slices.DeleteFunc(slices.Clone(target.begun), func(one string) bool { return one != name })); n != 1 {
				t.Errorf("%s was written %d times", name, n)
			}
		}
	})
}
