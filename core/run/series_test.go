package run_test

import (
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"deftheron/core/run"
)

// TestSeriesKeepsTotals adds up to what the run did, however long it takes, in a bounded
// number of points.
func TestSeriesKeepsTotals(t *testing.T) {
	start := time.UnixMilli(1_800_000_000_000)
	for _, samples := range []int{1, 2, 10, 1999, 2000, 2001, 50_000} {
		var s run.Series
		now := run.Sample{At: start}
		s.Add(now, false)
		for i := range samples {
			now.At = now.At.Add(time.Second)
			now.Bytes += rand.Int64N(1000)
			now.Items++
			now.Waits.Source += 10 * time.Millisecond
			if i%7 == 0 {
				now.Retries++
			}
			s.Add(now, false)
		}
		now.At, now.Items = now.At.Add(100*time.Millisecond), now.Items+1
		s.Add(now, true)
		var bytes, items, retries, span int64
		for i, p := range s.Points {
			bytes, items, retries, span = bytes+p.Bytes, items+p.Items, retries+p.Retries, span+p.Span
			if i > 0 && p.At <= s.Points[i-1].At {
				t.Fatalf("point %d is at %d ms, after one at %d", i, p.At, s.Points[i-1].At)
			}
		}
		if bytes != now.Bytes || items != now.Items || retries != now.Retries || span != now.At.Sub(start).Milliseconds() {
			t.Errorf("%d samples: %d bytes, %d items, %d retries in %d ms; want %d, %d, %d in %d", samples, bytes, items, retries, span,
				now.Bytes, now.Items, now.Retries, now.At.Sub(start).Milliseconds())
		}
		if len(s.Points) > run.MostPoints {
			t.Errorf("%d samples: %d points", samples, len(s.Points))
		}
	}
}

// TestSeriesOverAPause starts again from 0 when a run is taken up once more, and counts no
// pause as working time.
func TestSeriesOverAPause(t *testing.T) {
	var s run.Series
	start := time.UnixMilli(1_800_000_000_000)
	at := func(seconds int, bytes int64) run.Sample {
		return run.Sample{At: start.Add(time.Duration(seconds) * time.Second), Bytes: bytes}
	}
	s.Add(at(0, 0), false)
	s.Add(at(1, 100), false)
	takenUp := func(s run.Series) (again run.Series) {
		text, err := json.Marshal(s)
		if err == nil {
			err = json.Unmarshal(text, &again)
		}
		if err != nil {
			t.Fatal(err)
		}
		return again
	}
	again := takenUp(s)
	again.Add(at(3600, 0), false)
	again.Add(at(3601, 50), false)
	again = takenUp(again)
	again.Add(at(7200, 0), false)
	again.Add(at(7202, 70), true)
	var spans, bytes []int64
	for _, p := range again.Points {
		spans, bytes = append(spans, p.Span), append(bytes, p.Bytes)
	}
	if !reflect.DeepEqual(spans, []int64{1000, 1000, 2000}) || !reflect.DeepEqual(bytes, []int64{100, 50, 70}) {
		t.Errorf("spans %v, bytes %v", spans, bytes)
	}
}

// TestSeriesAsJSON comes back as it was, and refuses columns that do not fit.
func TestSeriesAsJSON(t *testing.T) {
	s := run.Series{Started: time.UnixMilli(1_800_000_000_000), Every: 4 * time.Second, Points: []run.Point{
		{At: 1000, Span: 1000, Bytes: 5, Items: 1, Retries: 2, SlowDowns: 3, InFlight: 4, Limit: 1000, Processor: 0.5,
			Waits: run.Waits{Source: time.Second, Target: 2 * time.Second, Limit: 3 * time.Second, Slots: 4 * time.Second}},
		{At: 5000, Span: 4000},
	}}
	text, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	var back run.Series
	if err := json.Unmarshal(text, &back); err != nil || !reflect.DeepEqual(back, s) {
		t.Errorf("%+v (%v), want %+v", back, err, s)
	}
	if err := json.Unmarshal([]byte(`{"at":[1],"span":[1,2]}`), &back); err == nil {
		t.Error("columns of different lengths were read")
	}
}

// TestBottleneck names what the lanes waited for most.
func TestBottleneck(t *testing.T) {
	second := time.Second
	for name, c := range map[string]struct {
		point run.Point
		want  run.Bottleneck
	}{
		"nothing yet":             {run.Point{}, run.BottleneckUnknown},
		"a slow source":           {run.Point{Waits: run.Waits{Source: 5 * second, Target: second}}, run.BottleneckSource},
		"a slow target":           {run.Point{Waits: run.Waits{Source: second, Target: 5 * second}}, run.BottleneckTarget},
		"a bandwidth limit":       {run.Point{Waits: run.Waits{Source: second, Target: second, Limit: 3 * second}}, run.BottleneckLimit},
		"a provider that slows":   {run.Point{Waits: run.Waits{Target: second, Slots: 3 * second}, SlowDowns: 2}, run.BottleneckProvider},
		"slots full by the other": {run.Point{Waits: run.Waits{Target: second, Slots: 3 * second}}, run.BottleneckTarget},
		"a busy machine":          {run.Point{Bytes: 1, Waits: run.Waits{Source: 5 * second}, Processor: 0.95}, run.BottleneckMachine},
	} {
		c.point.Span = 1000
		if got, shares := run.BottleneckOf([]run.Point{c.point}); got != c.want {
			t.Errorf("%s: %q, want %q; %+v", name, got, c.want, shares)
		}
	}
}
