package cli

import (
	"strings"
	"time"

	"github.com/spf13/pflag"

	"deftheron/core/job"
)

// pastTime is an option that is a time in the past: a date, a date and a time on this
// machine's clock, an age such as 2h or 3d, yesterday, or RFC 3339.
type pastTime struct{ at *time.Time }

var _ pflag.Value = pastTime{}

// String implements pflag.Value.
func (m pastTime) String() string {
	if m.at == nil || m.at.IsZero() {
		return ""
	}
	return m.at.Format(time.RFC3339)
}

// Type implements pflag.Value.
func (m pastTime) Type() string { return "TIME" }

// Set implements pflag.Value.
func (m pastTime) Set(text string) error {
	at, err := parseMoment(strings.TrimSpace(text), time.Now())
	*m.at = at
	return err
}

func parseMoment(text string, now time.Time) (time.Time, error) {
	if text == "yesterday" {
		return now.AddDate(0, 0, -1), nil
	}
	for _, form := range []string{time.RFC3339Nano, "2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02T15:04", "2006-01-02 15:04",
		"2006-01-02"} {
		at, err := time.ParseInLocation(form, text, now.Location())
		if err != nil {
			continue
		}
		if at.After(now) {
			return at, usageError("%s has not come yet; give a time in the past", text)
		}
		return at, nil
	}
	if short, err := time.ParseDuration(text); err == nil && short > 0 {
		return now.Add(-short), nil
	}
	if at, err := job.ParseAge(text, now); err == nil && at.Before(now) {
		return at, nil
	}
	return now, usageError("%q is not a time; write 2026-11-27, \"2026-11-27 18:00\", yesterday, or an age such as 90m, 6h or 3d", text)
}
