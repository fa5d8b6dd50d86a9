package arrival_test

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/arrival"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// memory keeps arrivals in memory.
type memory map[string]arrival.Incoming

func keyOf(route int, key store.Key) string { return fmt.Sprintf("%d %s", route, key) }

func (m memory) Incoming(_ context.Context, _ string, route int, key store.Key) (arrival.Incoming, bool, error) {
	one, ok := m[keyOf(route, key)]
	return one, ok, nil
}

func (m memory) IncomingAfter(_ context.Context, _ string, route int, after *store.Key, most int) ([]arrival.Incoming, error) {
	all := slices.DeleteFunc(m.all(), func(one arrival.Incoming) bool { return one.Route != route || after != nil && one.Key <= *after })
	return all[:min(most, len(all))], nil
}

func (m memory) IncomingIn(_ context.Context, _ string, state arrival.State, most int) ([]arrival.Incoming, error) {
	all := slices.DeleteFunc(m.all(), func(one arrival.Incoming) bool { return one.State != state })
	slices.SortStableFunc(all, func(a, b arrival.Incoming) int { return a.Since.Compare(b.Since) })
	return all[:min(most, len(all))], nil
}

func (m memory) SaveIncoming(_ context.Context, all []arrival.Incoming) error {
	for _, one := range all {
		m[keyOf(one.Route, one.Key)] = one
	}
	return nil
}

func (m memory) ForgetIncoming(_ context.Context, all []arrival.Incoming) error {
	for _, one := range all {
		delete(m, keyOf(one.Route, one.Key))
	}
	return nil
}

func (m memory) all() []arrival.Incoming {
	return slices.SortedFunc(maps.Values(m), func(a, b arrival.Incoming) int { return cmp.Compare(a.Key, b.Key) })
}

// states tells all that is recorded, as "key state".
func (m memory) states() string {
	var lines []string
	for _, one := range m.all() {
		lines = append(lines, fmt.Sprintf("%s %s", one.Key, one.State))
	}
	return strings.Join(lines, ", ")
}

func (m memory) want(t *testing.T, when, want string) {
	t.Helper()
	if got := m.states(); got != want {
		t.Errorf("%s: %s; want %s", when, got, want)
	}
}

const rest = 10 * time.Second

// ripen looks at what has rested, and checks the wait for the next.
func ripen(t *testing.T, m memory, source arrival.Source, want time.Duration) {
	t.Helper()
	wait, err := arrival.Ripen(t.Context(), m, "job", []arrival.Source{source}, rest)
	if err != nil || wait != want {
		t.Errorf("the next has rested in %v (%v), want %v", wait, err, want)
	}
}

// TestFilesArrive follows files from the first look until they are complete.
func TestFilesArrive(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, m, inbox := t.Context(), memory{}, storetest.NewMemory()
		inbox.Put("old", "in", "old.csv")
		source := arrival.Source{Job: "job", Store: inbox, Root: store.Folder{Path: "in/"}, Kind: job.ArrivingFile,
			Filter: plan.Filter{Include: []string{"*.csv"}}}
		scan := func(state arrival.State, want int) {
			t.Helper()
			if changed, err := source.Scan(ctx, m, state); err != nil || changed != want {
				t.Errorf("%d arrivals are new or changed (%v), want %d", changed, err, want)
			}
		}
		scan(arrival.There, 1)
		inbox.Put("a", "in", "a.csv")
		inbox.Put("b", "in", "sub", "b.csv")
		inbox.Put("no match", "in", "a.txt")
		scan(arrival.Resting, 2)
		scan(arrival.Resting, 0)
		m.want(t, "after two looks", "a.csv resting, old.csv there, sub/b.csv resting")
		ripen(t, m, source, rest)
		time.Sleep(rest)
		inbox.Put("b, longer", "in", "sub", "b.csv") // it is still written to
		ripen(t, m, source, rest)
		m.want(t, "when one has rested", "a.csv ready, old.csv there, sub/b.csv resting")
		inbox.Put("old, longer", "in", "old.csv")
		if err := source.LookAt(ctx, m, "old.csv/"); err != nil {
			t.Error(err)
		}
		m.want(t, "when an older file has changed", "a.csv ready, old.csv resting, sub/b.csv resting")
		time.Sleep(rest)
		if _, err := inbox.Remove(ctx, store.Folder{Path: "in/"}.Ref("old.csv"), ""); err != nil {
			t.Fatal(err)
		}
		ripen(t, m, source, -1)
		m.want(t, "when one was deleted while it rested", "a.csv ready, sub/b.csv ready")
		if _, err := inbox.Remove(ctx, store.Folder{Path: "in/"}.Ref("a.csv"), ""); err != nil {
			t.Fatal(err)
		}
		scan(arrival.Resting, 0)
		m.want(t, "when another is gone", "sub/b.csv ready")
	})
}

