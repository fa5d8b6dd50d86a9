package standin

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"time"
)

// Faults are what a stand-in does wrong, for tests.
type Faults struct {
	// Delay before every answer, in milliseconds.
	Delay int `json:"delay_ms"`
	// Bandwidth of every body sent, in bytes a second; 0 is unlimited.
	Bandwidth int64 `json:"bandwidth"`
	// Rates of faults by kind, from 0 to 1: "500", "503", "429" (with
	// Retry-After), "429-bare", "reset", "lost" (carried out, and no answer),
	// "truncated", "stalled", "flipped" (one bit), "html".
	Rates map[string]float64 `json:"rates"`
	// Match names the routes that faults strike, by a part of "METHOD /path";
	// all where it is empty.
	Match string `json:"match"`
	// Times is how many faults there are at most; 0 is without an end.
	Times int `json:"times"`
}

// Control is the control address of a stand-in: what tests set and ask, apart
// from the service itself. It answers
//
//	GET /requests         how often each route was asked, by "METHOD /route"
//	DELETE /requests      forgets that
//	PUT /faults           sets Faults
//	POST /expire          ends all access tokens
//	POST /withdraw        withdraws every consent
//	PUT /quota            {"bytes": N}
//	PUT /clients          an app registration: Client
//	POST /glitch          {"below": "/Reports"}: see Glitch
type Control struct {
	mu       sync.Mutex
	faults   Faults
	struck   int
	requests map[string]int
	random   *rand.Rand
	consents *Consents
	drive    *drive
}

func newControl(consents *Consents, drive *drive) *Control {
	return &Control{requests: map[string]int{}, random: rand.New(rand.NewPCG(1, 2)), consents: consents, drive: drive}
}

// Glitch has the drive lose, without a word, what is below a path in every area: a file that
// was changed goes back to what it was at first, and any other is gone for good. It returns how
// many were lost and how many went back.
func (c *Control) Glitch(below string) (lost, back int, err error) { return c.drive.glitch(below) }

// Requests returns how often each route was asked.
func (c *Control) Requests() map[string]int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return maps.Clone(c.requests)
}

// Forget forgets the requests so far.
func (c *Control) Forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.requests)
}

// SetFaults sets what goes wrong from now on.
func (c *Control) SetFaults(faults Faults) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.faults, c.struck = faults, 0
}

// Struck is how many faults there were since they were set.
func (c *Control) Struck() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.struck
}

// ServeHTTP implements http.Handler.
func (c *Control) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch route := r.Method + " " + r.URL.Path; route {
	case "GET /requests":
		answer(w, http.StatusOK, c.Requests())
		return
	case "DELETE /requests":
		c.Forget()
	case "PUT /faults":
		var faults Faults
		if !given(w, r, &faults) {
			return
		}
		c.SetFaults(faults)
	case "POST /expire":
		c.consents.Expire()
	case "POST /withdraw":
		c.consents.Withdraw()
	case "PUT /quota":
		var quota struct {
			Bytes int64 `json:"bytes"`
		}
		if !given(w, r, &quota) {
			return
		}
		c.drive.setQuota(quota.Bytes)
	case "POST /glitch":
		var glitch struct {
			Below string `json:"below"`
		}
		if !given(w, r, &glitch) {
			return
		}
		if _, _, err := c.Glitch(glitch.Below); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
	case "PUT /clients":
		var client Client
		if !given(w, r, &client) {
			return
		}
		c.consents.Register(client)
	default:
		http.Error(w, "there is nothing at "+route, http.StatusNotFound)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func given(w http.ResponseWriter, r *http.Request, to any) bool {
	decoder := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(to); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return false
	}
	return true
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

// strike chooses a fault for a request, empty for none.
func (c *Control) strike(r *http.Request, route string) (kind string, faults Faults) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.requests[route]++
	faults = c.faults
	if faults.Match != "" && !strings.Contains(route, faults.Match) || faults.Times > 0 && c.struck >= faults.Times {
		return "", faults
	}
	at := c.random.Float64()
	for _, kind := range []string{"500", "503", "429", "429-bare", "reset", "lost", "truncated", "stalled", "flipped", "html"} {
		if at -= faults.Rates[kind]; at < 0 && faults.Rates[kind] > 0 {
			c.struck++
			return kind, faults
		}
	}
	return "", faults
}

// serve answers a request through the faults.
func (c *Control) serve(w http.ResponseWriter, r *http.Request, route string, next http.HandlerFunc) {
	kind, faults := c.strike(r, route)
	if faults.Delay > 0 {
		select {
		case <-time.After(time.Duration(faults.Delay) * time.Millisecond):
		case <-r.Context().Done():
			return
		}
	}
	if faults.Bandwidth > 0 {
		w = &slowWriter{ResponseWriter: w, rate: faults.Bandwidth}
	}
	switch kind {
	case "500", "503":
		_, _ = io.Copy(io.Discard, r.Body)
		http.Error(w, "a fault was asked for", map[string]int{"500": 500, "503": 503}[kind])
	case "429", "429-bare":
		_, _ = io.Copy(io.Discard, r.Body)
		if kind == "429" {
			w.Header().Set("Retry-After", "1")
		}
		http.Error(w, "a fault was asked for", http.StatusTooManyRequests)
	case "html":
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, "<html><head><title>Welcome to the guest network</title></head></html>")
	case "reset":
		panic(http.ErrAbortHandler)
	case "lost":
		next(&lostWriter{header: http.Header{}}, r)
		panic(http.ErrAbortHandler)
	case "truncated", "stalled", "flipped":
		next(&brokenWriter{ResponseWriter: w, kind: kind, request: r}, r)
	default:
		next(w, r)
	}
}

// lostWriter takes an answer that nobody gets.
type lostWriter struct{ header http.Header }

func (l *lostWriter) Header() http.Header         { return l.header }
func (l *lostWriter) Write(p []byte) (int, error) { return len(p), nil }
func (l *lostWriter) WriteHeader(int)             {}

// brokenWriter breaks the body of an answer in its middle.
type brokenWriter struct {
	http.ResponseWriter
	kind    string
	request *http.Request
}

func (b *brokenWriter) Write(p []byte) (int, error) {
	if len(p) < 2 {
		return b.ResponseWriter.Write(p)
	}
	half := len(p) / 2
	if b.kind == "flipped" {
		changed := append([]byte(nil), p...)
		changed[half] ^= 4
		b.kind = "done"
		return b.ResponseWriter.Write(changed)
	}
	if b.kind == "done" {
		return b.ResponseWriter.Write(p)
	}
	_, _ = b.ResponseWriter.Write(p[:half])
	if flusher, ok := b.ResponseWriter.(http.Flusher); ok {
		flusher.Flush()
	}
	if b.kind == "stalled" {
		select { // as a connection that nobody speaks on any more
		case <-b.request.Context().Done():
		case <-time.After(30 * time.Second):
		}
	}
	panic(http.ErrAbortHandler)
}

// slowWriter sends so many bytes a second.
type slowWriter struct {
	http.ResponseWriter
	rate int64
}

func (s *slowWriter) Write(p []byte) (int, error) {
	written := 0
	for len(p) > 0 {
		n, err := s.ResponseWriter.Write(p[:min(len(p), 16<<10)])
		written += n
		if err != nil {
			return written, err
		}
		p = p[n:]
		time.Sleep(time.Duration(float64(n) / float64(s.rate) * float64(time.Second)))
	}
	return written, nil
}
