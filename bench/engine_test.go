package bench

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"golang.org/x/time/rate"

	"deftheron/contract"
	"deftheron/core/gate"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/provider/folder"
	"deftheron/provider/s3"
	"deftheron/servertest"
	"deftheron/service/records"
)

// engine is the engine by itself, on records of its own.
type engine struct {
	t  *testing.T
	db *records.DB
	n  int
}

func newEngine(t *testing.T) *engine {
	t.Helper()
	db, err := records.Open(scratch(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return &engine{t: t, db: db}
}

func (e *engine) side(name string, s store.Store, ownGate *gate.Gate, root store.Ref) transfer.Side {
	return transfer.Side{Account: name, Address: store.MakeAddress(name, root), Store: s, Gate: ownGate, Root: root}
}

// run carries a run out, and returns how many seconds it took.
func (e *engine) run(ctx context.Context, route transfer.Route, lanes int) (seconds float64, s transfer.Snapshot, result transfer.Result) {
	e.t.Helper()
	e.n++
	id := fmt.Sprint("bench", e.n)
	job := records.Job{ID: id, Name: id, Type: "copy", Routes: []records.Route{}, CreatedAt: time.Now(), OneOff: true}
	row := records.Run{ID: id, Job: id, State: "running", Routes: []records.Route{}, CreatedAt: time.Now()}
	if err := e.db.AddRun(e.t.Context(), &job, &row); err != nil {
		e.t.Fatal(err)
	}
	run := transfer.New(transfer.Options{
		ID: id, Routes: []transfer.Route{route}, Rules: plan.Rules{}, Records: e.db, Lanes: lanes, HeadStart: time.Millisecond,
		Log: slog.New(slog.DiscardHandler),
	})
	begun := time.Now()
	result = run.Execute(ctx)
	return time.Since(begun).Seconds(), run.Snapshot(), result
}

// disk is a folder with files of 4 KiB, as an account.
func disk(t *testing.T, files int) store.Store {
	t.Helper()
	root := scratch(t)
	content := []byte(strings.Repeat("0123456789abcdef", 256))
	for i := range files {
		path := filepath.Join(root, "all", fmt.Sprintf("%02d", i%50))
		if err := os.MkdirAll(path, 0o777); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(path, fmt.Sprintf("%05d", i)), content, 0o666); err != nil {
			t.Fatal(err)
		}
	}
	s, err := folder.Provider{}.Open(t.Context(), store.Opening{Options: map[string]string{"path": root}, Gate: gate.New("disk", 64, 64)})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func bucket(t *testing.T, server *servertest.ObjectStore, endpoint string, ownGate *gate.Gate,
	dial func(context.Context, string, string) (net.Conn, error)) store.Store {
	t.Helper()
	options, err := store.CheckOptions(s3.Provider{}, map[string]string{"endpoint": endpoint, "bucket": server.Bucket(t), "key": server.Key},
		true)
	if err != nil {
		t.Fatal(err)
	}
	s, err := s3.Provider{}.Open(t.Context(), store.Opening{
		Options: options, Secrets: store.FixedSecret(server.Secret), Gate: ownGate,
		Transport: &http.Transport{DialContext: dial, MaxIdleConnsPerHost: 64, DisableCompression: true, WriteBufferSize: 64 << 10,
			ReadBufferSize: 64 << 10},
	})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestBenchDistant writes 2,000 small files to an object store 80 ms away by fixed
// lanes over warm connections, at one dependent request a file: the bound is lanes
// to the round trip.
func TestBenchDistant(t *testing.T) {
	skip(t)
	const roundTrip, lanes = 80 * time.Millisecond, 16
	files := 2000 * *scale / 100
	server := servertest.StartObjectStore(t)
	ownGate := gate.New("target", lanes, lanes)
	target := bucket(t, server, server.Endpoint, ownGate, servertest.Distant(roundTrip))
	source, e := disk(t, files), newEngine(t)
	var ratios []float64
	for n := range *pairs + 1 {
		seconds, s, result := e.run(t.Context(), transfer.Route{
			Source: e.side("source", source, gate.New("source", 64, 64), store.At("all")),
			Target: e.side("target", target, ownGate, store.At(fmt.Sprint(n))), Scope: fmt.Sprint(n),
		}, lanes)
		if result.State != "done" || s.Done != int64(files) {
			t.Fatalf("%+v, %+v", result, s)
		}
		if n == 0 {
			continue // the connections are warm from now on
		}
		bound := float64(files) / (lanes / roundTrip.Seconds())
		ratios = append(ratios, bound/seconds)
		t.Logf("round %d: %.2f s, at best %.2f s, ratio %.3f", n, seconds, bound, bound/seconds)
	}
	row(t, "2,000 small files over 80 ms, 16 lanes", "≥ 0.90", ratios, 0.90)
}

// limited is an object store that allows so many requests a second, and answers
// "slow down" to any more.
type limited struct {
	limiter          *rate.Limiter
	proxy            *httputil.ReverseProxy
	counting         atomic.Bool
	answered, slowed atomic.Int64
}

// ServeHTTP implements http.Handler.
func (l *limited) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	allowed := l.limiter.Allow()
	if l.counting.Load() {
		if allowed {
			l.answered.Add(1)
		} else {
			l.slowed.Add(1)
		}
	}
	if !allowed {
		w.WriteHeader(http.StatusServiceUnavailable)
		fmt.Fprint(w, "<Error><Code>SlowDown</Code></Error>")
		return
	}
	l.proxy.ServeHTTP(w, r)
}

// TestBenchRateLimit copies to an object store that allows 100 requests a second, and
// looks, after a minute, at how many it gets through and how many are refused.
func TestBenchRateLimit(t *testing.T) {
	skip(t)
	const allowed = 100
	server := servertest.StartObjectStore(t)
	to, err := url.Parse(server.Endpoint)
	if err != nil {
		t.Fatal(err)
	}
	limit := &limited{limiter: rate.NewLimiter(allowed, allowed/10),
		proxy: &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(to); r.Out.Host = r.In.Host }}}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	web := &http.Server{Handler: limit}
	var serving sync.WaitGroup
	serving.Go(func() { _ = web.Serve(listener) })
	t.Cleanup(func() { web.Close(); serving.Wait() })
	ownGate := gate.New("target", 8, 64)
	target := bucket(t, server, "http://"+listener.Addr().String(), ownGate, nil)
	const measured = 60 * time.Second
	source, e := disk(t, 130*allowed), newEngine(t)
	ctx, cancel := context.WithCancelCause(t.Context())
	var sustained, refused float64
	serving.Go(func() {
		<-time.After(60 * time.Second)
		limit.counting.Store(true)
		<-time.After(measured)
		limit.counting.Store(false)
		sustained = float64(limit.answered.Load()) / measured.Seconds() / allowed
		refused = 100 * float64(limit.slowed.Load()) / float64(max(1, limit.answered.Load()+limit.slowed.Load()))
		cancel(transfer.ErrCancelled)
	})
	e.run(ctx, transfer.Route{Source: e.side("source", source, gate.New("source", 64, 64), store.At("all")),
		Target: e.side("target", target, ownGate, store.At("limited")), Scope: "limited"}, 16)
	web.Close()
	serving.Wait()
	figure("a provider that allows 100 requests a second", "≥ 95 %", 100*sustained, "% sustained", sustained >= 0.95)
	figure("  of its answers \"slow down\"", "< 1 %", refused, "%", refused < 1)
}

