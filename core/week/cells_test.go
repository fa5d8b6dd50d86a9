package week_test

import (
	"math/rand/v2"
	"testing"

	"deftheron/core/week"
)

// grid has the hours that a text covers.
func grid(t *testing.T, text string) [week.Hours]bool {
	t.Helper()
	stretches, err := week.Read(text, true)
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	cells, _ := week.Cells(stretches)
	return cells
}

// TestFormat writes hours as people do.
func TestFormat(t *testing.T) {
	for text, want := range map[string]string{
		"":                              "",
		"mon-fri 22:00-06:00":           "mon-fri 22:00-06:00",
		"mon-fri 20:00-06:00, sat, sun": "mon-thu 20:00-06:00, fri 20:00-24:00, sat,sun",
		"daily":                         "daily",
		"daily 22-06":                   "daily 22:00-06:00",
		"sat,sun":                       "sat,sun",
		"mon 08-12, mon 13-17":          "mon 08:00-12:00, mon 13:00-17:00",
		"sun 22-02":                     "sun 22:00-02:00",
		"mon,wed,fri 09-10":             "mon,wed,fri 09:00-10:00",
	} {
		if got := week.Format(grid(t, text)); got != want {
			t.Errorf("%q is written as %q, want %q", text, got, want)
		}
	}
}

// TestFormatReadsBack reads what is written as the same hours, whichever they are.
func TestFormatReadsBack(t *testing.T) {
	for range 3000 {
		var cells [week.Hours]bool
		for range rand.IntN(8) {
			from, length := rand.IntN(week.Hours), rand.IntN(60)
			for i := range length {
				cells[(from+i)%week.Hours] = true
			}
		}
		if text := week.Format(cells); grid(t, text) != cells {
			t.Fatalf("%q is read as other hours than it was written from", text)
		}
	}
}

// TestCellsAreExact tells a stretch that starts or ends within an hour.
func TestCellsAreExact(t *testing.T) {
	for text, want := range map[string]bool{"mon 08-18": true, "mon 08:30-18": false, "mon 08-18:15": false} {
		stretches, err := week.Read(text, true)
		if err != nil {
			t.Fatal(err)
		}
		if _, exact := week.Cells(stretches); exact != want {
			t.Errorf("%q is exact: %v", text, exact)
		}
	}
}
