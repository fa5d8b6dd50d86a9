package bench

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/contract"
)

// TestBenchGateway times the network drive: opening a folder of 1,000 entries that was opened before,
// and reading and writing a large file against a bare relay, which opens a file and copies.
func TestBenchGateway(t *testing.T) {
	if !*run {
		t.Skip("only with -bench, as make bench does")
	}
	const large = 512 << 20
	place, plain := scratch(t), scratch(t)
	file, err := os.Create(filepath.Join(place, "large.bin"))
	if err == nil {
		_, err = io.CopyN(file, endless{}, large)
	}
	if err != nil || file.Close() != nil {
		t.Fatal(err)
	}
	many := filepath.Join(place, "many")
	if err := os.MkdirAll(many, 0o755); err != nil {
		t.Fatal(err)
	}
	for i := range 1000 {
		if err := os.WriteFile(filepath.Join(many, fmt.Sprintf("a file of the folder, number %d.txt", i)), []byte("x"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	h := startHeron(t, build(t))
	h.link(contract.Link{Provider: "folder", Name: "desk", Options: map[string]string{"path": place}})
	root := h.client.Drive().URL()
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
	ask := func(method, address string, body io.Reader, size int64) float64 {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), method, address, body)
		if err != nil {
			t.Fatal(err)
		}
		request.SetBasicAuth("anybody", h.client.Token)
		request.Header.Set("Depth", "1")
		if request.ContentLength = size; body == nil {
			request.ContentLength = 0
		}
		begun := time.Now()
		response, err := client.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		_, err = io.Copy(io.Discard, response.Body)
		if err != nil || response.StatusCode >= 300 {
			t.Fatalf("%s %s: %d, %v", method, address, response.StatusCode, err)
		}
		return time.Since(begun).Seconds()
	}
	ask("PROPFIND", root+"desk/many/", nil, 0)
	var opened []float64
	for range 50 {
		opened = append(opened, 1000*ask("PROPFIND", root+"desk/many/", nil, 0))
	}
	slices.Sort(opened)
	figure("drive: open a folder of 1,000 entries again, 95th percentile", "≤ 150", opened[47], "ms", opened[47] <= 150)

	relay := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		buffer := make([]byte, 256<<10)
		if r.Method == http.MethodPut {
			file, err := os.Create(filepath.Join(plain, "written.bin"))
			if err != nil {
				return
			}
			_, _ = io.CopyBuffer(struct{ io.Writer }{file}, struct{ io.Reader }{r.Body}, buffer)
			_ = file.Sync()
			file.Close()
			return
		}
		file, err := os.Open(filepath.Join(place, "large.bin"))
		if err != nil {
			return
		}
		defer file.Close()
		w.Header().Set("Content-Length", fmt.Sprint(large))
		_, _ = io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{file}, buffer)
	}))
	defer relay.Close()
	content := func() io.Reader { return io.LimitReader(endless{}, large) }
	for _, way := range []struct {
		name         string
		ours, theirs func() float64
	}{
		{"read", func() float64 { return ask(http.MethodGet, root+"desk/large.bin", nil, 0) },
			func() float64 { return ask(http.MethodGet, relay.URL, nil, 0) }},
		{"write", func() float64 { return ask(http.MethodPut, root+"desk/written.bin", content(), large) },
			func() float64 { return ask(http.MethodPut, relay.URL, content(), large) }},
	} {
		var ratios []float64
		for pair := range 7 {
			var ours, theirs float64
			if pair%2 == 0 {
				ours = way.ours()
			}
			theirs = way.theirs()
			if pair%2 == 1 {
				ours = way.ours()
			}
			ratios = append(ratios, theirs/ours)
		}
		row(t, "drive: "+way.name+" a file of 512 MiB, of a bare relay's bytes/s", "≥ 0.80", ratios, 0.8)
	}
	if left, _ := filepath.Glob(filepath.Join(place, ".heron-arriving-*")); len(left) > 0 {
		t.Errorf("left behind: %s", strings.Join(left, ", "))
	}
}