// TestBenchRenamed renames a folder of 10,000 files at the source of a copy.
func TestBenchRenamed(t *testing.T) {
	skip(t)
	p := build(t)
	files := 10_000 * *scale / 100
	server := servertest.StartObjectStore(t)
	root := scratch(t)
	for i := range files {
		path := filepath.Join(root, "all", "before", fmt.Sprintf("%02d", i%50))
		if err := os.MkdirAll(path, 0o777); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(path, fmt.Sprintf("%05d", i)), []byte(strings.Repeat(fmt.Sprintf("%07d\n", i), 512)),
			0o666); err != nil {
			t.Fatal(err)
		}
	}
	h := startHeron(t, p)
	h.link(contract.Link{Provider: "folder", Name: "source", Options: map[string]string{"path": root}})
	h.link(contract.Link{Provider: "s3", Name: "target", Options: map[string]string{"endpoint": server.Endpoint, "bucket": server.Bucket(t),
		"key": server.Key}, Secret: server.Secret})
	first, _ := h.copy("/source/all", "/target")
	if err := os.Rename(filepath.Join(root, "all", "before"), filepath.Join(root, "all", "after")); err != nil {
		t.Fatal(err)
	}
	seconds, run := h.copy("/source/all", "/target")
	if run.Items.Done != int64(files) {
		t.Errorf("%+v", run.Items)
	}
	figure("a folder of 10,000 files renamed at the source", "0 bytes", float64(run.Bytes.Transferred), "bytes sent",
		run.Bytes.Transferred == 0)
	t.Logf("sent in %.1f s, copied inside in %.1f s", first, seconds)
}

