package webdav

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"deftheron/core/publish"
	"deftheron/core/retry"
	"deftheron/core/store"
)

// askFirst is the size from which the server is asked whether it will take a
// file before the bytes are sent (RFC 9110, section 10.1.1).
const askFirst = 64 << 10

// directSize is up to which size a file is sent to its own name though the
// server checks conditions only when a request begins: what can happen until it
// ends is a matter of milliseconds then.
const directSize = 256 << 10

// direct reports whether a file of a size is sent to its own name.
func (f findings) direct(size int64) bool {
	return f.whole && (f.late || size >= 0 && size <= directSize)
}

// Write implements store.Store: by one PUT under its condition where the server
// shows only whole files and checks the condition in time, else by way of a name
// of ours.
func (a *account) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	if err := checkPlace(writing.Place); err != nil {
		return store.Written{}, err
	}
	if err := a.Prepare(ctx); err != nil {
		return store.Written{}, err
	}
	header, err := a.condition(ctx, writing)
	if err != nil {
		return store.Written{}, err
	}
	if !a.found().direct(writing.Size) {
		return a.writeAside(ctx, writing)
	}
	if _, err := a.put(ctx, writing, a.urlOfPlace(writing.Place), header); err != nil {
		return store.Written{}, a.writeFailed(ctx, writing, err)
	}
	return a.written(ctx, writing)
}

// condition looks at what is at the place now and returns what keeps the server
// to it: nothing, where it does not check conditions itself.
func (a *account) condition(ctx context.Context, writing store.Writing) (http.Header, error) {
	found, header := a.found(), http.Header{}
	if writing.If == store.Any {
		return header, nil
	}
	if writing.If.IsAbsent() && found.ifNoneMatch && found.direct(writing.Size) {
		header.Set("If-None-Match", "*")
		return header, nil
	}
	there, err := a.stat(ctx, writing.Place.As(""))
	if err != nil && store.KindOf(err) != store.ErrNotFound {
		return nil, err
	}
	if err := publish.ConditionHolds(writing, there.Entry, err == nil); err != nil {
		return nil, err
	}
	if writing.If.IsAbsent() || !found.ifMatch || !found.direct(writing.Size) {
		return header, nil
	}
	if there, err = a.untilStrong(ctx, writing.Place, there); err != nil {
		return nil, err
	}
	if there.tag != "" && !isWeak(there.tag) {
		header.Set("If-Match", strings.TrimSpace(there.tag))
	}
	return header, nil
}

// untilStrong waits until the entity tag of a file is a strong one, as only such
// can be a condition. Servers that take it from the time of change make it weak
// for the second in which the file might change again unseen.
func (a *account) untilStrong(ctx context.Context, place store.Ref, there resource) (resource, error) {
	revision := there.Revision
	for range 12 {
		if !isWeak(there.tag) {
			break
		}
		if err := retry.Sleep(ctx, 250*time.Millisecond); err != nil {
			return there, err
		}
		var err error
		if there, err = a.stat(ctx, place); err != nil && store.KindOf(err) != store.ErrNotFound {
			return there, err
		}
		if err != nil || there.Revision != revision {
			return there, store.Errorf(store.ErrChanged, "%s changed in the meantime", place)
		}
	}
	return there, nil
}

// put sends the content to a URL and returns the hash of what was sent.
func (a *account) put(ctx context.Context, writing store.Writing, target *url.URL, header http.Header) (store.Hash, error) {
	if writing.Size < 0 || writing.Size > askFirst {
		header.Set("Expect", "100-continue")
	}
	var sent *sending
	answer, err := a.send(ctx, request{
		method: http.MethodPut, url: target, header: header, size: writing.Size, changes: true,
		body: func() (io.ReadCloser, error) {
			sent = &sending{ctx: ctx, writing: writing, closed: make(chan struct{})}
			if writing.Size == 0 { // nothing will be read, and its end must still be looked at
				if _, err := sent.Read(make([]byte, 1)); err != io.EOF {
					sent.Close()
					return nil, err
				}
			}
			return sent, nil
		},
	})
	if sent != nil {
		<-sent.closed // an answer may come while the rest is still being sent
		if sent.failed != nil && sent.failed != errNotSent {
			return store.Hash{}, sent.failed
		}
	}
	if err != nil {
		return store.Hash{}, err
	}
	discard(answer)
	if sent.stream == nil {
		return store.Hash{}, store.Errorf(store.ErrTryAgain, "the server took %s without reading it", writing.Place)
	}
	return sent.stream.Sum(), nil
}

// sending is a content on its way. It is opened when it is read: a server that
// asks for the sign-in first has not taken anything of it.
type sending struct {
	mu      sync.Mutex
	ctx     context.Context
	writing store.Writing
	stream  *store.Stream
	reader  io.Reader
	failed  error // of the content, not of the connection
	closed  chan struct{}
	closing sync.Once
}

