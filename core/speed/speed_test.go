package speed_test

import (
	"context"
	"errors"
	"io"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/speed"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

func TestMeasureTakesTimesAndLeavesNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		memory := storetest.NewMemory()
		last := 0
		result, err := speed.Measure(t.Context(), slow{memory},
			speed.Options{Size: 1000, Number: 8, Lanes: 2, Run: "r1", Progress: func(done int) { last = done }})
		if err != nil {
			t.Fatal(err)
		}
		if result.Write.Seconds != 8 || result.Write.Files != 1 || result.Write.Rate != 1000 || result.Write.Delay != 2 ||
			result.Write.Slowest != 2 {
			t.Errorf("writing: %+v", result.Write)
		}
		if result.Read.Seconds != 4 || result.Read.Files != 2 || last != 24 {
			t.Errorf("reading: %+v, %d files done", result.Read, last)
		}
		left(t, memory)
	})
}

// slow takes two seconds to write a file, and one to open it.
type slow struct{ store.Store }

func (s slow) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	time.Sleep(2 * time.Second)
	return s.Store.Write(ctx, writing)
}

func (s slow) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	time.Sleep(time.Second)
	return s.Store.Open(ctx, reading)
}

func TestMeasureThatFailsLeavesNothing(t *testing.T) {
	for _, op := range []storetest.Op{storetest.OpWrite, storetest.OpOpen, storetest.OpRead, storetest.OpRemove} {
		memory := storetest.NewMemory()
		faulty := storetest.NewFaulty(memory, storetest.Fault{Op: op, Name: "scratch-0003.bin", Times: 1,
			Err: store.Errorf(store.ErrNoSpace, "full")})
		_, err := speed.Measure(t.Context(), faulty, speed.Options{Size: 100, Number: 8, Lanes: 3, Run: "r1"})
		if !errors.Is(err, store.ErrNoSpace) {
			t.Errorf("%s: %v", op, err)
		}
		left(t, memory)
	}
	flipped := storetest.NewFaulty(storetest.NewMemory(), storetest.Fault{Op: storetest.OpRead, Times: 1, Flip: true, At: 10})
	if _, err := speed.Measure(t.Context(), flipped, speed.Options{Size: 100, Number: 2, Lanes: 1, Run: "r1"}); !errors.Is(err,
		store.ErrTryAgain) {
		t.Errorf("a flipped bit: %v", err)
	}
}

func left(t *testing.T, s store.Store) {
	t.Helper()
	for entry, err := range s.List(t.Context(), store.At(store.OwnFolder).AsFolder()) {
		t.Errorf("%q is left, %v", entry.Name, err)
	}
}

func TestOptionsOutOfBounds(t *testing.T) {
	for _, options := range []speed.Options{
		{Size: -1, Number: 1, Lanes: 1}, {Size: 2 << 30, Number: 1, Lanes: 1}, {Number: 0, Lanes: 1}, {Number: 1001, Lanes: 1},
		{Number: 1, Lanes: 0}, {Number: 1, Lanes: 33}, {Size: 1 << 30, Number: 5, Lanes: 1},
	} {
		if _, err := speed.Measure(t.Context(), storetest.NewMemory(), options); err == nil {
			t.Errorf("%+v was taken", options)
		}
	}
}

// limited takes so many calls and then asks to slow down, once each time.
type limited struct {
	store.Store
	calls, every int
	slowed       int
}

func (l *limited) err() error {
	if l.calls++; l.calls%l.every == 0 {
		l.slowed++
		return store.SlowDown(time.Second, errors.New("slow down"))
	}
	return nil
}

func (l *limited) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	if err := l.err(); err != nil {
		return store.Written{}, err
	}
	return l.Store.Write(ctx, writing)
}

func (l *limited) Remove(ctx context.Context, ref store.Ref, revision string) (store.Removal, error) {
	if err := l.err(); err != nil {
		return "", err
	}
	return l.Store.Remove(ctx, ref, revision)
}

// TestMeasureWaits waits where the service asks to slow down, and measures that.
func TestMeasureWaits(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		memory := storetest.NewMemory()
		account := &limited{Store: memory, every: 3}
		result, err := speed.Measure(t.Context(), account, speed.Options{Size: 10, Number: 9, Lanes: 1, Run: "r1"})
		if err != nil || account.slowed == 0 || result.Write.Seconds == 0 {
			t.Errorf("%+v, %v, slowed down %d times", result, err, account.slowed)
		}
		left(t, memory)
	})
}
