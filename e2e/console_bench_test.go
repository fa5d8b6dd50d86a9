package e2e

import (
	"bytes"
	"compress/gzip"
	"context"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/heapprofiler"
	"github.com/chromedp/cdproto/performance"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"deftheron/servertest"
)

var (
	benchmarks  = flag.Bool("bench", false, "measure the console; make bench does")
	openMinutes = flag.Float64("open", 10, "how many minutes a page is left open to measure its memory")
)

// promised prints a figure beside what is promised.
func promised(t *testing.T, what string, got, most float64, unit string) {
	t.Helper()
	word := "met"
	if got > most {
		word = "NOT MET"
		t.Errorf("%s: %.2f %s, promised at most %.0f", what, got, unit, most)
	}
	fmt.Printf("%-60s promised ≤ %-6.0f measured %.2f %s  %s\n", what, most, got, unit, word)
}

// ask sends a command to the page.
func ask[Result any](b *window, command cdp.Command[cdp.Empty, Result]) (result Result) {
	b.t.Helper()
	b.do(func(ctx context.Context, target *chromedp.Target) (_ chromedp.Void, err error) {
		result, err = cdp.Call(ctx, target, command, cdp.Empty{})
		return chromedp.Void{}, err
	})
	return result
}

// metric is a run-time metric of the page, in seconds or counts.
func (b *window) metric(name string) float64 {
	b.t.Helper()
	for _, one := range ask(b, performance.GetMetrics).Metrics {
		if one.Name == name {
			return one.Value
		}
	}
	b.t.Fatalf("the page has no metric %s", name)
	return 0
}

// heap is how many bytes the page's scripts hold, once what is not used was collected.
func (b *window) heap() float64 {
	b.t.Helper()
	ask(b, heapprofiler.CollectGarbage)
	ask(b, heapprofiler.CollectGarbage)
	return ask(b, runtime.GetHeapUsage).UsedSize
}

// processorTime is the processor time that a process has used.
func processorTime(t *testing.T, pid int) time.Duration {
	t.Helper()
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		t.Fatal(err)
	}
	fields := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))
	var ticks int64
	for _, field := range fields[11:13] { // utime and stime, in hundredths of a second
		n, err := strconv.ParseInt(field, 10, 64)
		if err != nil {
			t.Fatal(err)
		}
		ticks += n
	}
	return time.Duration(ticks) * 10 * time.Millisecond
}

