package history_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"deftheron/core/history"
	"deftheron/core/store"
)

const day = 24 * time.Hour

// overwrites are changes of one path, at ages before now, oldest first.
func overwrites(now time.Time, ages ...time.Duration) []history.Change {
	var changes []history.Change
	var since time.Time
	for _, age := range ages {
		at := now.Add(-age)
		changes = append(changes, history.Change{Path: "f", At: at, Since: since, How: history.Overwritten, Kept: "k"})
		since = at
	}
	return changes
}

func TestThin(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC) // a Friday
	hour := time.Hour
	tests := []struct {
		name      string
		retention history.Retention
		changes   []history.Change
		want      string // K keep, D drop, E empty
	}{
		{"all within the time", history.Retention{All: 7 * day}, overwrites(now, 8*day, 6*day, hour), "DKK"},
		// Three on the day before yesterday: the first was there at the end of the day before.
		{"one a day", history.Retention{All: day, Daily: 30 * day}, overwrites(now, 2*day+3*hour, 2*day+2*hour, 2*day+hour, hour), "KDDK"},
		{"one an hour", history.Retention{Hourly: day}, overwrites(now, 130*time.Minute, 125*time.Minute, 30*time.Minute), "KDK"},
		{"one a week, from Monday", history.Retention{Weekly: 60 * day}, overwrites(now, 11*day, 10*day, 3*day), "KDK"},
		{"one a month", history.Retention{Monthly: 365 * day}, overwrites(now, 50*day, 45*day, 19*day), "KDK"},
		{"the newest, however old", history.Retention{Versions: 2}, overwrites(now, 900*day, 800*day, 700*day), "DKK"},
		{"the last is emptied while it is remembered", history.Retention{All: day, Monthly: 40 * day},
			overwrites(now, 19*day+hour, 18*day), "KE"},
		{"and dropped after that", history.Retention{All: day}, overwrites(now, 3*day, 2*day), "DD"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			decisions, err := test.retention.Thin(test.changes, now, nil)
			if err != nil {
				t.Fatal(err)
			}
			got := ""
			for _, decision := range decisions {
				got += string("KDE"[decision])
			}
			if got != test.want {
				t.Errorf("got %s, want %s", got, test.want)
			}
		})
	}
}

func TestThinKeepsWhatMustStay(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	retention := history.Retention{All: day, Monthly: 60 * day}
	changes := overwrites(now, 3*day, 2*day)
	changes[0].Locked = now.Add(time.Minute)
	changes[1].How = history.Deleted
	decisions, err := retention.Thin(changes, now, nil)
	if err != nil || fmt.Sprint(decisions) != "[0 0]" {
		t.Errorf("the locked and the last of a deleted file are to stay: %v, %v", decisions, err)
	}
	decisions, err = retention.Thin(changes, now.Add(90*day), func(c *history.Change) (bool, error) { return c.How == history.Deleted, nil })
	if err != nil || fmt.Sprint(decisions) != "[1 0]" {
		t.Errorf("what a move leads to is to stay: %v, %v", decisions, err)
	}
	if err := (history.Retention{}).Check(); err == nil {
		t.Error("rules that keep nothing pass")
	}
}

func TestPartNames(t *testing.T) {
	began := time.Date(2026, 11, 20, 23, 30, 0, 0, time.UTC)
	for now, want := range map[time.Time]string{
		began.Add(time.Hour): "2026-11-20T233000Z-r1", began.Add(50 * time.Hour): "2026-11-22T233000Z-r1",
	} {
		name := history.PartName(began, now, "r1")
		if name != want {
			t.Errorf("a part is called %s, want %s", name, want)
		}
		if _, run, ok := history.ParsePart(name); !ok || run != "r1" {
			t.Errorf("%s is read as of the run %q, %v", name, run, ok)
		}
	}
	if at, run, ok := history.ParsePart("2026-11-20T233000Z"); !ok || run != "" || !at.Equal(began) {
		t.Errorf("the earlier form is read as %v, %q, %v", at, run, ok)
	}
	for _, name := range []string{"", "notes", "2026-11-20T233000Z-", "2026-11-20"} {
		if _, _, ok := history.ParsePart(name); ok {
			t.Errorf("%q is read as a part", name)
		}
	}
	long := store.At("a", strings.Repeat("x", 250)+".csv")
	if place := history.Place("p", long, 7); len(place.Name) > 255 {
		t.Errorf("a name has %d bytes", len(place.Name))
	}
}
