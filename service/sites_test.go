package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/folder"
	"deftheron/service/accounts"
	"deftheron/service/workers"
	"deftheron/worker"
)

// memories are stores in memory, by their names, which workers reach.
type memories struct {
	mu      sync.Mutex
	all     map[string]*storetest.Memory
	secrets map[string]string // that were saved last, by account
}

func (m *memories) get(name string) *storetest.Memory {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.all == nil {
		m.all = map[string]*storetest.Memory{}
	}
	if m.all[name] == nil {
		m.all[name] = storetest.NewMemory()
		m.all[name].PartsAbove, m.all[name].PartSize = 1<<20, 256<<10
	}
	return m.all[name]
}

// Name implements store.Provider.
func (m *memories) Name() string { return "memory" }

// Title implements store.Provider.
func (m *memories) Title() string { return "Memory" }

// Options implements store.Provider.
func (m *memories) Options() []store.Option {
	return []store.Option{{Name: "name", Title: "Name", Required: true}, {Name: "secret", Title: "Secret", Secret: true}}
}

// Open implements store.Provider. The secret is wanted, and replaced.
func (m *memories) Open(ctx context.Context, opening store.Opening) (store.Store, error) {
	if opening.Secrets == nil {
		return nil, store.Errorf(store.ErrSignInExpired, "there is no secret")
	}
	secret, err := opening.Secrets.Load(ctx)
	if err != nil {
		return nil, err
	}
	if !strings.HasPrefix(string(secret), "password") {
		return nil, store.Errorf(store.ErrSignInExpired, "%q is not the secret", secret)
	}
	secret = append(secret, '!')
	if err := opening.Secrets.Save(ctx, secret[:len(secret)-1], secret); err != nil {
		return nil, err
	}
	m.mu.Lock()
	if m.secrets == nil {
		m.secrets = map[string]string{}
	}
	m.secrets[opening.Options["name"]] = string(secret)
	m.mu.Unlock()
	return m.get(opening.Options["name"]), nil
}

// site is a service with workers, all of this process.
type siteTest struct {
	*Service
	t       *testing.T
	memory  *memories
	folders string
}

func newSite(t *testing.T) *siteTest {
	t.Helper()
	memory := &memories{}
	s, err := Start(t.Context(), Options{Data: filepath.Join(t.TempDir(), "data"), Listen: "127.0.0.1:0",
		Providers: []store.Provider{memory, folder.Provider{}}, Version: "1"})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	served := make(chan error, 1)
	go func() { served <- s.Serve(ctx) }()
	t.Cleanup(func() {
		stop()
		if err := <-served; err != nil {
			t.Error(err)
		}
	})
	return &siteTest{Service: s, t: t, memory: memory, folders: t.TempDir()}
}

// join creates a worker and has it join; it returns what it runs with.
func (s *siteTest) join(name, at string) worker.Options {
	s.t.Helper()
	_, code, err := s.workers.Create(s.t.Context(), name, at)
	if err != nil {
		s.t.Fatal(err)
	}
	options := worker.Options{Data: filepath.Join(s.t.TempDir(), name), Folders: []string{s.folders},
		Providers: []store.Provider{s.memory, folder.Provider{}}, Version: "1", Log: slog.New(slog.DiscardHandler)}
	if _, _, err := worker.Join(s.t.Context(), options, worker.Joining{URL: s.URL, Code: code}); err != nil {
		s.t.Fatal(err)
	}
	return options
}

// run runs a worker until stop is called, or the test ends.
func (s *siteTest) run(options worker.Options) (stop func() error) {
	s.t.Helper()
	ctx, cancel := context.WithCancel(context.WithoutCancel(s.t.Context()))
	ended := make(chan error, 1)
	go func() { ended <- worker.Run(ctx, options) }()
	stop = sync.OnceValue(func() error {
		cancel()
		return <-ended
	})
	s.t.Cleanup(func() { _ = stop() })
	return stop
}

