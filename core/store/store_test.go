package store_test

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/iotest"
	"testing/synctest"
	"time"

	"deftheron/core/store"
)

func TestKeysKeepTheOrderOfAFlatListing(t *testing.T) {
	keys := []struct {
		key  store.Key
		kind store.Kind
	}{
		{"a", store.KindFile}, {"a!", store.KindFile}, {"a!/", store.KindFolder}, {"a.txt", store.KindFile}, {"a/", store.KindFolder},
		{"a/", store.KindFile}, {"a/b", store.KindFile}, {"a/b/", store.KindFolder}, {"a0", store.KindFile}, {"b\x00c", store.KindFile},
	}
	for i := range len(keys) - 1 {
		if store.CompareKeys(keys[i].key, keys[i].kind, keys[i+1].key, keys[i+1].kind) >= 0 {
			t.Errorf("%q does not come before %q", keys[i].key, keys[i+1].key)
		}
	}
	entries := []store.Entry{
		{Name: "a0"}, {Name: "a", Kind: store.KindFolder}, {Name: "a.txt"}, {Name: "a"}, {Name: "a!", Kind: store.KindFolder}, {Name: ""},
		{Name: "x/y"}, {Name: "x!"},
	}
	store.SortByKey(entries)
	for i := range len(entries) - 1 {
		a, b := store.KeyOf("", entries[i].Name, entries[i].Kind), store.KeyOf("", entries[i+1].Name, entries[i+1].Kind)
		if a > b {
			t.Errorf("sorted %q before %q", a, b)
		}
	}
	for _, c := range []struct {
		below store.Path
		name  string
		kind  store.Kind
	}{{"", "a", store.KindFile}, {"a/b/", "c", store.KindFolder}, {"a/", "", store.KindFile}, {"", "", store.KindFolder},
		{"a/", "x/y", store.KindFile}} {
		below, name := store.KeyOf(c.below, c.name, c.kind).Split(c.kind)
		if below != c.below || name != c.name {
			t.Errorf("%q %q split into %q %q", c.below, c.name, below, name)
		}
	}
}

func TestErrorsAreOfTheOutermostKind(t *testing.T) {
	inner := store.Errorf(store.ErrOutcomeUnknown, "lost")
	outer := fmt.Errorf("doing: %w", store.Errorf(store.ErrTryAgain, "not written after all: %w", inner))
	if store.KindOf(outer) != store.ErrTryAgain {
		t.Errorf("the kind is %v", store.KindOf(outer))
	}
	if store.KindOf(errors.New("odd")) != nil || store.KindOf(nil) != nil {
		t.Error("an error of no kind has one")
	}
	if wait := store.Wait(fmt.Errorf("x: %w", store.SlowDown(3*time.Second, nil))); wait != 3*time.Second {
		t.Errorf("the wait is %v", wait)
	}
}

func TestRetryAfter(t *testing.T) {
	now := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	for value, want := range map[string]time.Duration{
		"": 0, "5": 5 * time.Second, "-5": 0, "x": 0, "Thu, 01 Jan 2026 00:00:07 GMT": 7 * time.Second, "999999": time.Hour,
	} {
		if got := store.RetryAfter(http.Header{"Retry-After": {value}}, now); got != want {
			t.Errorf("%q: %v, want %v", value, got, want)
		}
	}
}

// TestExactly reads bodies that are too short, too long, or take back what they
// gave at their end: the last bytes must not be given before that is known.
func TestExactly(t *testing.T) {
	broken := errors.New("broken")
	for _, c := range []struct {
		name string
		r    io.Reader
		want error
	}{
		{"as promised", strings.NewReader("12345"), nil},
		{"a byte at a time", iotest.OneByteReader(strings.NewReader("12345")), nil},
		{"with its end", iotest.DataErrReader(strings.NewReader("12345")), nil},
		{"short", strings.NewReader("1234"), store.ErrTryAgain},
		{"long", strings.NewReader("123456"), store.ErrChanged},
		{"broken at its end", io.MultiReader(strings.NewReader("12345"), iotest.ErrReader(broken)), broken},
	} {
		data, err := io.ReadAll(store.Exactly(c.r, 5))
		if !errors.Is(err, c.want) || c.want == nil && string(data) != "12345" {
			t.Errorf("%s: %q, %v; want %v", c.name, data, err, c.want)
		}
		if c.want != nil && len(data) >= 5 {
			t.Errorf("%s: all bytes were given before the end was known", c.name)
		}
	}
}

