// Package bench holds what the program is measured by, against a bare loop or a
// program of the system's, both sides in one run on one machine. `make bench`
// runs it; figures are ratios, of at least seven pairs, with which side goes
// first alternating.
package bench

import (
	"bytes"
	"context"
	"crypto/rand"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"golang.org/x/sys/unix"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/servertest"
)

var (
	run   = flag.Bool("bench", false, "run the benchmarks")
	soak  = flag.Bool("soak", false, "run the soaks")
	pairs = flag.Int("pairs", 7, "pairs of a benchmark")
	scale = flag.Int("scale", 100, "per cent of the sizes promised")
)

// programs are the two that are measured, built once.
type programs struct{ heron, bareloop string }

func build(t *testing.T) programs {
	t.Helper()
	dir := t.TempDir()
	p := programs{filepath.Join(dir, "heron"), filepath.Join(dir, "bareloop")}
	for out, pkg := range map[string]string{p.heron: "./cmd/heron", p.bareloop: "./bench/bareloop"} {
		command := exec.Command("go", "build", "-o", out, pkg)
		command.Dir = servertest.Root()
		if text, err := command.CombinedOutput(); err != nil {
			t.Fatalf("build %s: %v\n%s", pkg, err, text)
		}
	}
	return p
}

// heron is a running service.
type heron struct {
	t      *testing.T
	client *client.Client
	pid    int
	ready  time.Duration
}

func startHeron(t *testing.T, p programs) *heron {
	t.Helper()
	h, _ := serve(t, p.heron, filepath.Join(scratch(t), "data"), servertest.FreeAddress(t))
	return h
}

// serve starts a service on a folder of data, where it may have been before.
func serve(t *testing.T, program, data, address string, args ...string) (*heron, *exec.Cmd) {
	t.Helper()
	command := exec.Command(program, append([]string{"serve", "--data", data, "--listen", address, "--log-level", "error"}, args...)...)
	command.Stderr = os.Stderr
	begun := time.Now()
	servertest.Start(t, command)
	servertest.WaitFor(t, address)
	ready := time.Since(begun)
	token, err := os.ReadFile(filepath.Join(data, "owner.token"))
	if err != nil {
		t.Fatal(err)
	}
	return &heron{t, &client.Client{URL: "http://" + address, Token: strings.TrimSpace(string(token))}, command.Process.Pid, ready}, command
}