// waits until a worker has a state.
func (s *siteTest) waits(name, state string) {
	s.t.Helper()
	for until := time.Now().Add(30 * time.Second); ; <-time.After(5 * time.Millisecond) {
		all, err := s.workers.List(s.t.Context())
		if err != nil {
			s.t.Fatal(err)
		}
		for _, one := range all {
			if one.Name == name && one.State == state {
				return
			}
		}
		if time.Now().After(until) {
			s.t.Fatalf("the worker %s is not %s: %+v", name, state, all)
		}
	}
}

func (s *siteTest) link(link accounts.Link) error {
	_, _, err := s.linked.Add(s.t.Context(), link)
	return err
}

// open links a memory at the site, and returns the account's store as runs have it.
func (s *siteTest) open(name string) store.Store {
	s.t.Helper()
	err := s.link(accounts.Link{Provider: "memory", Name: name, Options: map[string]string{"name": name}, Secret: "password", At: "premises"})
	if err != nil {
		s.t.Fatal(err)
	}
	opened, err := s.linked.Open(s.t.Context(), name)
	if err != nil {
		s.t.Fatal(err)
	}
	return opened.Store
}

// TestSiteConforms has the conformance suite pass through the service, its messages and streams, and
// two workers that share a site; and through a folder of the machine of one.
func TestSiteConforms(t *testing.T) {
	s := newSite(t)
	for _, name := range []string{"one", "two"} {
		s.run(s.join(name, "premises"))
		s.waits(name, workers.Connected)
	}
	count := 0
	t.Run("memory", func(t *testing.T) {
		storetest.Run(t, func(t *testing.T) store.Store {
			count++
			return s.open(fmt.Sprint("account-", count))
		})
	})
	t.Run("folder", func(t *testing.T) {
		storetest.Run(t, func(t *testing.T) store.Store {
			dir, err := os.MkdirTemp(s.folders, "")
			if err != nil {
				t.Fatal(err)
			}
			name := "f" + filepath.Base(dir)
			if err := s.link(accounts.Link{Provider: "folder", Name: name, Options: map[string]string{"path": dir}, At: "one"}); err != nil {
				t.Fatal(err)
			}
			opened, err := s.linked.Open(t.Context(), name)
			if err != nil {
				t.Fatal(err)
			}
			return opened.Store
		})
	})
}