func TestCombineCRC64NVME(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	sum := func(data []byte) uint64 {
		hash := store.CRC64NVME.New()
		hash.Write(data)
		return binary.BigEndian.Uint64(hash.Sum(nil))
	}
	for range 200 {
		data := make([]byte, random.IntN(5000))
		for i := range data {
			data[i] = byte(random.Uint32())
		}
		cut := random.IntN(len(data) + 1)
		if got, want := store.CombineCRC64NVME(sum(data[:cut]), sum(data[cut:]), int64(len(data)-cut)), sum(data); got != want {
			t.Fatalf("%d bytes cut at %d: %x, want %x", len(data), cut, got, want)
		}
	}
	// The check value of the CRC catalogue, for "123456789".
	if got := sum([]byte("123456789")); got != 0xae8b14860a799888 {
		t.Errorf("the check value is %x", got)
	}
}

func TestTellingBody(t *testing.T) {
	for _, told := range []string{"ae8b14860a799888", "0000000000000000"} {
		stream := store.NewStream(telling{strings.NewReader("123456789"), told}, store.CRC64NVME, nil)
		_, err := io.ReadAll(stream)
		if right := told[0] == 'a'; right != (err == nil) {
			t.Errorf("a body that tells %s: %v", told, err)
		}
	}
}

type telling struct {
	io.Reader
	hex string
}

func (telling) Close() error { return nil }

func (b telling) Told() store.Hashes { return store.Hashes{{Kind: store.CRC64NVME, Hex: b.hex}} }

func TestGateBoundsHowManyGoAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		gate := store.NewGate("a", 2, 2)
		var mu sync.Mutex
		inside, most := 0, 0
		count := func(n int) {
			mu.Lock()
			defer mu.Unlock()
			inside += n
			most = max(most, inside)
		}
		for range 10 {
			go func() {
				done, err := gate.Pass(context.Background())
				if err != nil {
					t.Error(err)
				}
				count(1)
				time.Sleep(time.Second)
				count(-1)
				done(nil)
			}()
		}
		begun := time.Now()
		time.Sleep(time.Minute)
		synctest.Wait()
		if most != 2 || gate.Stats().Requests != 10 {
			t.Errorf("%d at once, %d in all after %v", most, gate.Stats().Requests, time.Since(begun))
		}
	})
}

func TestGateKeepsTheWaitThatIsNamed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		gate := store.NewGate("a", 8, 8)
		done, _ := gate.Pass(t.Context())
		done(store.SlowDown(30*time.Second, nil))
		begun := time.Now()
		done, err := gate.Pass(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		done(nil)
		if waited := time.Since(begun); waited < 30*time.Second || waited > 40*time.Second {
			t.Errorf("the whole account waited %v, want the 30 s named", waited)
		}
	})
}

// TestGateLearnsARate has a provider that bears 50 requests a second.
func TestGateLearnsARate(t *testing.T) {
	for name, slow := range map[string]time.Duration{"from the first second": 0, "after a slow beginning": 20 * time.Second} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) { learnRate(t, slow) })
		})
	}
}

// learnRate sends to a provider that allows 50 requests a second, and for so long bears
// no more than 10.
func learnRate(t *testing.T, slow time.Duration) {
	gate := store.NewGate("a", 16, 16)
	var mu sync.Mutex
	tokens, last, begun := 5.0, time.Now(), time.Now()
	sent, refused := 0, 0
	count := func() (int, int) {
		mu.Lock()
		defer mu.Unlock()
		s, r := sent, refused
		sent, refused = 0, 0
		return s, r
	}
	serve := func() error {
		mu.Lock()
		defer mu.Unlock()
		now, allowed := time.Now(), 50.0
		if now.Sub(begun) < slow {
			allowed = 10
		}
		tokens = min(5, tokens+now.Sub(last).Seconds()*allowed)
		last = now
		sent++
		if tokens < 1 {
			refused++
			return store.SlowDown(0, nil)
		}
		tokens--
		return nil
	}
	ctx, cancel := context.WithCancel(t.Context())
	var group sync.WaitGroup
	for range 16 {
		group.Go(func() {
			for ctx.Err() == nil {
				done, err := gate.Pass(ctx)
				if err != nil {
					return
				}
				outcome := serve()
				time.Sleep(10 * time.Millisecond)
				done(outcome)
			}
		})
	}
	time.Sleep(2*time.Minute + 5*slow)
	count()
	time.Sleep(time.Minute)
	s, r := count()
	cancel()
	group.Wait()
	if good := float64(s-r) / 60; good < 47.5 || float64(r) > 0.01*float64(s) {
		t.Errorf("%.1f requests a second went through, and %d of %d were refused", good, r, s)
	} else {
		t.Logf("%.1f requests a second went through, and %d of %d were refused", good, r, s)
	}
}

