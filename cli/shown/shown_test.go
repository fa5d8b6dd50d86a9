package shown_test

import (
	"os/exec"
	"testing"

	"deftheron/cli/shown"
)

// TestWordsOfACommand has a shell read what is shown.
func TestWordsOfACommand(t *testing.T) {
	for _, text := range []string{"/srv/gauges", "", "Gauge data", "it's", "$(id); `id` & #", "http://[fe80::1]:80/a*", `a\b"c`, "über"} {
		got, err := exec.Command("sh", "-c", "printf %s "+shown.Word(text)).Output()
		if err != nil || string(got) != text {
			t.Errorf("%q as %s is read as %q, %v", text, shown.Word(text), got, err)
		}
	}
	for _, text := range []string{"/srv/gauges", "10.0.0.7", "http://10.0.0.7:8080/dav"} {
		if shown.Word(text) != text {
			t.Errorf("%s is shown as %s", text, shown.Word(text))
		}
	}
}
