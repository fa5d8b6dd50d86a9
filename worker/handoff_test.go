package worker

import (
	"bytes"
	"errors"
	"io"
	"testing"
)

func TestHandoff(t *testing.T) {
	for name, read := range map[string]func(h *handoff) ([]byte, error){
		"pieces": func(h *handoff) ([]byte, error) {
			var got bytes.Buffer
			_, err := h.WriteTo(&got)
			return got.Bytes(), err
		},
		"bytes": func(h *handoff) ([]byte, error) { return io.ReadAll(struct{ io.Reader }{h}) },
	} {
		for _, end := range []error{nil, errors.New("the source broke off")} {
			h := newHandoff()
			want := bytes.Repeat([]byte("stage 1.2 m\n"), 40_000)
			go func() {
				for left := want; len(left) > 0; {
					n, err := h.Write(left[:min(len(left), 100_000)])
					if err != nil {
						t.Error(err)
						break
					}
					left = left[n:]
				}
				h.CloseWithError(end)
			}()
			if got, err := read(h); !errors.Is(err, end) || !bytes.Equal(got, want) {
				t.Errorf("%s: %d bytes of %d, %v", name, len(got), len(want), err)
			}
		}
	}
}

// TestHandoffBreaks has the reader give up, and the connection break.
func TestHandoffBreaks(t *testing.T) {
	gone := errors.New("nobody reads")
	h := newHandoff()
	h.Break(gone)
	if _, err := h.Write([]byte("x")); !errors.Is(err, gone) {
		t.Errorf("writing to nobody: %v", err)
	}
	h = newHandoff()
	wrote := make(chan error, 1)
	go func() {
		_, err := h.Write([]byte("x"))
		wrote <- err
	}()
	if _, err := h.WriteTo(brokenWriter{gone}); !errors.Is(err, gone) {
		t.Errorf("a connection that breaks: %v", err)
	}
	if err := <-wrote; !errors.Is(err, gone) {
		t.Errorf("what was not sent: %v", err)
	}
}

type brokenWriter struct{ err error }

func (b brokenWriter) Write([]byte) (int, error) { return 0, b.err }
