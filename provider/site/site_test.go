package site_test

import (
	"context"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/folder"
	"deftheron/provider/site"
	"deftheron/provider/site/sitetest"
)

// at returns a store at a site with some workers, each of which opens the same one.
func at(t *testing.T, workers int, s func(worker string) store.Store) store.Store {
	t.Helper()
	opened, _ := atThrough(t, workers, s)
	return opened
}

func atThrough(t *testing.T, workers int, s func(worker string) store.Store) (store.Store, *sitetest.Direct) {
	t.Helper()
	opened, d, err := sitetest.Open(t.Context(), workers, s)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = store.Close(opened) })
	return opened, d
}

func TestConforms(t *testing.T) {
	for name, workers := range map[string]int{"one worker": 1, "two workers": 2} {
		t.Run(name, func(t *testing.T) {
			storetest.Run(t, func(t *testing.T) store.Store {
				memory := storetest.NewMemory()
				memory.PartsAbove, memory.PartSize = 1<<20, 256<<10
				return at(t, workers, func(string) store.Store { return memory })
			})
		})
	}
	t.Run("versions of its own", func(t *testing.T) {
		storetest.Run(t, func(t *testing.T) store.Store {
			memory := storetest.NewMemory()
			memory.Versioned = true
			return at(t, 1, func(string) store.Store { return memory })
		})
	})
	t.Run("a folder", func(t *testing.T) {
		storetest.Run(t, func(t *testing.T) store.Store {
			dir := t.TempDir()
			return at(t, 1, func(string) store.Store {
				s, err := folder.Provider{}.Open(t.Context(), store.Opening{Options: map[string]string{"path": dir}})
				if err != nil {
					t.Fatal(err)
				}
				return s
			})
		})
	})
}

// TestClose closes an account, which opens again when it is needed.
func TestClose(t *testing.T) {
	s := at(t, 1, func(string) store.Store { return storetest.NewAble() })
	if err := store.Close(s); err != nil {
		t.Error(err)
	}
	if _, err := s.Stat(t.Context(), store.Ref{}); err != nil {
		t.Errorf("after it was closed: %v", err)
	}
}

// TestEveryCapability has a store that can do everything at a site, and one that can do
// nothing: neither may be shown as the other.
func TestEveryCapability(t *testing.T) {
	storetest.Wrapped(t, func(s store.Store) store.Store {
		return at(t, 1, func(string) store.Store { return s })
	}, "Origin", "Kept", "Sealing")
}

// TestErrorsSurvive has errors of each kind cross, with their words, remedies and options.
func TestErrorsSurvive(t *testing.T) {
	for _, kind := range []error{store.ErrNotFound, store.ErrExists, store.ErrChanged, store.ErrRefused, store.ErrSignInExpired,
		store.ErrSuspended, store.ErrNoSpace, store.ErrNameRefused, store.ErrTooLarge, store.ErrSlowDown, store.ErrTryAgain,
		store.ErrOutcomeUnknown, store.ErrLocked, store.ErrReplaced, store.ErrUnsupported} {
		faulty := &failing{storetest.NewMemory(), store.Errorf(kind, "100%% of it is wrong; mend it")}
		_, err := at(t, 1, func(string) store.Store { return faulty }).Stat(t.Context(), store.At("x"))
		if store.KindOf(err) != kind || !strings.Contains(err.Error(), "100% of it is wrong; mend it") {
			t.Errorf("%v came as %v", faulty.err, err)
		}
	}
	faulty := &failing{storetest.NewMemory(), store.SlowDown(30e9, io.ErrClosedPipe)}
	_, err := at(t, 1, func(string) store.Store { return faulty }).Stat(t.Context(), store.At("x"))
	if store.Wait(err) != 30e9 || err.Error() != faulty.err.Error() {
		t.Errorf("a wait of 30 s came as %v with %v", err, store.Wait(err))
	}
	faulty.err = &store.OptionError{Option: "host", Reason: "nobody is there; name another"}
	_, err = at(t, 1, func(string) store.Store { return faulty }).Stat(t.Context(), store.At("x"))
	if options := store.OptionsOf(err); len(options) != 1 || options[0] != "host" || err.Error() != faulty.err.Error() {
		t.Errorf("an option came as %v in %v", options, err)
	}
}

type failing struct {
	*storetest.Memory
	err error
}

// Stat implements store.Store.
func (f *failing) Stat(context.Context, store.Ref) (store.Entry, error) { return store.Entry{}, f.err }

// TestNamesAreBytes has a name that is not UTF-8 cross in both directions.
func TestNamesAreBytes(t *testing.T) {
	memory := storetest.NewMemory()
	s := at(t, 1, func(string) store.Store { return memory })
	if _, err := s.MakeFolder(t.Context(), store.At("in")); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"\xff\xfe.txt", "", "a/b"} {
		_, err := s.Write(t.Context(), store.Writing{Place: store.At("in", name), Size: 1, Run: "r", Content: storetest.Text("x")})
		if err != nil {
			t.Fatalf("%q: %v", name, err)
		}
		if entry, err := s.Stat(t.Context(), store.At("in", name)); err != nil || entry.Name != name {
			t.Errorf("%q is %q there (%v)", name, entry.Name, err)
		}
	}
}

