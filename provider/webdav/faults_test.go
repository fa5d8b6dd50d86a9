package webdav_test

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/servertest"
	"deftheron/standin"
)

// faults stand in front of a server, and answer in its place when asked to.
type faults struct {
	mu      sync.Mutex
	behind  http.Handler
	instead func(w http.ResponseWriter, r *http.Request) bool
}

func (f *faults) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	instead := f.instead
	f.mu.Unlock()
	if instead == nil || !instead(w, r) {
		f.behind.ServeHTTP(w, r)
	}
}

func (f *faults) set(instead func(w http.ResponseWriter, r *http.Request) bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.instead = instead
}

// bothServers runs a test behind faults on Apache and on x/net's server.
func bothServers(t *testing.T, run func(*testing.T, store.Store, *faults)) {
	t.Run("Apache", func(t *testing.T) {
		apache := servertest.StartApache(t, servertest.ApacheOptions{})
		place, _ := apache.Folder(t)
		target, _ := url.Parse(place)
		f := &faults{behind: servertest.Forward(t, place)}
		front := httptest.NewServer(f)
		t.Cleanup(front.Close)
		run(t, open(t, map[string]string{"url": front.URL + target.Path, "user": apache.User}, apache.Password), f)
	})
	t.Run("x-net", func(t *testing.T) {
		f := &faults{behind: standin.WebDAV(t.TempDir(), "", "")}
		front := httptest.NewServer(f)
		t.Cleanup(front.Close)
		run(t, open(t, map[string]string{"url": front.URL}, ""), f)
	})
}

func answer(method string, status int) func(http.ResponseWriter, *http.Request) bool {
	return func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method != method {
			return false
		}
		w.WriteHeader(status)
		return true
	}
}

// lost carries a request out, and loses its answer.
func lost(f *faults, method string) func(http.ResponseWriter, *http.Request) bool {
	return func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method != method {
			return false
		}
		f.behind.ServeHTTP(httptest.NewRecorder(), r)
		panic(http.ErrAbortHandler)
	}
}

// TestFaultsHaveTheirKind wants of each fault the error by which the engine
// decides, nothing at the target but what was there, and nothing of ours left.
func TestFaultsHaveTheirKind(t *testing.T) {
	bothServers(t, func(t *testing.T, s store.Store, f *faults) {
		for _, size := range []int{10, 300_000} {
			place := store.At(fmt.Sprint("x", size))
			old := mustWrite(t, s, place, "old", store.Absent)
			content := strings.Repeat("n", size)
			for _, c := range []struct {
				name    string
				instead func(http.ResponseWriter, *http.Request) bool
				want    error
			}{
				{"too many requests", answer(http.MethodPut, 429), store.ErrSlowDown},
				{"unavailable", answer(http.MethodPut, 503), store.ErrSlowDown},
				{"an error of the server", answer(http.MethodPut, 500), store.ErrTryAgain},
				{"a bad gateway", answer(http.MethodPut, 502), store.ErrTryAgain},
				{"no permission", answer(http.MethodPut, 403), store.ErrRefused},
				{"the sign-in expired", answer(http.MethodPut, 401), store.ErrSignInExpired},
				{"the quota is full", answer(http.MethodPut, 507), store.ErrNoSpace},
				{"too large", answer(http.MethodPut, 413), store.ErrTooLarge},
				{"a name too long", answer(http.MethodPut, 414), store.ErrNameRefused},
				{"locked", answer(http.MethodPut, 423), store.ErrLocked},
				{"a connection that breaks", func(w http.ResponseWriter, r *http.Request) bool {
					if r.Method == http.MethodPut {
						panic(http.ErrAbortHandler)
					}
					return false
				}, store.ErrOutcomeUnknown},
			} {
				f.set(c.instead)
				_, err := s.Write(t.Context(), store.Writing{Place: place, Size: int64(size), If: store.AtRevision(old.Revision), Run: "faults",
					Content: storetest.Text(content)})
				f.set(nil)
				if store.KindOf(err) != c.want {
					t.Errorf("%s, %d bytes: %v, want it to be %q", c.name, size, err, c.want)
				}
			}
			if data := contentOf(t, s, place); data != "old" {
				t.Errorf("%d bytes: after faults it holds %d bytes", size, len(data))
			}
			// The answer is lost: it may be there or not, but it is whole.
			f.set(lost(f, http.MethodPut))
			_, err := s.Write(t.Context(), store.Writing{Place: place, Size: int64(size), If: store.AtRevision(old.Revision), Run: "faults",
				Content: storetest.Text(content)})
			f.set(nil)
			if store.KindOf(err) != store.ErrOutcomeUnknown {
				t.Errorf("a lost answer: %v", err)
			}
			if data := contentOf(t, s, place); data != "old" && data != content {
				t.Errorf("a lost answer: it holds %d bytes", len(data))
			}
		}
		if found, err := names(t, s); err != nil || fmt.Sprint(found) != "[x10 x300000]" {
			t.Errorf("there are %q, %v", found, err)
		}
	})
}

