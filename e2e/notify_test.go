package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"deftheron/contract"
	"deftheron/service/notify"
)

// letters are those that a mail server took in.
type letters struct {
	mu  sync.Mutex
	all []*mail.Message
	to  []string
}

func (l *letters) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{letters: l}, nil }

type session struct {
	*letters
	rcpt []string
}

func (s *session) Mail(string, *smtp.MailOptions) error { return nil }
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.rcpt = append(s.rcpt, to)
	return nil
}
func (s *session) Reset()        { s.rcpt = nil }
func (s *session) Logout() error { return nil }
func (s *session) Data(r io.Reader) error {
	message, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	text, err := io.ReadAll(message.Body)
	if err != nil {
		return err
	}
	message.Body = strings.NewReader(string(text))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all, s.to = append(s.all, message), append(s.to, s.rcpt...)
	return nil
}

func (l *letters) subjects() (all []string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, message := range l.all {
		subject, _ := new(mime.WordDecoder).DecodeHeader(message.Header.Get("Subject"))
		all = append(all, subject)
	}
	return all
}

func startMail(t *testing.T) (*letters, string) {
	t.Helper()
	got := &letters{}
	server := smtp.NewServer(got)
	server.Domain = "mail.example.org"
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	served := make(chan struct{})
	go func() { defer close(served); _ = server.Serve(listener) }()
	t.Cleanup(func() { server.Close(); <-served })
	return got, listener.Addr().String()
}

