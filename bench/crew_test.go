package bench

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"golang.org/x/time/rate"

	"deftheron/contract"
	"deftheron/servertest"
)

// crewed is a service with workers that are processes of this machine, and two buckets that they share.
type crewed struct {
	*heron
	program string
	objects *servertest.ObjectStore
	rounds  int
	pids    []int // of the workers
}

// startCrewed links two buckets of an object store at an address, which every worker may have.
func startCrewed(t *testing.T, p programs, address func(t *testing.T, server string) string, lanes, most int) *crewed {
	t.Helper()
	c := &crewed{heron: startHeron(t, p), program: p.heron, objects: servertest.StartObjectStore(t)}
	at, err := url.Parse(c.objects.Endpoint)
	if err != nil {
		t.Fatal(err)
	}
	endpoint := "http://" + address(t, at.Host)
	for _, name := range []string{"from", "to"} {
		c.link(contract.Link{Provider: "s3", Name: name, Secret: c.objects.Secret,
			Options: map[string]string{"endpoint": endpoint, "bucket": c.objects.Bucket(t), "key": c.objects.Key}})
	}
	for i := range most {
		c.worker(fmt.Sprint("worker-", i), lanes)
	}
	if err := c.client.SetWorkerSharing(t.Context(), contract.WorkerSharing{OnlyWorkers: true}); err != nil {
		t.Fatal(err)
	}
	return c
}

// worker starts a worker process that copies in some lanes.
func (c *crewed) worker(name string, lanes int) {
	c.t.Helper()
	code, err := c.client.CreateWorker(c.t.Context(), contract.NewWorker{Name: name, Site: "far"})
	if err != nil {
		c.t.Fatal(err)
	}
	data := filepath.Join(scratch(c.t), name)
	if out, err := exec.Command(c.program, "worker", "join", code.URL, code.Code, "--data", data).CombinedOutput(); err != nil {
		c.t.Fatalf("%v: %s", err, out)
	}
	command := exec.Command(c.program, "worker", "--data", data, "--parallel", fmt.Sprint(lanes), "--log-level", "error")
	command.Stderr = os.Stderr
	if err := command.Start(); err != nil {
		c.t.Fatal(err)
	}
	c.pids = append(c.pids, command.Process.Pid)
	c.t.Cleanup(func() {
		_ = command.Process.Kill()
		_ = command.Wait()
	})
	if _, err := c.client.ChangeWorker(c.t.Context(), name, contract.WorkerChange{Grant: []string{"from", "to"}}); err != nil {
		c.t.Fatal(err)
	}
	for {
		all, err := c.client.Workers(c.t.Context())
		if err != nil {
			c.t.Fatal(err)
		}
		for _, one := range all {
			if one.Name == name && one.State == "connected" {
				return
			}
		}
		<-time.After(20 * time.Millisecond)
	}
}

// draining has all workers but some take nothing.
func (c *crewed) draining(all, but int) {
	c.t.Helper()
	for i := range all {
		drain := i >= but
		if _, err := c.client.ChangeWorker(c.t.Context(), fmt.Sprint("worker-", i), contract.WorkerChange{Draining: &drain}); err != nil {
			c.t.Fatal(err)
		}
	}
}

// put writes files to the bucket that is read.
func (c *crewed) put(files int, size int64) {
	c.t.Helper()
	client := c.objects.Client(c.t)
	var group sync.WaitGroup
	lanes := make(chan struct{}, 16)
	for i := range files {
		lanes <- struct{}{}
		group.Go(func() {
			defer func() { <-lanes }()
			if _, err := client.Client.PutObject(c.t.Context(), "bucket-1", fmt.Sprintf("all/%03d/%06d", i/100, i),
				io.LimitReader(endless{}, size), size, minio.PutObjectOptions{DisableContentSha256: true, DisableMultipart: true}); err != nil {
				c.t.Error(err)
			}
		})
	}
	group.Wait()
}

// copied copies all to a folder of its own and returns the seconds.
func (c *crewed) copied(items int) float64 {
	c.t.Helper()
	c.rounds++
	seconds, run := c.copy("/from/all", fmt.Sprint("/to/", c.rounds))
	if run.Items.Done != int64(items) {
		c.t.Fatalf("%+v", run)
	}
	byWorkers := int64(0)
	for _, one := range run.Workers {
		byWorkers += one.Items
	}
	if byWorkers < int64(items)*9/10 {
		c.t.Fatalf("workers copied %d of %d: %+v", byWorkers, items, run.Workers)
	}
	return seconds
}

// compare compares four workers with one.
func (c *crewed) compare(what, promise string, least float64, items int) {
	c.t.Helper()
	var ratios []float64
	for n := range *pairs + 1 {
		c.draining(4, 1)
		one := c.copied(items)
		c.draining(4, 4)
		four := c.copied(items)
		if n == 0 {
			continue
		}
		ratios = append(ratios, one/four)
		c.t.Logf("round %d: one worker %.2f s, four %.2f s, ratio %.2f", n, one, four, one/four)
	}
	row(c.t, what, promise, ratios, least)
}

