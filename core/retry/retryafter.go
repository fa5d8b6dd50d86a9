package retry

import (
	"net/http"
	"strconv"
	"time"
)

// AfterHeader returns the wait that an answer names, in seconds or as a date
// (RFC 9110, section 10.2.3); 0 where it names none, and at most an hour.
func AfterHeader(header http.Header, now time.Time) time.Duration {
	value := header.Get("Retry-After")
	var wait time.Duration
	if seconds, err := strconv.Atoi(value); err == nil {
		wait = time.Duration(seconds) * time.Second
	} else if date, err := http.ParseTime(value); err == nil {
		wait = date.Sub(now)
	}
	return min(max(wait, 0), time.Hour)
}
