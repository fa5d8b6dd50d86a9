package service_test

import (
	"testing"

	"deftheron/service"
)

// TestWithoutHosts has notifications say what went wrong, and nothing about the network.
func TestWithoutHosts(t *testing.T) {
	for text, want := range map[string]string{
		"dial tcp 10.0.0.7:22: connect: connection refused":            "(a server): connect: connection refused",
		"Get \"http://nas.internal:8080/dav/x\": EOF":                  "Get \"(a server)\": EOF",
		"lookup files.corp.example on 192.168.1.1:53: no such host":    "(a server) on (a server): no such host",
		"the server at [fe80::1%eth0]:445 reset the connection":        "the server at (a server) reset the connection",
		"no-space: /archive has 12.5 MiB free, and 20 files were left": "no-space: /archive has 12.5 MiB free, and 20 files were left",
		"56 of 148 files (38 %) would be deleted at 10:30":             "56 of 148 files (38 %) would be deleted at 10:30",
	} {
		if got := service.WithoutHosts(text); got != want {
			t.Errorf("%q becomes %q, want %q", text, got, want)
		}
	}
}