// TestAnswersThatAreLost has the answers of changes be lost: the outcome is unknown then,
// and one that only read may be tried again.
func TestAnswersThatAreLost(t *testing.T) {
	memory := storetest.NewMemory()
	s, through := atThrough(t, 1, func(string) store.Store { return memory })
	through.Lose.Store(true)
	_, err := s.Write(t.Context(), store.Writing{Place: store.At("x"), Size: 1, Run: "r", Content: storetest.Text("x")})
	if store.KindOf(err) != store.ErrOutcomeUnknown {
		t.Errorf("a write whose answer was lost gave %v", err)
	}
	if _, err := memory.Stat(t.Context(), store.At("x")); err != nil {
		t.Errorf("what was written is not there: %v", err)
	}
	if _, err = s.Stat(t.Context(), store.At("x")); store.KindOf(err) != store.ErrTryAgain {
		t.Errorf("a look whose answer was lost gave %v", err)
	}
	for _, err := range s.List(t.Context(), store.Folder{}) {
		if store.KindOf(err) != store.ErrTryAgain {
			t.Errorf("a listing whose answer was lost gave %v", err)
		}
	}
	nobody := &sitetest.Direct{}
	if _, err := site.Open(t.Context(), nobody, "memory", site.Opening{ID: "a"}); store.KindOf(err) != store.ErrTryAgain {
		t.Errorf("a site without workers gave %v, want a fault that may pass", err)
	}
}

// silent is a store that does not answer.
type silent struct {
	store.Store
	until context.Context // of the worker; the caller's if nil
}

// Stat implements store.Store.
func (s silent) Stat(ctx context.Context, _ store.Ref) (store.Entry, error) {
	if s.until != nil {
		ctx = s.until
	}
	<-ctx.Done()
	return store.Entry{}, ctx.Err()
}

// TestAnswersThatAreLate has a worker not answer in time, or end: either may pass.
func TestAnswersThatAreLate(t *testing.T) {
	soon, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	ended, end := context.WithCancel(t.Context())
	end()
	for name, c := range map[string]struct{ caller, worker context.Context }{
		"the caller's time is over": {soon, nil}, "the worker's time is over": {t.Context(), soon}, "the worker ends": {t.Context(), ended},
	} {
		s := at(t, 1, func(string) store.Store { return silent{storetest.NewMemory(), c.worker} })
		if _, err := s.Stat(c.caller, store.At("x")); store.KindOf(err) != store.ErrTryAgain {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestContentIsHeldBack reads a large file slowly, and gives it up: no more of it is read than
// what is on the way, and the reading ends.
func TestContentIsHeldBack(t *testing.T) {
	source := &endless{Memory: storetest.NewMemory(), closed: make(chan struct{})}
	s := at(t, 1, func(string) store.Store { return source })
	body, err := s.Open(t.Context(), store.Reading{Place: store.At("endless")})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(body, make([]byte, 1<<20)); err != nil {
		t.Fatal(err)
	}
	body.Close()
	<-source.closed
	if source.read > 4<<20 {
		t.Errorf("%d bytes were read of the source, of which 1 MiB was wanted", source.read)
	}
}

type endless struct {
	*storetest.Memory
	read   int64
	closed chan struct{}
}

// Open implements store.Store.
func (e *endless) Open(context.Context, store.Reading) (io.ReadCloser, error) { return e, nil }

// Read implements io.Reader.
func (e *endless) Read(p []byte) (int, error) {
	e.read += int64(len(p))
	return len(p), nil
}

// Close implements io.Closer.
func (e *endless) Close() error {
	close(e.closed)
	return nil
}

// TestUnusedAccounts closes an account after an hour without requests, and not while one is answered.
func TestUnusedAccounts(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		source := &endless{Memory: storetest.NewMemory(), closed: make(chan struct{})}
		s, through := atThrough(t, 1, func(string) store.Store { return source })
		host := through.Hosts["worker 0"]
		body, err := s.Open(t.Context(), store.Reading{Place: store.At("x")})
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(2 * time.Hour)
		host.CloseUnused()
		if open := host.OpenAccounts(); open != 1 {
			t.Errorf("%d accounts are open while a file is read", open)
		}
		_ = body.Close()
		synctest.Wait()
		time.Sleep(2 * time.Hour)
		host.CloseUnused()
		if open := host.OpenAccounts(); open != 0 {
			t.Errorf("%d accounts are open that nobody uses", open)
		}
		if _, err := s.Stat(t.Context(), store.At("x")); store.KindOf(err) == store.ErrTryAgain {
			t.Errorf("it is not opened again: %v", err)
		}
	})
}
