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
	"testing"
	"testing/iotest"
	"time"

	"deftheron/core/retry"
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
		if got := retry.AfterHeader(http.Header{"Retry-After": {value}}, now); got != want {
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

func (b telling) ContentHashes() store.Hashes {
	return store.Hashes{{Kind: store.CRC64NVME, Hex: b.hex}}
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
		{nil, true, "url is missing"},
		{map[string]string{"url": "x", "mode": "odd"}, true, "one of slow, fast"},
		{map[string]string{"url": "x", "colour": "blue"}, true, "the provider test has no option colour"},
		{map[string]string{"url": "x"}, false, "password is missing"},
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
