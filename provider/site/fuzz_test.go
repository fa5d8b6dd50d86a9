package site_test

import (
	"bytes"
	"context"
	"io"
	"testing"
	"time"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/site"
	"deftheron/provider/site/sitetest"
)

// fixed answers every request with the same bytes.
type fixed struct {
	honest *sitetest.Direct // for the first request, so that the account opens
	answer []byte
}

// Seal implements site.Caller.
func (s *fixed) Seal(ctx context.Context, worker string, secret []byte) ([]byte, error) {
	return s.honest.Seal(ctx, worker, secret)
}

// Call implements site.Caller.
func (s *fixed) Call(ctx context.Context, call site.Call) (io.ReadCloser, string, error) {
	if s.answer == nil {
		return s.honest.Call(ctx, call)
	}
	return io.NopCloser(bytes.NewReader(s.answer)), "worker 0", nil
}

// FuzzAnswers has a worker answer with anything: a call ends with an error or with what was said, and
// soon.
func FuzzAnswers(f *testing.F) {
	f.Add([]byte{})
	f.Add([]byte("e\x00"))
	f.Add([]byte("e\x01\xa0"))
	f.Add([]byte("i\x01\x80e\x01\xa0"))
	f.Add([]byte("d\x05hello"))
	f.Add([]byte("i\xff\xff\xff\xff\x7f"))
	f.Add([]byte("i\x05\x9a\xff\xff\xff\xff")) // an array of four thousand million entries
	f.Fuzz(func(t *testing.T, answer []byte) {
		_, honest, err := sitetest.Open(t.Context(), 1, func(string) store.Store { return storetest.NewAble() })
		if err != nil {
			t.Fatal(err)
		}
		caller := &fixed{honest: honest}
		s, err := site.Open(t.Context(), caller, "memory", site.Opening{ID: "account", Generation: "1"})
		if err != nil {
			t.Fatal(err)
		}
		caller.answer = append([]byte{}, answer...)
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		_, _ = s.Stat(ctx, store.At("x"))
		n := 0
		for range s.List(ctx, store.Folder{}) {
			n++
		}
		if n > len(answer)+1 {
			t.Errorf("%d entries of %d bytes", n, len(answer))
		}
		if body, err := s.Open(ctx, store.Reading{Place: store.At("x")}); err == nil {
			if got, _ := io.Copy(io.Discard, body); got > int64(len(answer)) {
				t.Errorf("%d bytes of %d", got, len(answer))
			}
			body.Close()
		}
		_, _ = s.Write(ctx, store.Writing{Place: store.At("x"), Size: 1, Content: storetest.Text("x")})
		_ = store.Prepare(ctx, s)
		_ = s.Traits().NameError("", "x")
		if parts, limits, ok := store.Parts(s, 1<<50); ok {
			_, _ = parts, limits.Size(1<<50)
		}
	})
}
