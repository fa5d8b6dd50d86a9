package bandwidth_test

import (
	"bytes"
	"context"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/bandwidth"
)

func TestParseRate(t *testing.T) {
	for text, want := range map[string]bandwidth.Rate{"20MB/s": 20e6, "5 MiB/s": 5 << 20, "500kB/s": 500e3, "1.5MB/s": 1.5e6, "": 0,
		"unlimited": 0, "12B/s": 12, "7/s": 7} {
		got, err := bandwidth.ParseRate(text)
		if err != nil || got != want {
			t.Errorf("%q is %d (%v), want %d", text, got, err, want)
		}
		if again, err := bandwidth.ParseRate(got.String()); err != nil || again != got {
			t.Errorf("%q is written %q, which is %d, %v", text, got, again, err)
		}
	}
	for text, says := range map[string]string{"0MB/s": "would stop the run", "20MB": "not a bandwidth", "fast": "not a bandwidth",
		"-1MB/s": "not a bandwidth", "1e300GB/s": "not a bandwidth"} {
		if _, err := bandwidth.ParseRate(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want it to say %q", text, err, says)
		}
	}
}

func TestHours(t *testing.T) {
	at := func(text string) time.Time {
		moment, err := time.Parse("Mon 2006-01-02 15:04", text)
		if err != nil {
			t.Fatal(err)
		}
		return moment
	}
	rule := bandwidth.Rule{Up: 20e6}
	for when, rates := range map[string]string{"mon-fri 08-18": "5MB/s", "sat,sun 22:30-06": "up unlimited, down 1MB/s"} {
		hours, err := bandwidth.ParseHours(when, rates)
		if err != nil {
			t.Fatal(err)
		}
		if hours.Rates() != rates {
			t.Errorf("%q is written %q", rates, hours.Rates())
		}
		rule.Hours = append(rule.Hours, hours)
	}
	for text, want := range map[string][2]bandwidth.Rate{
		"Mon 2026-11-23 07:59": {20e6, 0}, "Mon 2026-11-23 08:00": {5e6, 5e6}, "Fri 2026-11-27 17:59": {5e6, 5e6},
		"Fri 2026-11-27 18:00": {20e6, 0},
		"Sat 2026-11-28 22:29": {20e6, 0}, "Sat 2026-11-28 22:30": {0, 1e6}, "Sun 2026-11-29 05:59": {0, 1e6}, "Mon 2026-11-30 05:59": {0, 1e6},
		"Sat 2026-11-28 05:00": {20e6, 0},
	} {
		if up, down := rule.At(at(text)); up != want[0] || down != want[1] {
			t.Errorf("on %s it is %v up and %v down, want %v", text, up, down, want)
		}
	}
	for _, wrong := range []string{"moon 08-18", "mon 8", "mon 24-06", ""} {
		if _, err := bandwidth.ParseHours(wrong, "5MB/s"); err == nil {
			t.Errorf("%q was read", wrong)
		}
	}
}

// TestLimiter moves ten megabytes at one a second, and faster from the middle on.
func TestLimiter(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var limiter bandwidth.Limiter
		limiter.Set(bandwidth.Rule{Down: 1e6})
		begun := time.Now()
		read := bandwidth.Reader(t.Context(), bytes.NewReader(make([]byte, 10e6)), bandwidth.Down, &limiter, nil)
		if _, err := io.CopyN(io.Discard, read, 5e6); err != nil {
			t.Fatal(err)
		}
		if took := time.Since(begun).Seconds(); took < 4.7 || took > 5.1 {
			t.Errorf("5 MB took %.2f s at 1 MB/s", took)
		}
		limiter.Set(bandwidth.Rule{Down: 5e6})
		begun = time.Now()
		if _, err := io.Copy(io.Discard, read); err != nil {
			t.Fatal(err)
		}
		if took := time.Since(begun).Seconds(); took < 0.7 || took > 1.1 {
			t.Errorf("another 5 MB took %.2f s at 5 MB/s", took)
		}
		ctx, cancel := context.WithCancel(t.Context())
		limiter.Set(bandwidth.Rule{Down: 1})
		go func() { time.Sleep(time.Second); cancel() }()
		if _, err := io.Copy(io.Discard, bandwidth.Reader(ctx, bytes.NewReader(make([]byte, 1000)), bandwidth.Down, &limiter)); err == nil {
			t.Error("a wait did not end with its context")
		}
	})
}