// TestReplacementThatFailsHalfway loses neither content: the second of the two
// moves is refused, and the old content is put back.
func TestReplacementThatFailsHalfway(t *testing.T) {
	bothServers(t, func(t *testing.T, s store.Store, f *faults) {
		place := store.At("report.txt")
		old := mustWrite(t, s, place, "old", store.Absent)
		moves := 0
		f.set(func(w http.ResponseWriter, r *http.Request) bool {
			if r.Method != "MOVE" {
				return false
			}
			if moves++; moves == 2 {
				w.WriteHeader(http.StatusForbidden)
				return true
			}
			return false
		})
		_, err := s.Write(t.Context(), store.Writing{Place: place, Size: 300_000, If: store.AtRevision(old.Revision), Run: "faults",
			Content: storetest.Text(strings.Repeat("n", 300_000))})
		f.set(nil)
		if !errors.Is(err, store.ErrRefused) || moves != 3 {
			t.Errorf("%v after %d moves; want it refused, and put back by the third", err, moves)
		}
		if data := contentOf(t, s, place); data != "old" {
			t.Errorf("it holds %d bytes", len(data))
		}
		if found, err := names(t, s); err != nil || fmt.Sprint(found) != "[report.txt]" {
			t.Errorf("there are %q, %v", found, err)
		}
	})
}

// TestReplacementWhoseAnswersAreLost leaves the old content or the new one, and
// nothing of ours, whichever answer is lost.
func TestReplacementWhoseAnswersAreLost(t *testing.T) {
	bothServers(t, func(t *testing.T, s store.Store, f *faults) {
		for at := 1; at <= 2; at++ {
			place := store.At(fmt.Sprint("report ", at))
			old := mustWrite(t, s, place, "old", store.Absent)
			content := strings.Repeat("n", 300_000)
			moves := 0
			f.set(func(w http.ResponseWriter, r *http.Request) bool {
				if r.Method == "MOVE" {
					if moves++; moves == at {
						return lost(f, "MOVE")(w, r)
					}
				}
				return false
			})
			_, err := s.Write(t.Context(), store.Writing{Place: place, Size: 300_000, If: store.AtRevision(old.Revision), Run: "faults",
				Content: storetest.Text(content)})
			f.set(nil)
			if store.KindOf(err) != store.ErrOutcomeUnknown {
				t.Errorf("move %d: %v", at, err)
			}
			if data, want := contentOf(t, s, place), []string{"", "old", content}[at]; data != want {
				t.Errorf("move %d: it holds %d bytes, want %d", at, len(data), len(want))
			}
		}
		if found, err := names(t, s); err != nil || fmt.Sprint(found) != "[report 1 report 2]" {
			t.Errorf("there are %q, %v", found, err)
		}
	})
}

// TestReadingFaults wants of a body that breaks off, or is held back, an error.
func TestReadingFaults(t *testing.T) {
	bothServers(t, func(t *testing.T, s store.Store, f *faults) {
		entry := mustWrite(t, s, store.At("a.txt"), strings.Repeat("0123456789", 20_000), store.Absent)
		f.set(func(w http.ResponseWriter, r *http.Request) bool {
			if r.Method != http.MethodGet {
				return false
			}
			recorder := httptest.NewRecorder()
			f.behind.ServeHTTP(recorder, r)
			for name, values := range recorder.Header() {
				w.Header()[name] = values
			}
			w.WriteHeader(recorder.Code)
			w.Write(recorder.Body.Bytes()[:100_000])
			panic(http.ErrAbortHandler)
		})
		if _, n, err := store.ReadBack(t.Context(), s, store.At("a.txt"), entry.Revision, store.MD5); !errors.Is(err, store.ErrTryAgain) {
			t.Errorf("a body that breaks off: %d bytes, %v", n, err)
		}
		f.set(answer(http.MethodGet, http.StatusNotFound))
		if _, err := s.Open(t.Context(), store.Reading{Place: store.At("a.txt"), Revision: entry.Revision}); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("a file that is gone: %v", err)
		}
	})
}

func mustWrite(t *testing.T, s store.Store, place store.Ref, content string, condition store.Condition) store.Written {
	t.Helper()
	written, err := s.Write(t.Context(), store.Writing{Place: place, Size: int64(len(content)), If: condition, Run: "faults",
		Content: storetest.Text(content)})
	if err != nil {
		t.Fatal(err)
	}
	return written
}

func contentOf(t *testing.T, s store.Store, place store.Ref) string {
	t.Helper()
	body, err := s.Open(t.Context(), store.Reading{Place: place})
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	data, err := io.ReadAll(body)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}
