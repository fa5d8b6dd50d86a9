package rehearsal_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"deftheron/core/rehearsal"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// memory is a scratch place that is held.
type memory struct {
	kept    int
	cleared bool
	full    error
}

func (m *memory) Keep(_ context.Context, content io.Reader) (io.ReadCloser, error) {
	if m.full != nil {
		return nil, m.full
	}
	m.kept++
	data, err := io.ReadAll(content)
	return io.NopCloser(bytes.NewReader(data)), err
}

func (m *memory) Clear() error { m.cleared = true; return nil }

func rehearse(t *testing.T, s store.Store, files int, seed uint64, scratch *memory,
	hashes map[store.Key]string) (outcomes []rehearsal.Outcome, total rehearsal.Total, err error) {
	total, err = rehearsal.Rehearse(t.Context(), rehearsal.Options{
		Store: s, Folder: store.At("in").AsFolder(), Files: files, Seed: seed, Scratch: scratch,
		HashOf: func(_ context.Context, key store.Key, _ store.Entry) (string, error) { return hashes[key], nil },
		Done:   func(one rehearsal.Outcome) error { outcomes = append(outcomes, one); return nil },
	})
	return outcomes, total, err
}

func hashOf(content string) string {
	hash := store.BLAKE3.New()
	hash.Write([]byte(content))
	return store.HashOf(store.BLAKE3, hash.Sum(nil)).String()
}

// TestRehearse chooses, always with the newest and the largest, restores and compares.
func TestRehearse(t *testing.T) {
	m := storetest.NewMemory()
	hashes := map[store.Key]string{}
	for i := range 200 {
		name, content := fmt.Sprint("f", i), fmt.Sprint("content ", i)
		if i == 17 {
			content = strings.Repeat("long", 1000)
		}
		m.Put(content, "in", "sub", name)
		hashes[store.Key("sub/"+name)] = hashOf(content)
	}
	scratch := &memory{}
	outcomes, total, err := rehearse(t, m, 10, 5, scratch, hashes)
	if err != nil || total.Files != 200 || len(outcomes) < 10 || len(outcomes) > 12 || !scratch.cleared {
		t.Fatalf("%d of %+v, cleared %v, %v", len(outcomes), total, scratch.cleared, err)
	}
	chosen := func(outcomes []rehearsal.Outcome) (keys []string) {
		for _, one := range outcomes {
			if one.Err != nil || one.By != "blake3" {
				t.Errorf("%s: %q, %v", one.Key, one.By, one.Err)
			}
			keys = append(keys, one.Why+" "+string(one.Key))
		}
		return keys
	}
	first := chosen(outcomes)
	if !slices.Contains(first, "newest sub/f199") || !slices.Contains(first, "largest sub/f17") {
		t.Errorf("chosen are %v", first)
	}
	again, _, _ := rehearse(t, m, 10, 5, &memory{}, hashes)
	other, _, _ := rehearse(t, m, 10, 6, &memory{}, hashes)
	if !slices.Equal(first, chosen(again)) || slices.Equal(first, chosen(other)) {
		t.Errorf("the seed does not decide: %v, %v, %v", first, chosen(again), chosen(other))
	}
	if all, total, err := rehearse(t, m, 0, 0, &memory{}, hashes); err != nil || len(all) != 200 || total.Files != 200 {
		t.Errorf("of all, %d of %d were restored: %v", len(all), total.Files, err)
	}
}

// TestRehearseFinds tells apart files that are not what was recorded, files that cannot be
// read, and a scratch place that fails.
func TestRehearseFinds(t *testing.T) {
	m := storetest.NewMemory()
	hashes := map[store.Key]string{}
	for _, name := range []string{"good", "rotten", "unread", "unknown"} {
		m.Put(name, "in", name)
		hashes[store.Key(name)] = hashOf(name)
	}
	delete(hashes, "unknown")
	m.Put("ROTTEN", "in", "rotten")
	faulty := storetest.NewFaulty(m)
	faulty.Add(storetest.Fault{Op: storetest.OpOpen, Name: "unread", Err: store.Errorf(store.ErrTryAgain, "it breaks off"), At: 2})
	outcomes, _, err := rehearse(t, faulty, 0, 0, &memory{}, hashes)
	if err != nil || len(outcomes) != 4 {
		t.Fatalf("%d outcomes, %v", len(outcomes), err)
	}
	for _, one := range outcomes {
		want := map[store.Key]error{"rotten": store.ErrVerification, "unread": store.ErrTryAgain}[one.Key]
		if want == nil && one.Err != nil || !errors.Is(one.Err, want) {
			t.Errorf("%s: %v, want %v", one.Key, one.Err, want)
		}
		if one.Key == "unknown" && one.By != "" {
			t.Errorf("a file of which nothing was recorded is verified by %q", one.By)
		}
	}
	if _, _, err := rehearse(t, m, 0, 0, &memory{full: errors.New("the disk is full")}, hashes); err == nil {
		t.Error("a scratch place that is full is no error")
	}
}
