package bench

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/provider/folder"
	"deftheron/provider/s3"
	"deftheron/servertest"
	"deftheron/worker"
)

// sited is a service with TLS and a worker at the site "premises", both on this machine. The worker is
// one of this process.
type sited struct {
	*heron
	folders string
	http    *http.Client
	// certificate and key are PEM files of what the service shows.
	certificate, key string
}

// startSited starts a service, and a worker that reaches it at an address.
func startSited(t *testing.T, p programs, through func(address string) string) *sited {
	t.Helper()
	template := httptest.NewUnstartedServer(nil)
	template.StartTLS()
	defer template.Close()
	dir := t.TempDir()
	certificate, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	private, err := x509.MarshalPKCS8PrivateKey(template.TLS.Certificates[0].PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	for path, block := range map[string]*pem.Block{certificate: {Type: "CERTIFICATE", Bytes: template.Certificate().Raw},
		key: {Type: "PRIVATE KEY", Bytes: private}} {
		if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	address := servertest.FreeAddress(t)
	h, _ := serve(t, p.heron, filepath.Join(scratch(t), "data"), address, "--tls-cert", certificate, "--tls-key", key)
	s := &sited{heron: h, folders: scratch(t), http: template.Client(), certificate: certificate, key: key}
	h.client.URL, h.client.HTTP = "https://"+address, s.http
	code, err := h.client.CreateWorker(t.Context(), contract.NewWorker{Name: "premises"})
	if err != nil {
		t.Fatal(err)
	}
	options := worker.Options{Data: filepath.Join(dir, "worker"), Folders: []string{s.folders}, CAFile: certificate,
		Providers: []store.Provider{folder.Provider{}, s3.Provider{}}, Log: slog.New(slog.DiscardHandler)}
	if _, _, err := worker.Join(t.Context(), options, worker.Joining{URL: "https://" + through(address), Code: code.Code}); err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	ended := make(chan error, 1)
	go func() { ended <- worker.Run(ctx, options) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
	for {
		all, err := h.client.Workers(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if all[0].State == "connected" {
			return s
		}
		<-time.After(20 * time.Millisecond)
	}
}

func straight(address string) string { return address }

// delayed passes connections on to a server, with so much time for each direction, and returns its
// address.
func delayed(t *testing.T, to string, delay time.Duration) string {
	t.Helper()
	type piece struct {
		due  time.Time
		data []byte
	}
	return forward(t, to, func(into, from net.Conn, _ bool) {
		pieces := make(chan piece, 1024)
		go func() {
			defer close(pieces)
			for {
				buffer := make([]byte, 64<<10)
				n, err := from.Read(buffer)
				if n > 0 {
					pieces <- piece{time.Now().Add(delay), buffer[:n]}
				}
				if err != nil {
					return
				}
			}
		}()
		broken := false
		for one := range pieces { // until nobody reads
			time.Sleep(time.Until(one.due))
			if _, err := into.Write(one.data); err != nil && !broken {
				broken = true
				from.Close()
			}
		}
	})
}

// download reads a file through the service, and returns the seconds that it took.
func (s *sited) download(t *testing.T, address string, size int64) float64 {
	t.Helper()
	started := time.Now()
	body, err := s.client.Read(t.Context(), address, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	if n, err := io.Copy(io.Discard, body); err != nil || n != size {
		t.Fatalf("%s: %d bytes, %v", address, n, err)
	}
	return time.Since(started).Seconds()
}

// TestBenchSiteRelay reads a file of a worker's machine, beside the smallest two programs that relay it
// over TLS.
func TestBenchSiteRelay(t *testing.T) {
	skip(t)
	const size = 1 << 30
	p := build(t)
	s := startSited(t, p, straight)
	path := filepath.Join(s.folders, "large.bin")
	file, err := os.Create(path)
	if err == nil {
		_, err = io.CopyN(file, endless{}, size)
	}
	if err != nil || file.Close() != nil {
		t.Fatal(err)
	}
	s.link(contract.Link{Provider: "folder", Name: "far", Options: map[string]string{"path": s.folders}, At: "premises"})
	far := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		body, err := os.Open(path)
		if err != nil {
			return
		}
		defer body.Close()
		_, _ = io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{body}, make([]byte, 256<<10))
	}))
	t.Cleanup(far.Close)
	// The relay is a process of its own, as the service is.
	near := servertest.FreeAddress(t)
	servertest.Start(t, exec.Command(p.bareloop, "-relay", far.URL, "-endpoint", near, "-certificate", s.certificate, "-key", s.key))
	servertest.WaitFor(t, near)
	bare := func() float64 {
		started := time.Now()
		response, err := s.http.Get("https://" + near)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		if n, err := io.Copy(io.Discard, response.Body); err != nil || n != size {
			t.Fatal(n, err)
		}
		return time.Since(started).Seconds()
	}
	var ratios []float64
	for pair := range *pairs {
		var ours, theirs float64
		if pair%2 == 0 {
			ours = s.download(t, "/far/large.bin", size)
		}
		theirs = bare()
		if pair%2 == 1 {
			ours = s.download(t, "/far/large.bin", size)
		}
		t.Logf("pair %d: %.2f s, bare %.2f s", pair+1, ours, theirs)
		ratios = append(ratios, theirs/ours)
	}
	row(t, "site: read a file of 1 GiB, of a bare TLS relay's bytes/s", "≥ 0.80", ratios, 0.8)
}

// TestBenchSitePaced reads from an object store of 100 MB/s through a site, beside the service's own way
// to it.
func TestBenchSitePaced(t *testing.T) {
	skip(t)
	const size = 512 << 20
	server := servertest.StartObjectStore(t)
	bucket := server.Bucket(t)
	fill(t, server, bucket, []object{{"large.bin", size}})
	s := startSited(t, build(t), straight)
	endpoint := "http://" + paced(t, server.Endpoint[len("http://"):], 100_000_000)
	for name, at := range map[string]string{"direct": "", "far": "premises"} {
		s.link(contract.Link{Provider: "s3", Name: name, Secret: server.Secret, At: at,
			Options: map[string]string{"endpoint": endpoint, "bucket": bucket, "key": server.Key}})
	}
	var ratios []float64
	for pair := range *pairs {
		var far, direct float64
		if pair%2 == 0 {
			far = s.download(t, "/far/large.bin", size)
		}
		direct = s.download(t, "/direct/large.bin", size)
		if pair%2 == 1 {
			far = s.download(t, "/far/large.bin", size)
		}
		ratios = append(ratios, direct/far)
	}
	row(t, "site: read at 100 MB/s, of the service's own way", "≥ 0.95", ratios, 0.95)
}

// TestBenchSiteTrips counts the round trips between the service and a worker 40 ms away: for a look at a
// file, and for reading a small one.
func TestBenchSiteTrips(t *testing.T) {
	skip(t)
	const delay, times = 20 * time.Millisecond, 20
	s := startSited(t, build(t), func(address string) string { return delayed(t, address, delay) })
	s.link(contract.Link{Provider: "folder", Name: "far", Options: map[string]string{"path": s.folders}, At: "premises"})
	trips := func(do func(name string) error) float64 {
		var took time.Duration
		for i := range times {
			name := fmt.Sprint("/far/file ", i)
			started := time.Now()
			if err := do(name); err != nil {
				t.Fatal(err)
			}
			if i > 3 { // connections are warm
				took += time.Since(started)
			}
		}
		return took.Seconds() / (times - 4) / (2 * delay).Seconds()
	}
	for i := range times {
		if err := os.WriteFile(filepath.Join(s.folders, fmt.Sprint("file ", i)), []byte("reading"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	looked := trips(func(name string) error {
		_, err := s.client.Stat(t.Context(), name)
		return err
	})
	read := trips(func(name string) error {
		body, err := s.client.Read(t.Context(), name, 0)
		if err != nil {
			return err
		}
		defer body.Close()
		_, err = io.Copy(io.Discard, body)
		return err
	})
	figure("site: round trips for a look at a file", "≤ 1.5", looked, "", looked <= 1.5)
	figure("site: round trips for reading a small file, with a look", "≤ 2.5", read, "", read <= 2.5)
}

// TestBenchSiteMemory measures what the service holds for workers while nothing is asked of them.
func TestBenchSiteMemory(t *testing.T) {
	skip(t)
	p := build(t)
	alone := startHeron(t, p)
	s := startSited(t, p, straight)
	time.Sleep(15 * time.Second)
	before, after := alone.memory().private, s.memory().private
	figure("workers: private memory more, with NATS idle", "≤ 4 MiB", after-before, "MiB", after-before <= 4)
	var group sync.WaitGroup
	s.link(contract.Link{Provider: "folder", Name: "far", Options: map[string]string{"path": s.folders}, At: "premises"})
	for i := range 32 {
		name := fmt.Sprint("file-", i)
		file, err := os.Create(filepath.Join(s.folders, name))
		if err == nil {
			_, err = io.CopyN(file, endless{}, 64<<20)
		}
		if err != nil || file.Close() != nil {
			t.Fatal(err)
		}
		group.Go(func() {
			for range 4 {
				s.download(t, "/far/"+name, 64<<20)
			}
		})
	}
	most := 0.0
	done := make(chan bool)
	go func() { group.Wait(); close(done) }()
	for busy := true; busy; {
		select {
		case <-done:
			busy = false
		case <-time.After(100 * time.Millisecond):
			most = max(most, s.memory().private)
		}
	}
	figure("workers: private memory while 32 files are read at once", "≤ 100 MiB", most, "MiB", most <= 100)
}