// TestReservationsCannotDeadlock moves in opposite directions between two
// accounts with one slot each.
func TestReservationsCannotDeadlock(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := store.NewGate("a", 1, 1), store.NewGate("b", 1, 1)
		var finished atomic.Int64
		for i := range 20 {
			from, to := a, b
			if i%2 == 1 {
				from, to = b, a
			}
			if i%5 == 0 {
				to = from // within one account
			}
			go func() {
				ctx, release, err := store.ReserveBoth(t.Context(), from, to)
				if err != nil {
					t.Error(err)
					return
				}
				for _, gate := range []*store.Gate{from, to} {
					done, err := gate.Pass(ctx)
					if err != nil {
						t.Error(err)
						return
					}
					defer done(nil)
				}
				time.Sleep(time.Second)
				release()
				finished.Add(1)
			}()
		}
		time.Sleep(time.Minute)
		synctest.Wait()
		if finished.Load() != 20 {
			t.Errorf("%d of 20 transfers finished", finished.Load())
		}
	})
}

func TestCheckOptions(t *testing.T) {
	p := provider{}
	for _, c := range []struct {
		given  map[string]string
		secret bool
		want   string
	}{
		{map[string]string{"url": "x"}, true, ""},
		{map[string]string{"url": "x", "mode": "fast"}, true, ""},
		{nil, true, "--url: missing"},
		{map[string]string{"url": "x", "mode": "odd"}, true, "one of slow, fast"},
		{map[string]string{"url": "x", "colour": "blue"}, true, "--colour: the provider test has no such option"},
		{map[string]string{"url": "x"}, false, "--secret-file"},
		{map[string]string{"url": "x", "password": "y"}, true, "never given as an option"},
	} {
		options, err := store.CheckOptions(p, c.given, c.secret)
		if c.want == "" {
			if err != nil || options["mode"] == "" {
				t.Errorf("%v: %v, %v", c.given, options, err)
			}
		} else if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v: %v, want it to say %q", c.given, err, c.want)
		}
	}
}

type provider struct{}

func (provider) Name() string  { return "test" }
func (provider) Title() string { return "Test" }
func (provider) Options() []store.Option {
	return []store.Option{
		{Name: "url", Required: true, Help: "the URL"}, {Name: "mode", Default: "slow", Choices: []string{"slow", "fast"}},
		{Name: "password", Required: true, Secret: true, Title: "Password"},
	}
}
func (provider) Open(context.Context, store.Opening) (store.Store, error) { return nil, nil }

func TestOursIsExcluded(t *testing.T) {
	for _, c := range []struct {
		parent store.Path
		name   string
		want   bool
	}{
		{"", ".heron", true}, {"a/", ".heron", false}, {"a/", store.ArrivingName("r", "0123456789ab"), true},
		{"a/", store.ArrivingName("r", "aside-x"), true}, {"a/", ".heron-arriving-notes.txt", false}, {"", ".heronry", false},
	} {
		if got := store.Ours(c.parent, c.name); got != c.want {
			t.Errorf("%q in %q: %v", c.name, c.parent, got)
		}
	}
	if !slices.Equal(store.MakePath("a", "b/c", "").Names(), []string{"a", "b/c", ""}) {
		t.Error("names do not survive a path")
	}
}

// TestGateSharesFairly has three users of one gate, one with twice the weight, and a
// person, who is let in at once.
func TestGateSharesFairly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		gate := store.NewGate("drive", 8, 8)
		passed := map[string]int{}
		var mu sync.Mutex
		ctx, cancel := context.WithCancel(t.Context())
		for name, weight := range map[string]int64{"a": 1, "b": 1, "twice": 2} {
			share := store.NewShare(weight)
			lanes := map[string]int{"a": 64, "b": 8, "twice": 8}[name] // more lanes are not more of it
			for range lanes {
				go func() {
					for ctx.Err() == nil {
						_, give, err := gate.Reserve(store.WithShare(ctx, share))
						if err != nil {
							return
						}
						time.Sleep(10 * time.Millisecond)
						give()
						mu.Lock()
						passed[name]++
						mu.Unlock()
					}
				}()
			}
		}
		time.Sleep(10 * time.Second)
		begun := time.Now()
		done, err := gate.Pass(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if waited := time.Since(begun); waited > 10*time.Millisecond {
			t.Errorf("a person waited for %v", waited)
		}
		done(nil)
		cancel()
		synctest.Wait()
		time.Sleep(time.Second) // those that slept end
		mu.Lock()
		defer mu.Unlock()
		all := passed["a"] + passed["b"] + passed["twice"]
		for name, want := range map[string]float64{"a": 0.25, "b": 0.25, "twice": 0.5} {
			if got := float64(passed[name]) / float64(all); got < want-0.05 || got > want+0.05 {
				t.Errorf("%s had %.2f of it, want %.2f", name, got, want)
			}
		}
	})
}
