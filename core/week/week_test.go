package week_test

import (
	"strings"
	"testing"
	"time"

	"deftheron/core/week"
)

// TestHours reads hours in each way in which they may be written, and asks them at
// moments of one week: 2026-11-23 is a Monday.
func TestHours(t *testing.T) {
	for text, in := range map[string]struct{ in, out string }{
		"mon-fri 08-18":                 {"23 08:00, 27 17:59", "23 07:59, 23 18:00, 28 12:00"},
		"sat,sun 00-24":                 {"28 00:00, 29 23:59", "27 23:59, 30 00:00"},
		"sat,sun 22:30-06":              {"28 22:30, 30 05:59", "28 05:00, 28 22:29"},
		"sat, sun 22:30-06":             {"28 05:00, 30 05:59", "29 12:00"},
		"sat,20:00-06:00":               {"28 12:00, 23 20:00", "23 12:00, 29 12:00"}, // parted, as these are no days
		"daily 22:30-06":                {"23 22:30, 24 05:59", "23 22:29, 24 06:00"},
		"22:30-06:00":                   {"23 22:30, 24 05:59", "23 22:29, 24 06:00"},
		"mon-fri 20:00-06:00, sat, sun": {"23 20:00, 28 05:00, 28 12:00, 29 23:59", "23 12:00, 30 05:59, 30 06:00"},
		"Fri-Mon 9-10":                  {"27 09:30, 23 09:00", "24 09:30"},
	} {
		stretches, err := week.Read(text, true)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		for list, want := range map[string]bool{in.in: true, in.out: false} {
			for moment := range strings.SplitSeq(list, ", ") {
				at, err := time.Parse("2006-01-02 15:04", "2026-11-"+moment)
				if err != nil {
					t.Fatal(err)
				}
				held := false
				for _, stretch := range stretches {
					held = held || stretch.Holds(at)
				}
				if held != want {
					t.Errorf("%s at %s: %v, want %v", text, moment, held, want)
				}
			}
		}
	}
	for _, text := range []string{"mon-fri", "mon 08", "someday 08-18", "mon 08-08", "mon 08-25", "mon 8:5-9", "mon 08:75-09", "moon 08-18",
		"mon 08-18 x"} {
		_, err := week.Read(text, true)
		if whole := text == "mon-fri"; whole != (err == nil) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