// TestBenchRestart kills the service in the middle of a file of 5 GiB that goes in
// parts, and counts what the object store receives in all.
func TestBenchRestart(t *testing.T) {
	skip(t)
	p := build(t)
	size := 5 << 30 * int64(*scale) / 100
	server := servertest.StartObjectStore(t)
	source, target := server.Bucket(t), server.Bucket(t)
	fill(t, server, source, []object{{"large", size}})
	var received atomic.Int64
	to, err := url.Parse(server.Endpoint)
	if err != nil {
		t.Fatal(err)
	}
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(to); r.Out.Host = r.In.Host }}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	web := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut {
			r.Body = &countedBody{r.Body, &received}
		}
		proxy.ServeHTTP(w, r)
	})}
	var serving sync.WaitGroup
	serving.Go(func() { _ = web.Serve(listener) })
	t.Cleanup(func() { web.Close(); serving.Wait() })

	data, address := filepath.Join(scratch(t), "data"), servertest.FreeAddress(t)

	h, command := serve(t, p.heron, data, address)
	const partSize = 64 << 20
	for name, of := range map[string][2]string{"source": {server.Endpoint, source}, "target": {"http://" + listener.Addr().String(), target}} {
		h.link(contract.Link{Provider: "s3", Name: name, Options: map[string]string{"endpoint": of[0], "bucket": of[1], "key": server.Key,
			"parts-above": "256", "part-size": "64"}, Secret: server.Secret})
	}
	started, err := h.client.Copy(t.Context(), contract.Copy{From: []string{"/source/large"}, To: "/target"})
	if err != nil {
		t.Fatal(err)
	}
	for received.Load() < size/2 {
		<-time.After(10 * time.Millisecond)
	}
	if err := command.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	command.Wait()
	h, _ = serve(t, p.heron, data, address)
	run, err := h.client.Follow(t.Context(), started.Run, func(contract.Run) {}, nil)
	if err != nil || run.State != "done" {
		t.Fatalf("%+v, %v", run, err)
	}
	again := float64(received.Load()-size) / partSize
	const inFlight = 8 // parts that one account moves at once
	figure("restart in the middle of a 5 GiB file, sent again", "≤ 1 part a lane", again, fmt.Sprintf("parts, of %d lanes at most", inFlight),
		again <= inFlight)
}

type countedBody struct {
	body interface {
		Read([]byte) (int, error)
		Close() error
	}
	n *atomic.Int64
}

func (c *countedBody) Read(p []byte) (int, error) {
	n, err := c.body.Read(p)
	c.n.Add(int64(n))
	return n, err
}

// Close implements io.Closer.
func (c *countedBody) Close() error { return c.body.Close() }
