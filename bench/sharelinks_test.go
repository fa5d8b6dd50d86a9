package bench

import (
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"deftheron/contract"
)

// TestBenchShareLinks downloads by a share link: a small file many times at once, and a large
// one beside the smallest program that relays the same file.
func TestBenchShareLinks(t *testing.T) {
	if !*run {
		t.Skip("only with -bench, as make bench does")
	}
	const small, large = 4 << 10, 1 << 30
	place := scratch(t)
	for name, size := range map[string]int64{"small.bin": small, "large.bin": large} {
		file, err := os.Create(filepath.Join(place, name))
		if err == nil {
			_, err = io.CopyN(file, endless{}, size)
		}
		if err != nil || file.Close() != nil {
			t.Fatal(err)
		}
	}
	h := startHeron(t, build(t))
	h.link(contract.Link{Provider: "folder", Name: "desk", Options: map[string]string{"path": place}})
	if _, err := h.client.SetShareLinks(t.Context(), true); err != nil {
		t.Fatal(err)
	}
	made, err := h.client.MakeShareLink(t.Context(), contract.NewShareLink{Address: "/desk"})
	if err != nil {
		t.Fatal(err)
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	browser := &http.Client{Jar: jar, Transport: &http.Transport{MaxIdleConnsPerHost: 32}}
	get := func(address string) int64 {
		response, err := browser.Get(address)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		n, err := io.Copy(io.Discard, response.Body)
		if err != nil || response.StatusCode != http.StatusOK {
			t.Fatalf("%s: %d, %v", address, response.StatusCode, err)
		}
		return n
	}
	get(made.URL)
	var served atomic.Int64
	var group sync.WaitGroup
	begun := time.Now()
	for range 16 {
		group.Go(func() {
			for time.Since(begun) < 5*time.Second {
				if get(made.URL+"?at=small.bin&do=download") == small {
					served.Add(1)
				}
			}
		})
	}
	group.Wait()
	rate := float64(served.Load()) / time.Since(begun).Seconds()
	figure("share link: a file of 4 KiB, times a second", "≥ 2000", rate, "/s", rate >= 2000)

	relay := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		file, err := os.Open(filepath.Join(place, "large.bin"))
		if err != nil {
			return
		}
		defer file.Close()
		w.Header().Set("Content-Length", fmt.Sprint(large))
		_, _ = io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{file}, make([]byte, 256<<10))
	}))
	defer relay.Close()
	seconds := func(address string) float64 {
		begun := time.Now()
		get(address)
		return time.Since(begun).Seconds()
	}
	var ratios []float64
	for pair := range 7 {
		var ours, theirs float64
		if pair%2 == 0 {
			ours = seconds(made.URL + "?at=large.bin&do=download")
		}
		theirs = seconds(relay.URL)
		if pair%2 == 1 {
			ours = seconds(made.URL + "?at=large.bin&do=download")
		}
		ratios = append(ratios, theirs/ours)
	}
	row(t, "share link: a file of 1 GiB, of a bare relay's bytes/s", "≥ 0.80", ratios, 0.8)
}

// endless is content of no particular kind.
type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = byte(i * 7)
	}
	return len(p), nil
}
