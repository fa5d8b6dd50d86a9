package storetest

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"

	"deftheron/core/store"
)

// watched is content that looks at the store while it is being read.
type watched struct {
	data  []byte
	look  func()
	fail  error
	stall context.Context
}

func (w watched) Open(context.Context) (*store.Stream, error) {
	return store.NewStream(io.NopCloser(&watchedReader{watched: w}), store.CRC64NVME, nil), nil
}

type watchedReader struct {
	watched
	n int
}

func (r *watchedReader) Read(p []byte) (int, error) {
	half := len(r.data) / 2
	if r.n >= half && r.look != nil {
		r.look()
		r.look = nil
	}
	if r.n >= half && r.fail != nil {
		return 0, r.fail
	}
	if r.n >= half && r.stall != nil {
		<-r.stall.Done()
		return 0, r.stall.Err()
	}
	if r.n == len(r.data) {
		return 0, io.EOF
	}
	n := copy(p[:min(len(p), 64<<10)], r.data[r.n:])
	r.n += n
	return n, nil
}

func testPartly(t T, s store.Store) {
	place := at(s, "whole.bin")
	old := strings.Repeat("old", 1000)
	for _, round := range []string{"creating", "replacing"} {
		looks := 0
		data := bytes.Repeat([]byte(round), 300_000)
		condition := store.Absent
		if round == "replacing" {
			entry, _ := s.Stat(t.Context(), place)
			replaced, err := write(t, s, place, old, store.AtRevision(entry.Revision))
			if err != nil {
				t.Fatal(err)
			}
			condition = store.AtRevision(replaced.Revision)
		}
		content := watched{data: data, look: func() {
			looks++
			entry, err := s.Stat(t.Context(), place)
			if round == "creating" {
				want(t, "stat while it arrives", err, store.ErrNotFound)
				for _, entry := range list(t, s, store.Folder{}) {
					t.Errorf("%q is listed while it arrives", entry.Name)
				}
			} else if err != nil || entry.Size != int64(len(old)) {
				t.Errorf("while it is replaced: %+v, %v; want the old one of %d bytes", entry, err, len(old))
			}
		}}
		if _, err := s.Write(t.Context(), store.Writing{Place: place, Size: int64(len(data)), If: condition, Run: "conformance",
			Content: content}); err != nil {
			t.Fatalf("%s: %v", round, err)
		}
		if looks == 0 {
			t.Errorf("%s: the content was never read half", round)
		}
		if got := read(t, s, store.Reading{Place: place}); got != string(data) {
			t.Errorf("%s: other bytes came back", round)
		}
	}
}

func testFailedWrite(t T, s store.Store) {
	data := bytes.Repeat([]byte("x"), 3<<20)
	broken := errors.New("the source broke")
	cancelled, cancel := context.WithCancel(t.Context())
	for _, round := range []struct {
		name    string
		ctx     context.Context
		size    int64
		content watched
	}{
		{"the source fails", t.Context(), int64(len(data)), watched{data: data, fail: broken}},
		{"the source is shorter", t.Context(), int64(len(data)) + 10, watched{data: data}},
		{"the source is longer", t.Context(), int64(len(data)) - 10, watched{data: data}},
		{"the write is cancelled", cancelled, int64(len(data)), watched{data: data, look: cancel, stall: cancelled}},
	} {
		place := at(s, "failed.bin")
		_, err := s.Write(round.ctx, store.Writing{Place: place, Size: round.size, Run: "conformance", Content: round.content})
		if err == nil {
			t.Errorf("%s: no error", round.name)
		}
		if round.content.fail != nil && !errors.Is(err, broken) {
			t.Errorf("%s: got %v, want the source's own error", round.name, err)
		}
		if _, err := s.Stat(t.Context(), place); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("%s: stat gives %v afterwards, want %q", round.name, err, store.ErrNotFound)
		}
		if entries := list(t, s, store.Folder{}); len(entries) != 0 {
			t.Errorf("%s: %d entries are left", round.name, len(entries))
		}
	}
	cleaning := store.Cleaning{Run: "conformance", Uploads: []store.Ref{at(s, "failed.bin")}}
	_, _ = store.Clean(t.Context(), s, cleaning)
	if again, err := store.Clean(t.Context(), s, cleaning); err != nil || len(again) != 0 {
		t.Errorf("cleaning twice removed %v the second time, %v", again, err)
	}
}
