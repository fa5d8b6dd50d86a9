// Package bandwidth limits the rate of transfers, by direction and by the hour of the
// week. A person writes a [Rule]; a [Limiter] enforces one, which may be changed during
// transfers; [Conn] limits connections.
package bandwidth

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"deftheron/core/remedy"
	"deftheron/core/week"
)

// Rate is in bytes a second; 0 is not a limit.
type Rate int64

// Rule limits the rates up (to a provider) and down (from one). Its zero value does
// not limit.
type Rule struct {
	Up   Rate `json:"up,omitempty"`
	Down Rate `json:"down,omitempty"`
	// Hours are limits in place of these at certain hours; the first that
	// matches counts.
	Hours []Hours `json:"hours,omitempty"`
}

// Hours are a limit at certain hours of the week.
type Hours struct {
	// When is as week.Read has it, such as "mon-fri 08-18" or "daily 22:30-06:00, sat, sun".
	When string `json:"when"`
	Up   Rate   `json:"up"` // 0 is not a limit
	Down Rate   `json:"down"`
}

// IsZero reports whether the rule does not limit.
func (r Rule) IsZero() bool { return r.Up == 0 && r.Down == 0 && len(r.Hours) == 0 }

// Check returns what is wrong with the rule, if anything is.
func (r Rule) Check() error {
	rates := []Rate{r.Up, r.Down}
	for _, hours := range r.Hours {
		if _, err := readHours(hours.When); err != nil {
			return err
		}
		rates = append(rates, hours.Up, hours.Down)
	}
	for _, rate := range rates {
		if rate < 0 {
			return remedy.Errorf("a bandwidth of %d bytes a second is negative; remove it for no limit", rate)
		}
	}
	return nil
}

// At returns the limits at a moment, by its own clock and time zone.
func (r Rule) At(now time.Time) (up, down Rate) {
	for _, hours := range r.Hours {
		stretches, err := readHours(hours.When)
		if err == nil && slices.ContainsFunc(stretches, func(s week.Stretch) bool { return s.Holds(now) }) {
			return hours.Up, hours.Down
		}
	}
	return r.Up, r.Down
}

var units = []struct {
	name  string
	bytes float64
}{
	{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40}, {"kB", 1e3}, {"KB", 1e3}, {"MB", 1e6}, {"GB", 1e9}, {"TB", 1e12},
	{"B", 1}, {"", 1},
}

// ParseSize reads a number of bytes such as "500", "20MB" or "2GiB".
func ParseSize(text string) (int64, error) {
	text = strings.TrimSpace(text)
	for _, unit := range units {
		number, ok := strings.CutSuffix(text, unit.name)
		if !ok {
			continue
		}
		value, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
		if err != nil || value < 0 || math.IsInf(value, 0) || math.IsNaN(value) || value*unit.bytes >= math.MaxInt64 {
			break
		}
		return int64(value * unit.bytes), nil
	}
	return 0, remedy.Errorf("%q is not a size; write it as 500kB, 20MB or 2GiB", text)
}

// Unlimited is how no limit is written.
const Unlimited = "unlimited"

// ParseRate reads a rate such as "20MB/s"; "unlimited" and "" are none.
func ParseRate(text string) (Rate, error) {
	text = strings.TrimSpace(text)
	if text == "" || text == Unlimited {
		return 0, nil
	}
	size, ok := strings.CutSuffix(text, "/s")
	bytes, err := ParseSize(size)
	switch {
	case !ok || err != nil:
		return 0, remedy.Errorf("%q is not a bandwidth; write it as 500kB/s, 20MB/s or unlimited", text)
	case bytes == 0:
		return 0, remedy.Errorf("a bandwidth of %s would stop the run; give one such as 1MB/s, write unlimited, or pause the run", text)
	}
	return Rate(bytes), nil
}

// String returns the rate as ParseRate reads it.
func (r Rate) String() string {
	if r == 0 {
		return Unlimited
	}
	for _, unit := range []string{"GB", "MB", "kB"} {
		for _, u := range units {
			if u.name == unit && float64(r) >= u.bytes {
				return strconv.FormatFloat(float64(r)/u.bytes, 'f', -1, 64) + unit + "/s"
			}
		}
	}
	return fmt.Sprint(int64(r)) + "B/s"
}

// ParseHours reads limits by hours, such as "mon-fri 08-18" and "5MB/s"; a rate for
// each direction is written "up 5MB/s, down 20MB/s".
func ParseHours(when, rates string) (Hours, error) {
	hours := Hours{When: when}
	if _, err := readHours(when); err != nil {
		return hours, err
	}
	for part := range strings.SplitSeq(rates, ",") {
		direction, text, both := strings.Cut(strings.TrimSpace(part), " ")
		if !both {
			text = direction
		}
		rate, err := ParseRate(text)
		switch {
		case err != nil:
			return hours, err
		case !both:
			hours.Up, hours.Down = rate, rate
		case direction == "up":
			hours.Up = rate
		case direction == "down":
			hours.Down = rate
		default:
			return hours, remedy.Errorf("%q is not a direction of a bandwidth; write up 5MB/s, down 20MB/s", direction)
		}
	}
	return hours, nil
}

// Rates returns the rates as ParseHours reads them.
func (h Hours) Rates() string {
	if h.Up == h.Down {
		return h.Up.String()
	}
	return "up " + h.Up.String() + ", down " + h.Down.String()
}

// readHours reads the hours of the week that a limit is for.
func readHours(text string) ([]week.Stretch, error) {
	stretches, err := week.Read(text, true)
	if err == nil && len(stretches) == 0 {
		err = remedy.Errorf("the hours of a limit are missing; write them as mon-fri 08-18")
	}
	if slices.ContainsFunc(stretches, func(s week.Stretch) bool { return s.From == 24*60 }) {
		err = remedy.Errorf("%q begins when the day ends; write 00:00 of the next day", text)
	}
	return stretches, err
}