// TestWorkersTakeOver has a worker end while it is asked: the account answers through the other one.
// With neither, it says so, and answers again when one is back.
func TestWorkersTakeOver(t *testing.T) {
	s := newSite(t)
	first, second := s.join("one", "premises"), s.join("two", "premises")
	stopFirst, stopSecond := s.run(first), s.run(second)
	s.waits("one", workers.Connected)
	s.waits("two", workers.Connected)
	account := s.open("shared")
	s.memory.get("shared").Put("content", "a")
	look := func(ctx context.Context) error {
		_, err := account.Stat(ctx, store.At("a"))
		return err
	}
	for range 10 { // both have it open
		if err := look(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if err := stopFirst(); err != nil {
		t.Error(err)
	}
	s.waits("one", workers.Offline)
	if err := look(t.Context()); err != nil {
		t.Errorf("with one worker left: %v", err)
	}
	if err := stopSecond(); err != nil {
		t.Error(err)
	}
	s.waits("two", workers.Offline)
	if err := look(t.Context()); store.KindOf(err) != store.ErrTryAgain || !strings.Contains(err.Error(), "premises") {
		t.Errorf("without a worker: %v", err)
	}
	s.run(first)
	s.waits("one", workers.Connected)
	if err := look(t.Context()); err != nil {
		t.Errorf("with a worker again: %v", err)
	}
}

// TestSecretsOfSites has a provider replace its secret at a worker: the service keeps the new one, and
// the worker's disk holds none.
func TestSecretsOfSites(t *testing.T) {
	s := newSite(t)
	options := s.join("one", "premises")
	s.run(options)
	s.waits("one", workers.Connected)
	s.open("vault")
	if err := errors.Join(s.linked.Suspend(t.Context(), "vault"), s.linked.Resume(t.Context(), "vault")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.linked.Open(t.Context(), "vault"); err != nil {
		t.Errorf("with the secret that the provider saved: %v", err)
	}
	if last := s.memory.secrets["vault"]; last != "password!!" { // saved as it was linked, and now
		t.Errorf("the last secret that was saved is %q", last)
	}
	err := filepath.WalkDir(options.Data, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		if strings.Contains(string(text), "password") {
			t.Errorf("%s holds the secret", path)
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
	err = s.link(accounts.Link{Provider: "memory", Name: "wrong", Options: map[string]string{"name": "x"}, Secret: "no", At: "one"})
	if store.KindOf(err) != store.ErrSignInExpired {
		t.Errorf("a wrong secret: %v", err)
	}
}

// TestFoldersOfWorkers asks for folders that a worker does not show.
func TestFoldersOfWorkers(t *testing.T) {
	s := newSite(t)
	shown := s.join("shown", "premises")
	hidden := s.join("hidden", "elsewhere")
	hidden.Folders = nil
	s.run(shown)
	s.run(hidden)
	s.waits("shown", workers.Connected)
	s.waits("hidden", workers.Connected)
	for _, c := range []struct{ at, path, words string }{
		{"premises", t.TempDir(), "folder"}, {"premises", "/etc", "folder"}, {"premises", shown.Data, "folder"},
		{"elsewhere", s.folders, "--folders"}, {"nowhere", s.folders, "elsewhere, premises"},
	} {
		err := s.link(accounts.Link{Provider: "folder", Name: "desk", Options: map[string]string{"path": c.path}, At: c.at})
		if err == nil || !strings.Contains(err.Error(), c.words) {
			t.Errorf("%s at %s: %v, want words with %q", c.path, c.at, err, c.words)
		}
	}
	err := s.link(accounts.Link{Provider: "folder", Name: "desk", Options: map[string]string{"path": s.folders}, At: "premises"})
	if err != nil {
		t.Error(err)
	}
	s.join("third", "premises")
	err = s.link(accounts.Link{Provider: "folder", Name: "other", Options: map[string]string{"path": s.folders}, At: "premises"})
	if err == nil || !strings.Contains(err.Error(), "shown or third") {
		t.Errorf("a folder at a site of two machines: %v", err)
	}
}

// TestRemovedWorkersAreCutOff removes a worker that works: it is cut off at once and does not come
// back, and its code and its keys are good for nothing.
func TestRemovedWorkersAreCutOff(t *testing.T) {
	s := newSite(t)
	options := s.join("one", "premises")
	s.run(s.join("two", "premises"))
	stop := s.run(options)
	s.waits("one", workers.Connected)
	s.waits("two", workers.Connected)
	s.open("account")
	had, err := s.workers.Remove(t.Context(), "one")
	if err != nil || len(had) != 1 || had[0] != "account" {
		t.Errorf("removed with %v (%v), want the account whose secret it had", had, err)
	}
	if err := stop(); err != nil {
		t.Log(err)
	}
	err = worker.Run(t.Context(), options)
	if err == nil || !strings.Contains(err.Error(), "does not know the worker") {
		t.Errorf("a removed worker runs: %v", err)
	}
	s.breakFirst(options)
	err = worker.Run(t.Context(), options)
	if err == nil || !strings.Contains(err.Error(), "does not know the worker") {
		t.Errorf("a removed worker whose first connection broke runs: %v", err)
	}
	if _, err := s.workers.Remove(t.Context(), "two"); store.KindOf(err) != store.ErrRefused {
		t.Errorf("the last worker of a site that an account needs was removed: %v", err)
	}
}

// breakFirst has a worker reach the service over a way that breaks its first connection.
func (s *siteTest) breakFirst(options worker.Options) {
	s.t.Helper()
	target, err := url.Parse(s.URL)
	if err != nil {
		s.t.Fatal(err)
	}
	var broken atomic.Bool
	forward := httputil.NewSingleHostReverseProxy(target)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if broken.CompareAndSwap(false, true) {
			panic(http.ErrAbortHandler)
		}
		r.Host = target.Host
		forward.ServeHTTP(w, r)
	}))
	s.t.Cleanup(front.Close)
	file := filepath.Join(options.Data, "worker.json")
	kept, err := os.ReadFile(file)
	if err == nil {
		err = os.WriteFile(file, bytes.Replace(kept, []byte(s.URL), []byte(front.URL), 1), 0o600)
	}
	if err != nil {
		s.t.Fatal(err)
	}
}

// TestCodes uses codes twice, late, of another, and mistyped.
func TestCodes(t *testing.T) {
	s := newSite(t)
	_, code, err := s.workers.Create(t.Context(), "one", "")
	if err != nil {
		t.Fatal(err)
	}
	join := func(code string) error {
		options := worker.Options{Data: filepath.Join(t.TempDir(), "w"), Version: "1", Log: slog.New(slog.DiscardHandler)}
		_, _, err := worker.Join(t.Context(), options, worker.Joining{URL: s.URL, Code: code})
		if err != nil {
			if _, missing := os.Stat(filepath.Join(options.Data, "worker.json")); !errors.Is(missing, os.ErrNotExist) {
				t.Errorf("a worker that did not join has keys")
			}
		}
		return err
	}
	if err := join("AAAAA-AAAAA-AAAAA-AAAAA"); err == nil || !strings.Contains(err.Error(), "mistyped") {
		t.Errorf("a wrong code: %v", err)
	}
	if err := join(strings.ToLower(strings.ReplaceAll(code, "-", " "))); err != nil {
		t.Errorf("a code in small letters: %v", err)
	}
	if err := join(code); err == nil {
		t.Error("a code was good twice")
	}
	if _, code, err = s.workers.Recode(t.Context(), "one"); err != nil {
		t.Fatal(err)
	}
	if err := join(code); err != nil {
		t.Errorf("a new code: %v", err)
	}
	if _, _, err := s.workers.Create(t.Context(), "one", ""); err == nil {
		t.Error("two workers have one name")
	}
	for _, wrong := range []string{"", "One", "a/b", "ü", strings.Repeat("a", 64)} {
		if _, _, err := s.workers.Create(t.Context(), wrong, ""); err == nil {
			t.Errorf("a worker is called %q", wrong)
		}
	}
}

// TestKeysOfWorkers has keys that others can read, and a service that is spoken to in the clear.
func TestKeysOfWorkers(t *testing.T) {
	s := newSite(t)
	options := s.join("one", "premises")
	path := filepath.Join(options.Data, "worker.json")
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the keys have mode %v (%v)", info.Mode(), err)
	}
	if err := os.Chmod(path, 0o640); err != nil {
		t.Fatal(err)
	}
	if err := worker.Run(t.Context(), options); err == nil || !strings.Contains(err.Error(), "others can read") {
		t.Errorf("keys that others can read: %v", err)
	}
	for _, wrong := range []string{"http://192.0.2.7:8420", "heron.example.org", "ftp://127.0.0.1"} {
		if _, _, err := worker.Join(t.Context(), options, worker.Joining{URL: wrong, Again: true}); err == nil {
			t.Errorf("a worker joins %s", wrong)
		}
	}
	_, _, err := worker.Join(t.Context(), options, worker.Joining{URL: s.URL, Code: "x"})
	if err == nil || !strings.Contains(err.Error(), "--again") {
		t.Errorf("a machine that is a worker joins: %v", err)
	}
}

// TestStrangersAtWorkerPaths connects without keys, and asks for streams of requests that nobody made.
func TestStrangersAtWorkerPaths(t *testing.T) {
	s := newSite(t)
	s.run(s.join("one", "premises"))
	s.waits("one", workers.Connected)
	address := strings.TrimPrefix(s.URL, "http://")
	for _, request := range []string{
		"POST /api/v1/worker/answer HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer nothing\r\nContent-Length: 4\r\nConnection: close\r\n\r\nabcd",
		"GET /api/v1/worker/content HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n",
		"GET /api/v1/worker/connection HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n",
	} {
		connection, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(connection, request, address)
		answer, _ := io.ReadAll(io.LimitReader(connection, 4096))
		connection.Close()
		if !strings.HasPrefix(string(answer), "HTTP/1.1 4") {
			t.Errorf("%.50q was answered with %.80q", request, answer)
		}
	}
}
