package live_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/service/live"
)

func names(events <-chan live.Event) (found []string, last string) {
	for {
		select {
		case event, open := <-events:
			if !open {
				return append(found, "closed"), last
			}
			found = append(found, fmt.Sprint(event.Name, event.Data))
			if event.ID != "" {
				last = event.ID
			}
		default:
			return found, last
		}
	}
}

func TestMissedEvents(t *testing.T) {
	hub := live.NewHub()
	events, stop := hub.Listen("")
	hub.Publish("run", 1)
	first, last := names(events)
	if fmt.Sprint(first) != "[again<nil> run1]" || !strings.Contains(last, "-") {
		t.Errorf("heard %v, last %q", first, last)
	}
	stop()
	hub.Publish("run", 2)
	hub.Publish("run", 3)
	events, stop = hub.Listen(last)
	defer stop()
	if missed, _ := names(events); fmt.Sprint(missed) != "[run2 run3]" {
		t.Errorf("after coming back: %v", missed)
	}
	for _, unknown := range []string{"otherepoch-1", "nonsense", last + "9999"} {
		again, stop := hub.Listen(unknown)
		if heard, _ := names(again); fmt.Sprint(heard) != "[again<nil>]" {
			t.Errorf("the last id %q: %v, want to fetch again", unknown, heard)
		}
		stop()
	}
	for i := range 2000 {
		hub.Publish("run", i)
	}
	old, stopOld := hub.Listen(last)
	defer stopOld()
	if heard, _ := names(old); fmt.Sprint(heard) != "[again<nil>]" {
		t.Errorf("after more than is kept: %d events, want to fetch again", len(heard))
	}
	if heard, _ := names(events); heard[len(heard)-1] != "closed" {
		t.Error("a listener that does not keep up was not cut off")
	}
}

type source struct{ rate float64 }

func (s *source) Progress() (any, float64) {
	if s.rate == 0 {
		return nil, 0
	}
	return s.rate, s.rate
}

func TestWatch(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hub := live.NewHub()
		events, stop := hub.Listen("")
		defer stop()
		ctx, cancel := context.WithCancel(t.Context())
		moving := &source{rate: 5}
		go hub.Watch(ctx, moving)
		time.Sleep(10 * time.Second)
		synctest.Wait()
		heard, last := names(events)
		if len(heard) < 20 || heard[len(heard)-1] != "progress5" {
			t.Errorf("heard %v", heard)
		}
		rates := hub.Rates()
		if len(rates) != 300 || rates[299] != 5 || rates[0] != 0 {
			t.Errorf("rates %v", rates)
		}
		cancel()
		synctest.Wait()
		if _, now := names(events); now != "" && now != last {
			t.Error("progress has ids, though it is not kept")
		}
	})
}