// TestNotifications has a mirror whose source is emptied by its provider told by mail and by
// a webhook, which is tried again until it answers.
func TestNotifications(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	h.linkFolder("desk", from)
	h.linkFolder("disk", to)
	got, server := startMail(t)
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte("signed with this\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	events := make(chan contract.NotificationEvent, 10)
	var mu sync.Mutex
	refusals, calls := 0, 0
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		payload, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		if calls++; refusals > 0 {
			refusals--
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		// The receiver signs what it got in the same way, at the moment that is told.
		_, told, _ := strings.Cut(r.Header.Get("Signature-Input"), ";created=")
		var created int64
		fmt.Sscan(strings.SplitN(told, ";", 2)[0], &created)
		again := httptest.NewRequest(r.Method, "http://"+r.Host+r.URL.Path, nil)
		again.Header.Set("Content-Type", r.Header.Get("Content-Type"))
		notify.Sign(again, payload, []byte("signed with this"), time.Unix(created, 0))
		if again.Header.Get("Signature") != r.Header.Get("Signature") || time.Since(time.Unix(created, 0)) > time.Minute {
			t.Errorf("the signature is not right: %v", r.Header)
		}
		var event contract.NotificationEvent
		if err := json.Unmarshal(payload, &event); err != nil {
			t.Error(err)
		}
		events <- event
	}))
	t.Cleanup(hook.Close)

	h.says("", 2, "Notifications are off", "notify", "test")
	h.says("", 2, "not a HOST:PORT", "notify", "email", "--server", "mail.example.org", "--sender", "heron@example.org", "--recipient",
		"storage@example.org")
	h.says("", 2, "not a mail address", "notify", "email", "--server", server, "--sender", "nobody", "--recipient", "storage@example.org")
	h.says("", 2, "no secret", "notify", "webhook", hook.URL+"/told")
	h.says("", 2, "not a URL", "notify", "webhook", "file:///etc/passwd", "--secret-file", secret)
	h.must("notify", "email", "--server", server, "--tls", "none", "--sender", "heron@example.org", "--recipient", "storage@example.org")
	h.must("notify", "webhook", hook.URL+"/told", "--secret-file", secret)
	if out := h.must("notify", "show", "--json"); strings.Contains(out, "signed with") {
		t.Errorf("the secret is told: %s", out)
	}
	h.must("notify", "test")
	if event := <-events; event.Event != "test" {
		t.Errorf("tried: %+v", event)
	}

	for i := range 10 {
		writeFile(t, fmt.Sprint(i), from, "logs", fmt.Sprint(i))
	}
	h.must("job", "create", "logs", "--type", "mirror", "--from", "/desk/logs", "--to", "/disk/logs")
	h.job("logs", 0)
	os.RemoveAll(filepath.Join(from, "logs"))
	os.MkdirAll(filepath.Join(from, "logs"), 0o755)
	mu.Lock()
	refusals = 1
	mu.Unlock()
	run := h.job("logs", 3)
	select {
	case event := <-events:
		if event.Event != "held" || event.Run == nil || event.Run.ID != run.ID || !strings.Contains(event.Text, "heron run approve "+run.ID) {
			t.Errorf("the webhook was told %+v", event)
		}
	case <-time.After(30 * time.Second):
		t.Fatalf("the webhook was not told after it had refused:\n%s", h.must("notify", "log"))
	}
	subjects := got.subjects()
	if len(subjects) != 2 || !strings.Contains(subjects[1], "logs is held (run "+run.ID+")") {
		t.Errorf("the mail said %q", subjects)
	}
	if got.to[1] != "storage@example.org" {
		t.Errorf("it was sent to %v", got.to)
	}
	list := ""
	for deadline := time.Now().Add(longestWait); strings.Count(list, "sent") != 2 && time.Now().Before(deadline); {
		list = h.must("notify", "log") // the service notes it after the webhook has answered
	}
	if strings.Count(list, "sent") != 2 {
		t.Errorf("what was sent:\n%s", list)
	}
	bothHold(t, filepath.Join(to, "logs"), filepath.Join(to, "logs"), 10)

	// One of two sides in sync is rolled back by its provider, and then emptied: each time
	// nothing is touched, and people are told.
	old := time.Now().Add(-72 * time.Hour)
	for i := range 8 {
		writeFile(t, fmt.Sprint("version 1 of ", i), from, "shared", fmt.Sprint(i))
		os.Chtimes(filepath.Join(from, "shared", fmt.Sprint(i)), old, old)
	}
	h.must("job", "create", "shared", "--type", "two-way", "--from", "/desk/shared", "--to", "/disk/shared")
	h.job("shared", 0)
	for i := range 8 {
		writeFile(t, fmt.Sprint("version 2 of ", i), from, "shared", fmt.Sprint(i))
	}
	h.must("run", "approve", h.job("shared", 3).ID) // more is overwritten than the safety limits allows
	h.until(h.shownJob("shared").Last.ID, "done")
	for _, glitch := range []struct {
		cause string
		do    func(path string)
	}{
		{"source-rolled-back", func(path string) {
			writeFile(t, "version 1 of "+filepath.Base(path), path)
			os.Chtimes(path, old, old)
		}},
		{"source-emptied", func(path string) { os.Remove(path) }},
	} {
		for len(events) > 0 {
			<-events
		}
		before := digest(t, filepath.Join(to, "shared"))
		for i := range 8 {
			glitch.do(filepath.Join(from, "shared", fmt.Sprint(i)))
		}
		held := h.job("shared", 3)
		if held.Cause != glitch.cause {
			t.Errorf("the run is held by %s, want %s", held.Cause, glitch.cause)
		}
		select {
		case event := <-events:
			if event.Event != "held" || event.Run == nil || event.Run.ID != held.ID {
				t.Errorf("%s: the webhook was told %+v", glitch.cause, event)
			}
		case <-time.After(30 * time.Second):
			t.Fatalf("%s: the webhook was not told", glitch.cause)
		}
		for deadline := time.Now().Add(longestWait); !strings.Contains(strings.Join(got.subjects(), "\n"),
			held.ID); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatalf("%s: the mail said %q", glitch.cause, got.subjects())
			}
		}
		same(t, glitch.cause, digest(t, filepath.Join(to, "shared")), before)
		h.must("run", "cancel", held.ID, "--yes")
		h.until(held.ID, "cancelled")
		for i := range 8 { // put back from the other side, as the remedy says
			writeFile(t, fmt.Sprint("version 2 of ", i), from, "shared", fmt.Sprint(i))
		}
		h.must("job", "edit", "shared", "--safety-overwrites", "none")
		h.job("shared", 0)
		h.must("job", "edit", "shared", "--safety-overwrites", "25%")
	}

	// In quiet hours nothing is sent.
	h.says("", 2, "whole week", "notify", "quiet", "--quiet", "mon-sun")
	day := func(days int) string { return strings.ToLower(time.Now().AddDate(0, 0, days).Format("Mon")) }
	h.must("notify", "quiet", "--quiet", day(-1)+"-"+day(1))
	h.must("run", "cancel", run.ID, "--yes")
	h.until(run.ID, "cancelled")
	h.job("logs", 3)
	if list := h.must("notify", "log"); strings.Count(list, "waiting") != 2 {
		t.Errorf("in quiet hours:\n%s", list)
	}

	// Each channel is turned off by the name that the help gives it.
	h.must("notify", "off", "email")
	h.must("notify", "off", hook.URL+"/told")
	if shown := h.must("notify", "show"); !strings.Contains(shown, "Notifications are off") {
		t.Errorf("turned off: %s", shown)
	}
	h.says("", 2, "no notifications to email", "notify", "off", "email")
}
