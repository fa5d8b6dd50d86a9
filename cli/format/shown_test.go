package format_test

import (
	"os/exec"
	"testing"

	"deftheron/cli/format"
)

// TestWordsOfACommand has a shell read what is shown.
func TestWordsOfACommand(t *testing.T) {
	for _, text := range []string{"/srv/gauges", "", "Gauge data", "it's", "$(id); `id` & #", "http://[fe80::1]:80/a*", `a\b"c`, "über"} {
		got, err := exec.Command("sh", "-c", "printf %s "+format.Word(text)).Output()
		if err != nil || string(got) != text {
			t.Errorf("%q as %s is read as %q, %v", text, format.Word(text), got, err)
		}
	}
	for _, text := range []string{"/srv/gauges", "10.0.0.7", "http://10.0.0.7:8080/dav"} {
		if format.Word(text) != text {
			t.Errorf("%s is shown as %s", text, format.Word(text))
		}
	}
}