// TestFoldersArrive takes the folders directly in the source, each as complete as the last of
// its files.
func TestFoldersArrive(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, m, inbox := t.Context(), memory{}, storetest.NewMemory()
		inbox.Put("loose", "loose.txt")
		inbox.Put("1", "card-1", "a", "1.jpg")
		inbox.Put("22", "card-1", "b.jpg")
		inbox.Put("3", "card-2", "3.jpg")
		source := arrival.Source{Job: "job", Store: inbox, Kind: job.ArrivingFolder}
		if _, err := source.Scan(ctx, m, arrival.Resting); err != nil {
			t.Fatal(err)
		}
		m.want(t, "at first", "card-1/ resting, card-2/ resting")
		if size := m[keyOf(0, "card-1/")].Size; size != 3 {
			t.Errorf("card-1 has %d bytes, want 3", size)
		}
		time.Sleep(rest)
		inbox.Put("4", "card-2", "deep", "4.jpg")
		if err := source.LookAt(ctx, m, "card-2/deep/4.jpg/"); err != nil {
			t.Error(err)
		}
		ripen(t, m, source, rest)
		m.want(t, "when one was added to", "card-1/ ready, card-2/ resting")
	})
}

// TestAnnouncedOnce takes what is announced at once, and the same content once.
func TestAnnouncedOnce(t *testing.T) {
	ctx, m, inbox := t.Context(), memory{}, storetest.NewMemory()
	source := arrival.Source{Job: "job", Store: inbox, Kind: job.ArrivingFile}
	announce := func() arrival.Incoming {
		t.Helper()
		now, ok, err := source.At(ctx, "a.csv/")
		if err != nil || !ok {
			t.Fatal(ok, err)
		}
		one, err := source.Announce(ctx, m, now)
		if err != nil {
			t.Fatal(err)
		}
		return one
	}
	if _, ok, err := source.At(ctx, "a.csv/"); ok || err != nil {
		t.Errorf("something is there: %v, %v", ok, err)
	}
	inbox.Put("a", "a.csv")
	taken := announce()
	if taken.State != arrival.Ready {
		t.Errorf("it is %s, want ready", taken.State)
	}
	taken.State, taken.Run = arrival.Taken, "run"
	m[keyOf(0, taken.Key)] = taken
	if again := announce(); again != taken {
		t.Errorf("announced again it is %+v, want %+v", again, taken)
	}
	inbox.Put("changed", "a.csv")
	if changed := announce(); changed.State != arrival.Ready || changed.Run != "run" || changed.Mark == taken.Mark {
		t.Errorf("changed, it is %+v", changed)
	}
}

// TestLatest finds what was changed last at several sources.
func TestLatest(t *testing.T) {
	one, other := storetest.NewMemory(), storetest.NewMemory()
	day := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	sources := []arrival.Source{{Store: one, Kind: job.ArrivingFile}, {Store: other, Kind: job.ArrivingFile}}
	if _, i, err := arrival.Latest(t.Context(), sources); i >= 0 || err != nil {
		t.Errorf("the latest of nothing is at %d: %v", i, err)
	}
	one.PutAt("older", day, "older.txt")
	other.PutAt("latest", day.Add(time.Hour), "latest.txt")
	if latest, i, err := arrival.Latest(t.Context(), sources); i != 1 || latest.Key != "latest.txt" || err != nil {
		t.Errorf("the latest is %s at %d: %v", latest.Key, i, err)
	}
}

// TestLookFails forgets nothing that could not be listed.
func TestLookFails(t *testing.T) {
	m, inbox := memory{}, storetest.NewMemory()
	inbox.Put("a", "a.csv")
	source := arrival.Source{Job: "job", Store: inbox, Kind: job.ArrivingFile}
	if _, err := source.Scan(t.Context(), m, arrival.Resting); err != nil {
		t.Fatal(err)
	}
	replaced := store.Errorf(store.ErrReplaced, "another folder is there")
	source.Store = storetest.NewFaulty(inbox, storetest.Fault{Op: storetest.OpList, Err: replaced})
	if _, err := source.Scan(t.Context(), m, arrival.Resting); store.KindOf(err) != store.ErrReplaced {
		t.Errorf("a look at a folder that was replaced: %v", err)
	}
	m.want(t, "after a look that failed", "a.csv resting")
}
