package declared_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/declared"
	"deftheron/standin"
)

// keptUploads keeps open uploads as the service does.
type keptUploads struct {
	mu      sync.Mutex
	next    int64
	open    map[int64][]byte
	process int
	by      map[int64]int // which process keeps it
}

// restart is the next process.
func (k *keptUploads) restart() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.process++
}

func (k *keptUploads) kept() int {
	k.mu.Lock()
	defer k.mu.Unlock()
	return len(k.open)
}

func (k *keptUploads) Keep(_ context.Context, upload []byte) (int64, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.next++
	k.open[k.next], k.by[k.next] = upload, k.process
	return k.next, nil
}

func (k *keptUploads) Drop(_ context.Context, id int64) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.open, id)
	return nil
}

func (k *keptUploads) Abandoned(context.Context) (map[int64][]byte, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	abandoned := map[int64][]byte{}
	for id, upload := range k.open {
		if k.by[id] != k.process {
			abandoned[id] = upload
		}
	}
	return abandoned, nil
}

// TestAbandonedUploads breaks an upload off as a kill does, without the request that
// gives it up, at a service that cannot list open ones: the next to open the account
// gives it up.
func TestAbandonedUploads(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("definitions/alder.yaml")
	if err != nil {
		t.Fatal(err)
	}
	before, rest, _ := strings.Cut(string(text), "\nleftovers:")
	_, after, _ := strings.Cut(rest, "\nmake-folder:")
	definition, err := declared.Load("alder.yaml", []byte(before+"\nmake-folder:"+after))
	if err != nil {
		t.Fatal(err)
	}
	alder, err := standin.OpenAlder(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	var killed atomic.Bool
	var givenUp atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodDelete {
			alder.ServeHTTP(w, r)
			return
		}
		if killed.Load() {
			http.Error(w, "", http.StatusTeapot)
			return
		}
		recorder := httptest.NewRecorder()
		alder.ServeHTTP(recorder, r)
		if recorder.Code < 300 {
			givenUp.Add(1)
		}
		w.WriteHeader(recorder.Code)
	}))
	t.Cleanup(server.Close)
	kept := &keptUploads{open: map[int64][]byte{}, by: map[int64]int{}}
	secrets := granted(t, "code", alder.Consents, standin.AlderClient, "alder-app", "office@tolland.example", "folders:view", "folders:edit")
	o := opening(t, server.URL, secrets, nil)
	o.Uploads = kept
	open := func() store.Store {
		t.Helper()
		s, err := declared.New(definition).Open(t.Context(), o)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := open()
	write := func(name string, content store.Content) error {
		_, err := s.Write(t.Context(), store.Writing{Place: store.At(name), Size: 3 << 20, Run: "1", Content: content})
		return err
	}
	if err := write("whole.bin", storetest.Text(strings.Repeat("x", 3<<20))); err != nil || kept.kept() != 0 {
		t.Errorf("after a whole upload %d are kept; %v", kept.kept(), err)
	}
	if err := write("broken.bin", broken{}); err == nil || kept.kept() != 0 || givenUp.Load() != 1 {
		t.Errorf("after one that failed %d are kept, and %d were given up; %v", kept.kept(), givenUp.Load(), err)
	}
	killed.Store(true)
	if err := write("killed.bin", broken{}); err == nil || kept.kept() != 1 {
		t.Fatalf("after a kill %d are kept; %v", kept.kept(), err)
	}
	killed.Store(false)
	kept.restart()
	open()
	for deadline := time.Now().Add(10 * time.Second); kept.kept() > 0 && time.Now().Before(deadline); {
		time.Sleep(10 * time.Millisecond)
	}
	if kept.kept() != 0 || givenUp.Load() != 2 {
		t.Errorf("the next one gave up %d, and left %d", givenUp.Load()-1, kept.kept())
	}
}

// broken is content that breaks off.
type broken struct{}

func (broken) Open(context.Context) (*store.Stream, error) {
	return store.NewStream(io.NopCloser(io.MultiReader(strings.NewReader("the first"), failing{})), store.SHA256, nil), nil
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errors.New("the source went away") }
