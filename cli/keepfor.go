package cli

import (
	"fmt"
	"strings"
	"time"

	"deftheron/core/job"
	"deftheron/core/remedy"
)

// keepFor is an option that says how long something is kept: 36h, 90d, 8w, 6mo, 2y, or
// "forever".
type keepFor struct{ time *time.Duration }

// String implements pflag.Value.
func (k keepFor) String() string {
	switch {
	case k.time == nil:
		return ""
	case *k.time == 0:
		return "forever"
	case *k.time%(24*time.Hour) == 0:
		return fmt.Sprintf("%dd", *k.time/(24*time.Hour))
	}
	return k.time.String()
}

// Set implements pflag.Value.
func (k keepFor) Set(text string) error {
	if strings.TrimSpace(text) == "forever" {
		*k.time = 0
		return nil
	}
	now := time.Now()
	before, err := job.ParseAge(text, now)
	if err != nil || now.Sub(before) < time.Hour {
		return remedy.Errorf("%q is not a time to keep something for; write it as 90d, 8w, 6mo, 2y or forever", text)
	}
	*k.time = now.Sub(before)
	return nil
}

// Type implements pflag.Value.
func (keepFor) Type() string { return "TIME" }