// TestBenchCrewSmall has one worker and four copy small files within an object store that is 80 ms away.
func TestBenchCrewSmall(t *testing.T) {
	skip(t)
	const delay, lanes = 80 * time.Millisecond, 8
	files := 2000 * *scale / 100
	c := startCrewed(t, build(t), func(t *testing.T, server string) string { return delayed(t, server, delay/2) }, lanes, 4)
	c.put(files, 4<<10)
	c.compare("workers: 2,000 files of 4 KiB over 80 ms, four to one", "≥ 3.6", 3.6, files)
}

// TestBenchCrewLarge has one worker and four copy large files between object stores that limit the rate of
// each connection.
func TestBenchCrewLarge(t *testing.T) {
	skip(t)
	const perSecond, lanes, files = 4 << 20, 4, 16
	size := int64(12<<20) * int64(*scale) / 100
	c := startCrewed(t, build(t), func(t *testing.T, server string) string { return throttled(t, server, perSecond) }, lanes, 4)
	c.put(files, size)
	c.compare("workers: large files at 4 MiB/s a connection, four to one", "≥ 3.5", 3.5, files)
}

// throttled passes connections on to a server, each at so many bytes a second, and returns its address.
func throttled(t *testing.T, to string, perSecond int) string {
	t.Helper()
	return forward(t, to, func(into, from net.Conn, _ bool) { limitTo(into, from, rate.NewLimiter(rate.Limit(perSecond), 64<<10)) })
}

// TestBenchCrewRate has eight workers copy within an object store that allows 100 requests a second, and
// looks, after a minute, at how many it gets through and how many are refused.
func TestBenchCrewRate(t *testing.T) {
	skip(t)
	const allowed, measured = 100, 60 * time.Second
	limit := &limited{limiter: rate.NewLimiter(allowed, allowed/10)}
	c := startCrewed(t, build(t), func(t *testing.T, server string) string {
		limit.proxy = &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(&url.URL{Scheme: "http", Host: server})
			r.Out.Host = r.In.Host
		}}
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		web := &http.Server{Handler: limit}
		go func() { _ = web.Serve(listener) }()
		t.Cleanup(func() { web.Close() })
		return listener.Addr().String()
	}, 8, 8)
	c.put(60*allowed, 1<<10)
	started, err := c.client.Copy(t.Context(), contract.Copy{From: []string{"/from/all"}, To: "/to/limited"})
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(60 * time.Second)
	limit.counting.Store(true)
	time.Sleep(measured)
	limit.counting.Store(false)
	if run, err := c.client.Run(t.Context(), started.Run); err != nil || run.State != "running" {
		t.Fatalf("the run is over: %+v, %v", run.Items, err)
	}
	if err := c.client.Cancel(t.Context(), started.Run); err != nil {
		t.Fatal(err)
	}
	sustained := float64(limit.answered.Load()) / measured.Seconds() / allowed
	refused := 100 * float64(limit.slowed.Load()) / float64(max(1, limit.answered.Load()+limit.slowed.Load()))
	figure("workers: eight, at a provider that allows 100 requests a second", "≥ 95 %", 100*sustained, "% sustained", sustained >= 0.95)
	figure("  of its answers \"slow down\"", "< 1 %", refused, "%", refused < 1)
}

// TestBenchCrewCoordination compares the processor time that the service and a worker need together with
// what the service needs alone, for small files between object stores.
func TestBenchCrewCoordination(t *testing.T) {
	skip(t)
	files := 20_000 * *scale / 100
	c := startCrewed(t, build(t), func(_ *testing.T, server string) string { return server }, 16, 1)
	c.put(files, 4<<10)
	pids := append([]int{c.pid}, c.pids...)
	used := func() (total float64) {
		for _, pid := range pids {
			total += processorTime(t, pid)
		}
		return total
	}
	most := 0.0         // private memory of the service, in MiB, while workers copied
	var service float64 // processor time of the service alone, while workers copied
	measure := func(only bool) float64 {
		if err := c.client.SetWorkerSharing(t.Context(), contract.WorkerSharing{OnlyWorkers: only}); err != nil {
			t.Fatal(err)
		}
		c.draining(1, map[bool]int{true: 1, false: 0}[only])
		c.rest()
		before, own := used(), processorTime(t, c.pid)
		c.rounds++
		copied := make(chan bool)
		go func() {
			for {
				select {
				case <-copied:
					return
				case <-time.After(100 * time.Millisecond):
					if only {
						most = max(most, c.memory().private)
					}
				}
			}
		}()
		_, run := c.copy("/from/all", fmt.Sprint("/to/", c.rounds))
		close(copied)
		if run.Items.Done != int64(files) || only != (len(run.Workers) > 0) {
			t.Fatalf("%+v", run)
		}
		c.rest()
		service = processorTime(t, c.pid) - own
		return used() - before
	}
	var ratios []float64
	for n := range *pairs + 1 {
		alone, shared := measure(false), measure(true)
		if n > 0 {
			ratios = append(ratios, alone/shared)
			t.Logf("round %d: alone %.0f µs a file, with a worker %.0f, of which the service %.0f", n, alone/float64(files)*1e6,
				shared/float64(files)*1e6, service/float64(files)*1e6)
		}
	}
	figure("workers: private memory of the service while they copy", "≤ 100 MiB", most, "MiB", most <= 100)
	row(t, "workers: processor time of small files, alone to with one", "≥ 0.97", ratios, 0.97)
}