func (s *sending) Read(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.reader == nil && s.failed == nil {
		if s.stream, s.failed = s.writing.Content.Open(s.ctx); s.failed == nil {
			s.reader = s.stream
			if s.writing.Size >= 0 {
				s.reader = store.Exactly(s.stream, s.writing.Size)
			}
		}
	}
	if s.failed != nil {
		return 0, s.failed
	}
	n, err := s.reader.Read(p)
	if err != nil && err != io.EOF {
		s.failed = err
	}
	return n, err
}

// Close closes the content, once nothing reads it any more.
func (s *sending) Close() (err error) {
	s.closing.Do(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.stream != nil {
			err = s.stream.Close()
		}
		if s.failed == nil && s.reader == nil {
			s.failed = errNotSent
		}
		close(s.closed)
	})
	return err
}

// errNotSent is of a content that was closed before it was opened: it is not
// opened any more.
var errNotSent = errors.New("the content was not asked for")

// writeFailed says of an answer what it means for a write.
func (a *account) writeFailed(ctx context.Context, writing store.Writing, err error) error {
	status := statusOf(err)
	switch {
	case status == 0:
		return err
	case status == http.StatusPreconditionFailed && writing.If.IsAbsent():
		return store.Errorf(store.ErrExists, "%s already exists", writing.Place)
	case status == http.StatusPreconditionFailed:
		return store.Errorf(store.ErrChanged, "%s changed in the meantime", writing.Place)
	case status == http.StatusLocked:
		return a.locked(ctx, writing.Place, a.urlOfPlace(writing.Place), err)
	case status == http.StatusConflict || status == http.StatusMethodNotAllowed:
		if _, look := a.Stat(ctx, writing.Place.As(store.KindFolder)); look == nil {
			return store.Errorf(store.ErrExists, "a folder is at %s", writing.Place)
		}
		if status == http.StatusConflict {
			return store.Errorf(store.ErrNotFound, "the folder of %s is not there: %w", writing.Place, err)
		}
	case status == http.StatusLengthRequired:
		return store.Errorf(store.ErrUnsupported, "the size of %s is not known, and the server asks for it: %w", writing.Place, err)
	}
	return doing("write", writing.Place.String(), err)
}

// written looks at what was written.
func (a *account) written(ctx context.Context, writing store.Writing) (store.Written, error) {
	entry, err := a.Stat(ctx, writing.Place)
	if err != nil {
		return store.Written{}, store.Errorf(store.ErrOutcomeUnknown, "%s was sent and could not be looked at: %w", writing.Place, err)
	}
	if writing.Size >= 0 && entry.Size >= 0 && entry.Size != writing.Size {
		return store.Written{}, store.Errorf(store.ErrOutcomeUnknown, "%s was sent with %d bytes and has %d", writing.Place, writing.Size,
			entry.Size)
	}
	return store.Written{Entry: entry}, nil
}

// writeAside sends the content under a name of ours, reads it back, and moves
// it to its own.
func (a *account) writeAside(ctx context.Context, writing store.Writing) (written store.Written, err error) {
	var random [6]byte
	rand.Read(random[:])
	arriving := writing.Place.Folder.Ref(store.ArrivingName(writing.Run, hex.EncodeToString(random[:])))
	defer func() {
		if err != nil {
			a.Discard(ctx, arriving)
		}
	}()
	sent, err := a.put(ctx, writing, a.urlOfPlace(arriving), http.Header{})
	if err != nil {
		return store.Written{}, a.writeFailed(ctx, writing, err)
	}
	bySize := writing.Verification == store.VerifyBySize
	if !bySize {
		read, size, err := store.ReadBack(ctx, a, arriving, "", sent.Kind)
		if err != nil {
			return store.Written{}, store.Errorf(store.ErrTryAgain, "%s was sent and could not be read back: %w", writing.Place, err)
		}
		if read != sent || writing.Size >= 0 && size != writing.Size {
			return store.Written{}, store.Errorf(store.ErrTryAgain, "%s was sent with %s and read back with %s, %d bytes", writing.Place, sent, read,
				size)
		}
	}
	if err := publish.Publish(ctx, a, writing, arriving); err != nil {
		return store.Written{}, err
	}
	written, err = a.written(ctx, writing)
	if !bySize {
		written.Verification, written.ReadBack = sent, true
	}
	return written, err
}

// Rename implements store.Renamer.
func (a *account) Rename(ctx context.Context, from, to store.Ref, replace bool) error {
	return a.move(ctx, from, to, a.urlOfKind(from), a.urlOfKind(to.As(from.Kind)), replace)
}

// Replaces implements store.Renamer: a MOVE over a file shows a gap on every
// server that was tried.
func (a *account) Replaces() bool { return false }

// Discard implements store.Renamer.
func (a *account) Discard(ctx context.Context, place store.Ref) {
	publish.Discard(ctx, func(ctx context.Context) error { return a.delete(ctx, a.urlOfPlace(place), http.Header{}) })
}

// Clean is store.Capabilities.Clean. To a server that is sent files by their own names,
// copies inside it still come under names of ours.
func (a *account) Clean(ctx context.Context, cleaning store.Cleaning) ([]store.Leftover, error) {
	if err := a.Prepare(ctx); err != nil {
		return nil, err
	}
	return publish.CleanArrivals(ctx, a, a, cleaning)
}