// TestBenchConsole measures the budgets of the console (docs/architecture.md has them).
func TestBenchConsole(t *testing.T) {
	if !*benchmarks {
		t.Skip("only with -bench, as make bench does")
	}
	h := start(t)
	large, desk := t.TempDir(), t.TempDir()
	const n = 100_000
	for i := range n {
		file, err := os.Create(filepath.Join(large, fmt.Sprintf("entry %06d", i)))
		if err != nil {
			t.Fatal(err)
		}
		file.Close()
	}
	for i := range 50 {
		writeFile(t, "x", desk, "Reports", fmt.Sprintf("report %02d.txt", i))
	}
	h.linkFolder("large", large)
	h.linkFolder("desk", desk)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Needs a decision")

	t.Log("script at first load")
	var script float64
	for _, address := range js[[]string](b,
		`performance.getEntriesByType('resource').map((e) => e.name).filter((name) => name.endsWith('.js'))`) {
		answer, err := http.Get(address)
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(answer.Body)
		answer.Body.Close()
		if err != nil {
			t.Fatal(err)
		}
		var zipped bytes.Buffer
		w := gzip.NewWriter(&zipped)
		if _, err := w.Write(body); err != nil || w.Close() != nil {
			t.Fatal(err)
		}
		script += float64(zipped.Len()) / 1024
	}
	promised(t, "script at first load, gzipped", script, 220, "KiB")

	t.Log("the service under a page that is open and idle")
	time.Sleep(5 * time.Second)
	const idle = 60 * time.Second
	before := processorTime(t, h.cmd.Process.Pid)
	time.Sleep(idle)
	promised(t, "processor time of the service for an idle page", 100*float64(processorTime(t, h.cmd.Process.Pid)-before)/float64(idle), 2,
		"% of a core")

	t.Log("first rows of 100,000 entries, and scrolling")
	b.click("Files")
	b.until("location.pathname === '/files'")
	b.shows("2 accounts")
	var first []float64
	for range 5 {
		b.open("http://" + h.listen + "/files")
		b.shows("2 accounts")
		js[any](b, `window.began = performance.now(); new MutationObserver((_, o) => { if (document.querySelector('[role=row][data-name="entry 000000"]')) { window.took = performance.now() - window.began; o.disconnect() } }).observe(document.body, { subtree: true, childList: true }), document.querySelector('[role=row][data-name=large] a').click(), null`)
		b.until("window.took > 0")
		first = append(first, js[float64](b, "window.took"))
	}
	promised(t, "first rows of 100,000 entries, slowest of 5", slices.Max(first), 500, "ms")
	b.until(`(() => { const g = document.querySelector('[role=grid]'); g.scrollTop = g.scrollHeight; return Number(g.ariaRowCount) >= 20000 })()`)
	js[any](b, `document.querySelector('[role=grid]').scrollTop = 0, null`)
	time.Sleep(time.Second)
	b.do(func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, target, performance.Enable, performance.EnableParams{})
		return chromedp.Void{}, err
	})
	parts := map[string]float64{}
	for _, name := range []string{"TaskDuration", "ScriptDuration", "LayoutDuration", "RecalcStyleDuration"} {
		parts[name] = b.metric(name)
	}
	const frames = 180
	js[any](b, fmt.Sprintf(`window.done = false; window.rows = 0; (() => { const g = document.querySelector('[role=grid]'); let i = 0
		const step = () => { g.scrollTop += 100; window.rows = Math.max(window.rows, document.querySelectorAll('[role=row]').length)
			if (++i < %d) requestAnimationFrame(step); else window.done = true }
		requestAnimationFrame(step) })(), null`, frames))
	b.until("window.done")
	for name, before := range parts {
		t.Logf("%s a frame: %.2f ms", name, 1000*(b.metric(name)-before)/frames)
	}
	promised(t, "main-thread work a frame, scrolling 6,000 pixels a second",
		1000*(b.metric("TaskDuration")-parts["TaskDuration"])/frames, 12, "ms")
	promised(t, "rows in the page while scrolling", float64(js[int](b, "window.rows")), 200, "rows")

	t.Log("interaction to next paint")
	b.open("http://" + h.listen + "/files/desk/Reports")
	b.until("document.querySelector('[role=grid]')?.ariaRowCount === '50'")
	js[any](b, `window.slowest = 0; new PerformanceObserver((list) => { for (const e of list.getEntries()) if (e.interactionId) window.slowest = Math.max(window.slowest, e.duration) }).observe({ type: 'event', durationThreshold: 16, buffered: true }), null`)
	b.click("Choose report 00.txt")
	b.click("Choose all")
	b.click("Copy 50 to…")
	b.click("Close")
	b.click("Grid")
	b.click("List")
	b.click("Two panes")
	b.click("Runs")
	b.click("Jobs")
	b.click("Accounts")
	b.keys("cj")
	b.shows("A new job")
	b.click("Two-way")
	b.choose("Schedule", "weekly")
	b.click("Nights")
	b.click("Overview")
	time.Sleep(time.Second)
	promised(t, "interaction to next paint, slowest of 15", js[float64](b, "window.slowest"), 200, "ms")

	t.Log("memory of a page that is left open with ten runs moving")
	store := servertest.StartObjectStore(t)
	for i := range 10 {
		slow := slowProxy(t, store, 400<<10)
		server := *slow.server
		server.Endpoint = slow.url
		h.linkBucket(fmt.Sprintf("slow-%d", i), &server, slow.server.Bucket(t))
		from := t.TempDir()
		for k := range 400 {
			writeFile(t, strings.Repeat("x", 1<<20), from, fmt.Sprintf("file %03d", k))
		}
		h.linkFolder(fmt.Sprintf("from-%d", i), from)
		h.must("copy", fmt.Sprintf("/from-%d", i), fmt.Sprintf("/slow-%d", i), "--detach")
	}
	if err := h.client().SetAtOnce(t.Context(), 10); err != nil {
		t.Fatal(err)
	}
	b.open("http://" + h.listen + "/")
	b.shows("Running now")
	time.Sleep(time.Minute) // what a page takes to get warm
	begun, start := time.Now(), b.heap()
	time.Sleep(time.Duration(*openMinutes * float64(time.Minute)))
	grown := (b.heap() - start) / (1 << 20)
	promised(t, fmt.Sprintf("memory grown in %.0f minutes with ten runs moving", time.Since(begun).Minutes()), grown, 1, "MiB")
}