// scratch is a folder on tmpfs where there is one.
func scratch(t *testing.T) string {
	dir, err := os.MkdirTemp("/dev/shm", "heron-bench-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func (h *heron) link(link contract.Link) {
	h.t.Helper()
	if _, err := h.client.Link(h.t.Context(), link); err != nil {
		h.t.Fatal(err)
	}
}

// copy copies and returns how many seconds the run took by its own record, from
// its start to its end, and how many items it had.
func (h *heron) copy(from, to string) (seconds float64, run contract.Run) {
	h.t.Helper()
	return h.copyBy(from, to, job.Settings{})
}

// copyBy copies by some rules.
func (h *heron) copyBy(from, to string, settings job.Settings) (seconds float64, run contract.Run) {
	h.t.Helper()
	begun := time.Now()
	started, err := h.client.Copy(h.t.Context(), contract.Copy{From: []string{from}, To: to, Settings: settings})
	if err != nil {
		h.t.Fatal(err)
	}
	run, err = h.client.Follow(h.t.Context(), started.Run, func(contract.Run) {}, nil)
	if err != nil || run.State != "done" {
		h.t.Fatalf("%s: %s, %v", run.State, run.Why, err)
	}
	return min(time.Since(begun).Seconds(), run.Ended.Sub(run.Created).Seconds()), run
}

// rest waits until the service does nothing, so that the search index, which takes what has
// changed once nothing changes any more, is at work beside neither side of a pair.
func (h *heron) rest() {
	h.t.Helper()
	for quiet, before := 0, processorTime(h.t, h.pid); quiet < 3; {
		time.Sleep(500 * time.Millisecond)
		now := processorTime(h.t, h.pid)
		if quiet++; now-before > 0.02 {
			quiet = 0
		}
		before = now
	}
}

// memory is the memory of a process in MiB: what is private to it, what is resident, and that at
// its highest. What is resident moves with the page cache.
type memory struct{ private, resident, highest float64 }

func (h *heron) memory() (m memory) {
	h.t.Helper()
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", h.pid))
	if err != nil {
		h.t.Fatal(err)
	}
	for _, line := range strings.Split(string(status), "\n") {
		var kib float64
		for prefix, into := range map[string]*float64{"RssAnon": &m.private, "VmRSS": &m.resident, "VmHWM": &m.highest} {
			if _, err := fmt.Sscanf(line, prefix+": %f kB", &kib); err == nil {
				*into = kib / 1024
			}
		}
	}
	return m
}

// row is a line of the result: what, its promise, and the figures by pair.
func row(t *testing.T, what, promise string, ratios []float64, least float64) {
	t.Helper()
	slices.Sort(ratios)
	median := ratios[len(ratios)/2]
	met := "met"
	if median < least {
		met = "NOT MET"
	}
	fmt.Printf("%-52s promised %-10s median %.3f  (%.3f to %.3f of %d pairs)  %s\n", what, promise, median, ratios[0], ratios[len(ratios)-1],
		len(ratios), met)
}

func figure(what, promise string, got float64, unit string, met bool) {
	word := "met"
	if !met {
		word = "NOT MET"
	}
	fmt.Printf("%-52s promised %-10s measured %.1f %s  %s\n", what, promise, got, unit, word)
}

// object is a known object of a set.
type object struct {
	key  string
	size int64
}

// fill writes a set into a bucket.
func fill(t *testing.T, server *servertest.ObjectStore, bucket string, set []object) {
	t.Helper()
	core := server.Client(t)
	block := make([]byte, 1<<20)
	rand.Read(block)
	var group sync.WaitGroup
	queue := make(chan object)
	for range 8 {
		group.Go(func() {
			for o := range queue {
				_, err := core.PutObject(context.Background(), bucket, o.key, &repeated{block: block, left: o.size}, o.size, "", "",
					minio.PutObjectOptions{DisableContentSha256: true, DisableMultipart: true})
				if err != nil {
					t.Error(err)
				}
			}
		})
	}
	for _, o := range set {
		queue <- o
	}
	close(queue)
	group.Wait()
	if t.Failed() {
		t.FailNow()
	}
}

type repeated struct {
	block []byte
	left  int64
}

func (r *repeated) Read(p []byte) (int, error) {
	if r.left == 0 {
		return 0, io.EOF
	}
	n := copy(p[:min(int64(len(p)), r.left)], r.block)
	r.left -= int64(n)
	return n, nil
}

func (p programs) bare(t *testing.T, server *servertest.ObjectStore, from, to, prefix string, workers int,
	set []object) (seconds, cpu float64) {
	t.Helper()
	env := []string{"BARELOOP_KEY=" + server.Key, "BARELOOP_SECRET=" + server.Secret}
	return p.loop(t, env, set, "-endpoint", strings.TrimPrefix(server.Endpoint, "http://"), "-from", from, "-to", to, "-prefix", prefix,
		"-workers", strconv.Itoa(workers))
}

// loop runs the bare loop over a set, and returns how many seconds it took by the clock,
// and how many of processor time.
func (p programs) loop(t *testing.T, env []string, set []object, args ...string) (seconds, cpu float64) {
	t.Helper()
	var input bytes.Buffer
	for _, o := range set {
		fmt.Fprintln(&input, o.key, o.size)
	}
	command := exec.Command(p.bareloop, args...)
	command.Env = append(os.Environ(), env...)
	command.Stdin, command.Stderr = &input, os.Stderr
	out, err := command.Output()
	if err != nil {
		t.Fatalf("bareloop: %v", err)
	}
	if seconds, err = strconv.ParseFloat(strings.TrimSpace(string(out)), 64); err != nil {
		t.Fatal(err)
	}
	return seconds, (command.ProcessState.UserTime() + command.ProcessState.SystemTime()).Seconds()
}

// processorTime returns the seconds of processor time that a process has used.
func processorTime(t *testing.T, pid int) float64 {
	t.Helper()
	const wholeProcess = 2 // CPUCLOCK_SCHED of clock_getcpuclockid(3), for all its threads
	var used unix.Timespec
	if err := unix.ClockGettime(int32(^pid<<3|wholeProcess), &used); err != nil {
		t.Fatalf("reading the processor time of process %d: %v", pid, err)
	}
	return time.Duration(used.Nano()).Seconds()
}

// objects measures object store to object store against the bare loop.
func objects(t *testing.T, what, promise string, least, leastCPU float64, set []object) {
	p := build(t)
	server := servertest.StartObjectStore(t)
	source, target := server.Bucket(t), server.Bucket(t)
	fill(t, server, source, set)
	h := startHeron(t, p)
	for name, bucket := range map[string]string{"source": source, "target": target} {
		h.link(contract.Link{Provider: "s3", Name: name,
			Options: map[string]string{"endpoint": server.Endpoint, "bucket": bucket, "key": server.Key}, Secret: server.Secret})
	}
	var ratios, cpuRatios []float64
	for n := range *pairs + 1 {
		var ours, bare, ourCPU, bareCPU, ourServer, bareServer float64
		prefix := fmt.Sprintf("round-%d", n)
		sides := []func(){
			func() {
				var run contract.Run
				before, serverBefore := processorTime(t, h.pid), processorTime(t, server.PID)
				ours, run = h.copy("/source", "/target/"+prefix+"-heron")
				ourCPU, ourServer = processorTime(t, h.pid)-before, processorTime(t, server.PID)-serverBefore
				if run.Items.Done != int64(len(set)) {
					t.Fatalf("%d items for %d objects", run.Items.Done, len(set))
				}
				os.RemoveAll(filepath.Join(server.Data, target, prefix+"-heron"))
			},
			func() {
				before := processorTime(t, server.PID)
				bare, bareCPU = p.bare(t, server, source, target, prefix+"-bare/", 8, set)
				bareServer = processorTime(t, server.PID) - before
				os.RemoveAll(filepath.Join(server.Data, target, prefix+"-bare"))
			},
		}
		if n%2 == 1 {
			slices.Reverse(sides)
		}
		sides[0]()
		sides[1]()
		if n == 0 {
			continue // a first pair, uncounted, warms what is between
		}
		ratios, cpuRatios = append(ratios, bare/ours), append(cpuRatios, bareCPU/ourCPU)
		each := func(seconds float64) float64 { return seconds / float64(len(set)) * 1e6 }
		t.Logf("pair %d: %.2f s, bare loop %.2f s, ratio %.3f; processor time a file: %.0f µs own and %.0f µs server, bare loop %.0f µs own "+
			"and %.0f µs server",
			n, ours, bare, bare/ours, each(ourCPU), each(ourServer), each(bareCPU), each(bareServer))
	}
	row(t, what, promise, ratios, least)
	row(t, "  in processor time of its own", fmt.Sprintf("≥ %.2f", leastCPU), cpuRatios, leastCPU)
	idle(t, h)
}

// idle is what the service holds after its runs.
func idle(t *testing.T, h *heron) {
	t.Helper()
	time.Sleep(10 * time.Second)
	m := h.memory()
	figure("  private memory after it, idle again", "≤ 50 MiB", m.private, fmt.Sprintf("MiB (resident %.1f)", m.resident), m.private <= 50)
	t.Logf("at its highest %.1f MiB", m.highest)
}

func TestBenchLarge(t *testing.T) {
	skip(t)
	var set []object
	for i, mib := range []int64{1024, 512, 192, 128, 64, 64, 64} {
		set = append(set, object{fmt.Sprintf("large/%d", i), mib << 20 * int64(*scale) / 100})
	}
	objects(t, "large files, object store to object store, 2 GiB", "≥ 0.95", 0.95, 0.5, set)
}

func TestBenchSmall(t *testing.T) {
	skip(t)
	var set []object
	for i := range 20_000 * *scale / 100 {
		set = append(set, object{fmt.Sprintf("small/%02d/%05d", i%50, i), 4096})
	}
	objects(t, "small files, object store to object store, 20,000", "≥ 0.90", 0.90, 1, set)
}

// TestBenchFolder measures against cp -r followed by a sync of what it wrote,
// with CRC64NVME of the stream as verification, on the disk of the system's temporary
// folder.
func TestBenchFolder(t *testing.T) {
	skip(t)
	p := build(t)
	dir := t.TempDir()
	source := filepath.Join(dir, "source")
	if err := os.MkdirAll(source, 0o755); err != nil {
		t.Fatal(err)
	}
	block := make([]byte, 1<<20)
	rand.Read(block)
	for i := range 8 {
		file, err := os.Create(filepath.Join(source, fmt.Sprintf("file %d", i)))
		if err != nil {
			t.Fatal(err)
		}
		for range 512 * *scale / 100 {
			if _, err := file.Write(block); err != nil {
				t.Fatal(err)
			}
		}
		if err := file.Close(); err != nil {
			t.Fatal(err)
		}
	}
	exec.Command("sync", "-f", dir).Run()
	h := startHeron(t, p)
	h.link(contract.Link{Provider: "folder", Name: "source", Options: map[string]string{"path": source}})
	h.link(contract.Link{Provider: "folder", Name: "target", Options: map[string]string{"path": dir}})
	var ratios []float64
	for n := range *pairs {
		var ours, theirs float64
		to := fmt.Sprintf("round-%d", n)
		sides := []func(){
			func() {
				ours, _ = h.copy("/source", "/target/"+to)
				os.RemoveAll(filepath.Join(dir, to))
			},
			func() {
				begun := time.Now()
				if out, err := exec.Command("sh", "-c", `cp -r "$1" "$2" && sync -f "$2"`, "sh", source,
					filepath.Join(dir, to+"-cp")).CombinedOutput(); err != nil {
					t.Fatalf("%v: %s", err, out)
				}
				theirs = time.Since(begun).Seconds()
				os.RemoveAll(filepath.Join(dir, to+"-cp"))
			},
		}
		if n%2 == 1 {
			slices.Reverse(sides)
		}
		for _, side := range sides {
			side()
			exec.Command("sync", "-f", dir).Run()
		}
		ratios = append(ratios, theirs/ours)
		t.Logf("pair %d: %.2f s, cp and sync %.2f s, ratio %.3f", n+1, ours, theirs, theirs/ours)
	}
	row(t, "folder to folder, 4 GiB, synced, with CRC64NVME", "≥ 0.9", ratios, 0.9)
	// Every copy is verified; the figure promised without verification is compared with it.
	row(t, "folder to folder, 4 GiB, synced (with verification all the same)", "≥ 1.0", ratios, 1.0)
}

// TestBenchService measures how soon the service is ready, and what it holds.
func TestBenchService(t *testing.T) {
	skip(t)
	p := build(t)
	var ready []float64
	var h *heron
	for range *pairs {
		h = startHeron(t, p)
		ready = append(ready, h.ready.Seconds()*1000)
	}
	slices.Sort(ready)
	time.Sleep(2 * time.Second)
	m := h.memory()
	figure("the service, ready after its start", "≤ 250 ms", ready[len(ready)/2], "ms (median)", ready[len(ready)/2] <= 250)
	figure("the service, private memory after its start", "≤ 20 MiB", m.private, fmt.Sprintf("MiB (resident %.1f)", m.resident),
		m.private <= 20)
}

// TestBenchMemory moves 20,000 small files and one of 4 GiB, in one run, and
// looks at the most memory that the service ever held.
func TestBenchMemory(t *testing.T) {
	skip(t)
	large(t)
}

func large(t *testing.T) {
	p := build(t)
	server := servertest.StartObjectStore(t)
	source, target := server.Bucket(t), server.Bucket(t)
	set := []object{{"all/large", 4 << 30 * int64(*scale) / 100}}
	for i := range 20_000 * *scale / 100 {
		set = append(set, object{fmt.Sprintf("all/small/%02d/%05d", i%50, i), 4096})
	}
	fill(t, server, source, set)
	h := startHeron(t, p)
	for name, bucket := range map[string]string{"source": source, "target": target} {
		h.link(contract.Link{Provider: "s3", Name: name,
			Options: map[string]string{"endpoint": server.Endpoint, "bucket": bucket, "key": server.Key}, Secret: server.Secret})
	}
	seconds, run := h.copy("/source/all", "/target")
	if run.Items.Done != int64(len(set)) {
		t.Fatalf("%+v", run.Items)
	}
	most := h.memory().highest
	figure("while 20,000 small files and one of 4 GiB go through", "≤ 150 MiB", most, "MiB resident", most <= 150)
	t.Logf("%d items, %d bytes in %.1f s", run.Items.Done, run.Bytes.Transferred, seconds)
	idle(t, h)
	begun := time.Now()
	_, again := h.copy("/source/all", "/target")
	if again.Items.Done != 0 || again.Items.UpToDate != int64(len(set)) {
		t.Errorf("copying again: %+v", again.Items)
	}
	t.Logf("copying again: %d unchanged in %.1f s", again.Items.UpToDate, time.Since(begun).Seconds())
}

// TestBenchConsole counts what a browser has to load before anything is drawn: the
// scripts that the page names, and what those import before they run. What is
// imported only when it is needed does not count.
func TestBenchConsole(t *testing.T) {
	skip(t)
	dist := filepath.Join(servertest.Root(), "console", "dist")
	page, err := os.ReadFile(filepath.Join(dist, "index.html"))
	if err != nil {
		t.Fatalf("no console was built: %v", err)
	}
	var scripts []string
	for _, found := range regexp.MustCompile(`<script[^>]* src="/([^"]+)"|<link rel="modulepreload"[^>]* href="/([^"]+)"`).FindAllStringSubmatch(string(page), -1) {
		scripts = append(scripts, found[1]+found[2])
	}
	imported := regexp.MustCompile("(?:from|import)\\s*[\"'`](\\./[^\"'`]+\\.js)[\"'`]")
	total, seen := 0, map[string]bool{}
	for len(scripts) > 0 {
		script := scripts[0]
		scripts = scripts[1:]
		if seen[script] {
			continue
		}
		seen[script] = true
		text, err := os.ReadFile(filepath.Join(dist, script))
		if err != nil {
			t.Fatal(err)
		}
		for _, found := range imported.FindAllStringSubmatch(string(text), -1) {
			scripts = append(scripts, path.Join(path.Dir(script), found[1]))
		}
		out, err := exec.Command("gzip", "-9", "-c", filepath.Join(dist, script)).Output()
		if err != nil {
			t.Fatal(err)
		}
		total += len(out)
	}
	if len(seen) < 2 {
		t.Errorf("only %v is loaded; the page names its theme and its main script", seen)
	}
	figure("the console's script, gzipped, at first load", "≤ 220 KiB", float64(total)/1024, "KiB", total <= 220<<10)
}

func skip(t *testing.T) {
	t.Helper()
	if !*run {
		t.Skip("only with -bench, as make bench does")
	}
}
